# Time stamps to days and times, for `kernels/reading.py`.
#
# The usual units are written out, as a division by a number that the compiler knows is a product.

cdef enum:
    MILLISECONDS = 86400000


cdef inline int64_t _floor(int64_t stamp, int64_t per_day) noexcept nogil:
    """Return the day that a stamp lies in."""
    cdef int64_t day = stamp / per_day
    return day - (stamp - day * per_day < 0)


cdef inline int32_t _narrow(int64_t day) noexcept nogil:
    if day > 2147483647:
        return 2147483647
    return -2147483647 - 1 if day < -2147483647 - 1 else <int32_t> day


cdef inline int64_t _since(int64_t stamp, int64_t per_day) noexcept nogil:
    """Return how much of the day has gone at a stamp."""
    return stamp - _floor(stamp, per_day) * per_day


cdef int64_t _each(Py_ssize_t n, Py_ssize_t places, int64_t per_day) except -1:
    """Return the nanoseconds of a unit; raises `ValueError` for one that cannot be."""
    cdef int64_t nano = <int64_t> MILLISECONDS * 1000000
    if places != n:
        raise ValueError(f"{places} places for {n} stamps")
    if per_day < 1 or nano % per_day:
        raise ValueError(f"{per_day} units a day do not divide its nanoseconds")
    return nano // per_day


def days_of_stamps(const int64_t[::1] stamps, int64_t per_day, int32_t[::1] days):
    """Put the days of time stamps into `days`; see `kernels/reading.py`."""
    cdef Py_ssize_t n = stamps.shape[0], i
    cdef int64_t each = _each(n, days.shape[0], per_day)
    with nogil:
        if each == 1:
            for i in range(n):
                days[i] = _narrow(_floor(stamps[i], <int64_t> MILLISECONDS * 1000000))
        elif each == 1000:
            for i in range(n):
                days[i] = _narrow(_floor(stamps[i], <int64_t> MILLISECONDS * 1000))
        else:
            for i in range(n):
                days[i] = _narrow(_floor(stamps[i], per_day))


def times_of_stamps(const int64_t[::1] stamps, int64_t per_day, int64_t[::1] times):
    """Put the nanoseconds since each day began into `times`; see `kernels/reading.py`."""
    cdef Py_ssize_t n = stamps.shape[0], i
    cdef int64_t each = _each(n, times.shape[0], per_day)
    with nogil:
        if each == 1:
            for i in range(n):
                times[i] = _since(stamps[i], <int64_t> MILLISECONDS * 1000000)
        elif each == 1000:
            for i in range(n):
                times[i] = 1000 * _since(stamps[i], <int64_t> MILLISECONDS * 1000)
        else:
            for i in range(n):
                times[i] = each * _since(stamps[i], per_day)
