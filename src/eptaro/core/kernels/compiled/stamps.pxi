# Time stamps to days and times, for `kernels/reading.py`.
#
# The usual units are written out, as a division by a number that the compiler knows is a product.

cdef enum:
    MILLISECONDS = 86400000


cdef inline int64_t _floor(int64_t stamp, int64_t per_day) noexcept nogil:
    """Return the day that a stamp lies in."""
    cdef int64_t day = stamp / per_day
    return day - (stamp - day * per_day < 0)


cdef inline void _put_day(int64_t stamp, int64_t day, int64_t per_day, int64_t each, int32_t *days,
                      int64_t *times) noexcept nogil:
    """Put a day and its time, in nanoseconds, in their places."""
    times[0] = (stamp - day * per_day) * each
    if day > 2147483647:
        day = 2147483647
    elif day < -2147483647 - 1:
        day = -2147483647 - 1
    days[0] = <int32_t> day


def split(const int64_t[::1] stamps, int64_t per_day, int32_t[::1] days, int64_t[::1] times):
    """Put the days of time stamps and their times into arrays; see `kernels/reading.py`."""
    cdef Py_ssize_t n = stamps.shape[0], i
    cdef int64_t each
    cdef int64_t micro = <int64_t> MILLISECONDS * 1000, nano = <int64_t> MILLISECONDS * 1000000
    if days.shape[0] != n or times.shape[0] != n:
        raise ValueError(f"{days.shape[0]} days and {times.shape[0]} times for {n} stamps")
    if per_day < 1 or nano % per_day:
        raise ValueError(f"{per_day} units a day do not divide its nanoseconds")
    each = nano // per_day
    with nogil:
        if per_day == nano:
            for i in range(n):
                _put_day(stamps[i], _floor(stamps[i], <int64_t> MILLISECONDS * 1000000), per_day, 1,
                     &days[i], &times[i])
        elif per_day == micro:
            for i in range(n):
                _put_day(stamps[i], _floor(stamps[i], <int64_t> MILLISECONDS * 1000), per_day, 1000,
                     &days[i], &times[i])
        else:
            for i in range(n):
                _put_day(stamps[i], _floor(stamps[i], per_day), per_day, each, &days[i], &times[i])
