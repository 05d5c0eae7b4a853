# cython: language_level=3, boundscheck=False, wraparound=False, cdivision=True
# cython: initializedcheck=False
"""Time stamps to days and times: the twin of `kernels/twins/stamps.py` in C.

The usual units are written out, as a division by a number that the compiler knows is a product.
"""

import numpy as np

from libc.stdint cimport int32_t, int64_t

cdef enum:
    MILLISECONDS = 86400000


cdef inline int64_t _floor(int64_t stamp, int64_t per_day) noexcept nogil:
    """Return the day that a stamp lies in."""
    cdef int64_t day = stamp / per_day
    return day - (stamp - day * per_day < 0)


cdef inline void _put(int64_t stamp, int64_t day, int64_t per_day, int64_t each, int32_t *days,
                      int64_t *times) noexcept nogil:
    """Put a day and its time, in nanoseconds, in their places."""
    times[0] = (stamp - day * per_day) * each
    if day > 2147483647:
        day = 2147483647
    elif day < -2147483647 - 1:
        day = -2147483647 - 1
    days[0] = <int32_t> day


def split(stamps, per_day):
    """Return the days of time stamps, and the nanoseconds since each day began; see
    `kernels/twins/stamps.py`.
    """
    cdef const int64_t[::1] given = np.ascontiguousarray(stamps, np.int64)
    cdef Py_ssize_t n = given.shape[0], i
    cdef int64_t unit = per_day, each
    cdef int64_t micro = <int64_t> MILLISECONDS * 1000, nano = <int64_t> MILLISECONDS * 1000000
    if unit < 1 or nano % unit:
        raise ValueError(f"{per_day} units a day do not divide its nanoseconds")
    each = nano // unit
    found, rest = np.empty(n, np.int32), np.empty(n, np.int64)
    cdef int32_t[::1] days = found
    cdef int64_t[::1] times = rest
    with nogil:
        if unit == nano:
            for i in range(n):
                _put(given[i], _floor(given[i], <int64_t> MILLISECONDS * 1000000), unit, 1,
                     &days[i], &times[i])
        elif unit == micro:
            for i in range(n):
                _put(given[i], _floor(given[i], <int64_t> MILLISECONDS * 1000), unit, 1000,
                     &days[i], &times[i])
        else:
            for i in range(n):
                _put(given[i], _floor(given[i], unit), unit, each, &days[i], &times[i])
    return found, rest
