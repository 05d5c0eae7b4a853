# Time stamps to days and times, and texts to time stamps, for `kernels/reading.py`.
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


cdef enum:
    PARTS = 18  # as in `TextPart`, the last of which is not kept


cdef inline int64_t _day_of(int64_t year, int64_t month, int64_t day) noexcept nogil:
    """Return the days since 1970 of a date from year 1 on; a year begins with March here, so that
    29 February is its last day.
    """
    cdef int64_t years = year - (month <= 2), era = years // 400, rest = years - era * 400
    cdef int64_t before = (153 * (month - 3 if month > 2 else month + 9) + 2) // 5 + day - 1
    return era * 146097 + rest * 365 + rest // 4 - rest // 100 + before - 719468


cdef inline int64_t _length(int64_t year, int64_t month) noexcept nogil:
    """Return how many days a month has."""
    if month == 2:
        return 28 + (year % 4 == 0 and (year % 100 != 0 or year % 400 == 0))
    return 30 + ((month + (month > 7)) & 1)


cdef inline bint _stamp(const uint32_t *part, uint8_t order, int64_t *micros,
                        int16_t *minutes) noexcept nogil:
    """Put the microseconds and the offset of a text's parts where they belong; return whether
    there is such a time.
    """
    cdef int64_t year = part[0], month = part[1], day = part[2], hour = part[3], offset
    if order != 1:
        year, month, day = part[2], part[1] if order == 2 else part[0], part[order == 3]
    if year < 1 or month < 1 or month > 12 or day < 1 or day > _length(year, month):
        return False
    if part[6] or part[7]:
        if hour < 1 or hour > 12:
            return False
        hour = hour % 12 + (12 if part[7] else 0)
    if hour > 23 or part[4] > 59 or part[5] > 59:
        return False
    micros[0] = ((_day_of(year, month, day) * 24 + hour) * 60 + part[4]) * 60 + part[5]
    for digit in range(8, 14):
        micros[0] = micros[0] * 10 + part[digit]
    minutes[0] = -32768
    if part[14] or part[15]:
        offset = part[16] // 100 * 60 + part[16] % 100
        minutes[0] = <int16_t> (-offset if part[15] == 13 else offset)  # 13: of a minus sign
    return True


cdef inline bint _blank(uint8_t letter) noexcept nogil:
    return letter == 32 or 9 <= letter <= 13


def read_stamps(const uint8_t[::1] data, const Offset[::1] offsets, const uint8_t[:, ::1] table,
                const uint8_t[::1] parts, const uint8_t[::1] orders, int64_t[::1] micros,
                int16_t[::1] minutes, uint8_t[::1] known):
    """Read texts as time stamps; see `kernels/reading.py`."""
    cdef Py_ssize_t n = micros.shape[0], i, at, end
    cdef uint8_t state
    cdef uint32_t numbers[PARTS]
    cdef const uint8_t *next_states
    if offsets.shape[0] != n + 1 or minutes.shape[0] != n or known.shape[0] != n:
        raise ValueError(f"{offsets.shape[0]} offsets for {n} stamps")
    if table.shape[1] != 256 or not table.shape[0] == parts.shape[0] == orders.shape[0] <= 256:
        raise ValueError(f"{parts.shape[0]} states in a table of {table.shape[0]}")
    if np.max(table) >= table.shape[0] or np.max(parts) >= PARTS:
        raise IndexError("a state leads out of the table")
    _check_texts(offsets, data.shape[0])
    with nogil:
        next_states = &table[0, 0]
        for i in range(n):
            at, end, state = offsets[i], offsets[i + 1], 1
            while at < end and _blank(data[at]):
                at += 1
            while at < end and _blank(data[end - 1]):
                end -= 1
            memset(numbers, 0, sizeof(numbers))
            while at < end and state:
                state = next_states[256 * state + data[at]]
                numbers[parts[state]] = numbers[parts[state]] * 10 + (data[at] & 15)
                at += 1
            known[i] = orders[state] and _stamp(numbers, orders[state], &micros[i], &minutes[i])
