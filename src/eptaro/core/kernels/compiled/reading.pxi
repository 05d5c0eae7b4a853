# Texts to time stamps and numbers by an automaton, for `kernels/reading.py`.

cdef enum:  # the parts of time stamps, as in `StampPart`
    STAMP_NONE, STAMP_FIRST, STAMP_SECOND, STAMP_THIRD, STAMP_HOUR, STAMP_MINUTE, STAMP_SECONDS
    STAMP_AM, STAMP_PM, STAMP_DIGIT_1, STAMP_DIGIT_2, STAMP_DIGIT_3, STAMP_DIGIT_4, STAMP_DIGIT_5
    STAMP_DIGIT_6, STAMP_UTC, STAMP_SIGN, STAMP_OFFSET_HOURS, STAMP_OFFSET_MINUTES, STAMP_PARTS

cdef enum:  # those of numbers, as in `NumberPart`
    NUMBER_NONE, NUMBER_WHOLE, NUMBER_FRACTION, NUMBER_MINUS, NUMBER_PERCENT, NUMBER_PARTS

cdef enum:
    YMD = 1  # what the end of a time stamp says of its date
    DMY
    MDY

cdef enum:
    MOST_DIGITS = 18
    NO_MINUTES = -32768


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
    cdef int64_t year = part[STAMP_FIRST], month = part[STAMP_SECOND], day = part[STAMP_THIRD]
    cdef int64_t hour = part[STAMP_HOUR], minute = part[STAMP_MINUTE], offset
    cdef int64_t second = part[STAMP_SECONDS]
    cdef int digit
    if order == DMY:
        day, year = part[STAMP_FIRST], part[STAMP_THIRD]
    elif order == MDY:
        month, day, year = part[STAMP_FIRST], part[STAMP_SECOND], part[STAMP_THIRD]
    if year < 1 or month < 1 or month > 12 or day < 1 or day > _length(year, month):
        return False
    if part[STAMP_AM] or part[STAMP_PM]:
        if hour < 1 or hour > 12:
            return False
        hour = hour % 12 + (12 if part[STAMP_PM] else 0)
    if hour > 23 or minute > 59 or second > 59:
        return False
    micros[0] = ((_day_of(year, month, day) * 24 + hour) * 60 + minute) * 60 + second
    for digit in range(STAMP_DIGIT_1, STAMP_DIGIT_6 + 1):
        micros[0] = micros[0] * 10 + part[digit]
    minutes[0] = NO_MINUTES
    if part[STAMP_UTC] or part[STAMP_SIGN]:
        offset = part[STAMP_OFFSET_HOURS] * 60 + part[STAMP_OFFSET_MINUTES]
        minutes[0] = <int16_t> (-offset if part[STAMP_SIGN] == (c'-' & 15) else offset)
    return True


cdef inline bint _blank(uint8_t letter) noexcept nogil:
    return letter == 32 or 9 <= letter <= 13


cdef inline void _trim(const uint8_t[::1] data, Py_ssize_t *at, Py_ssize_t *end) noexcept nogil:
    """Leave the white space around a text out."""
    while at[0] < end[0] and _blank(data[at[0]]):
        at[0] += 1
    while at[0] < end[0] and _blank(data[end[0] - 1]):
        end[0] -= 1


cdef _check_automaton(const uint8_t[:, ::1] table, const uint8_t[::1] parts,
                      const uint8_t[::1] ends, int most):
    """Raise `ValueError` or `IndexError` for states that lead out of the table."""
    if table.shape[1] != 256 or not table.shape[0] == parts.shape[0] == ends.shape[0] > 1:
        raise ValueError(f"{parts.shape[0]} states in a table of {table.shape[0]}")
    if np.max(table) >= table.shape[0] or np.max(parts) >= most:
        raise IndexError("a state leads out of the table")


def read_stamps(const uint8_t[::1] data, const Offset[::1] offsets, const uint8_t[:, ::1] table,
                const uint8_t[::1] parts, const uint8_t[::1] ends, int64_t[::1] micros,
                int16_t[::1] minutes, uint8_t[::1] known):
    """Read texts as time stamps; see `kernels/reading.py`."""
    cdef Py_ssize_t n = micros.shape[0], i, at, end
    cdef uint8_t state
    cdef uint32_t numbers[STAMP_PARTS]
    if offsets.shape[0] != n + 1 or minutes.shape[0] != n or known.shape[0] != n:
        raise ValueError(f"{offsets.shape[0]} offsets for {n} stamps")
    _check_automaton(table, parts, ends, STAMP_PARTS)
    _check_texts(offsets, data.shape[0])
    with nogil:
        for i in range(n):
            at, end, state = offsets[i], offsets[i + 1], 1
            _trim(data, &at, &end)
            memset(numbers, 0, sizeof(numbers))
            while at < end and state:
                state = table[state, data[at]]
                numbers[parts[state]] = numbers[parts[state]] * 10 + (data[at] & 15)
                at += 1
            known[i] = ends[state] and _stamp(numbers, ends[state], &micros[i], &minutes[i])


def read_decimals(const uint8_t[::1] data, const Offset[::1] offsets, const uint8_t[:, ::1] table,
                  const uint8_t[::1] parts, const uint8_t[::1] ends, int64_t[::1] digits,
                  uint8_t[::1] places, uint8_t[::1] percents, uint8_t[::1] known):
    """Read texts as numbers; see `kernels/reading.py`."""
    cdef Py_ssize_t n = digits.shape[0], i, at, end, count, behind
    cdef uint8_t state, part
    cdef uint64_t number
    cdef bint negative, percent
    if not offsets.shape[0] - 1 == n == places.shape[0] == percents.shape[0] == known.shape[0]:
        raise ValueError(f"{offsets.shape[0]} offsets for {n} numbers")
    _check_automaton(table, parts, ends, NUMBER_PARTS)
    _check_texts(offsets, data.shape[0])
    with nogil:
        for i in range(n):
            at, end, state = offsets[i], offsets[i + 1], 1
            number, count, behind, negative, percent = 0, 0, 0, False, False
            _trim(data, &at, &end)
            while at < end and state:
                state = table[state, data[at]]
                part = parts[state]
                if part == NUMBER_WHOLE or part == NUMBER_FRACTION:
                    number = number * 10 + (data[at] & 15)
                    count += 1
                    behind += part == NUMBER_FRACTION
                negative |= part == NUMBER_MINUS
                percent |= part == NUMBER_PERCENT
                at += 1
            known[i] = ends[state] != 0 and count <= MOST_DIGITS
            if known[i]:
                digits[i] = -<int64_t> number if negative else <int64_t> number
                places[i], percents[i] = <uint8_t> behind, percent
