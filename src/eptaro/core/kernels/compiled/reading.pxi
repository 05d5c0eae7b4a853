# Texts to time stamps and numbers by an automaton, for `kernels/reading.py`.

cdef enum:
    PARTS = 18  # as in `StampPart`, the first of which is not kept
    MOST_DIGITS = 18


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
    cdef int64_t year = part[1], month = part[2], day = part[3], hour = part[4], offset
    if order != 1:
        year, month, day = part[3], part[2] if order == 2 else part[1], part[1 + (order == 3)]
    if year < 1 or month < 1 or month > 12 or day < 1 or day > _length(year, month):
        return False
    if part[7] or part[8]:
        if hour < 1 or hour > 12:
            return False
        hour = hour % 12 + (12 if part[8] else 0)
    if hour > 23 or part[5] > 59 or part[6] > 59:
        return False
    micros[0] = ((_day_of(year, month, day) * 24 + hour) * 60 + part[5]) * 60 + part[6]
    for digit in range(9, 15):
        micros[0] = micros[0] * 10 + part[digit]
    minutes[0] = -32768
    if part[15] or part[16]:
        offset = part[17] // 100 * 60 + part[17] % 100
        minutes[0] = <int16_t> (-offset if part[16] == 13 else offset)  # 13: of a minus sign
    return True


cdef inline bint _blank(uint8_t letter) noexcept nogil:
    return letter == 32 or 9 <= letter <= 13


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
    cdef uint32_t numbers[PARTS]
    if offsets.shape[0] != n + 1 or minutes.shape[0] != n or known.shape[0] != n:
        raise ValueError(f"{offsets.shape[0]} offsets for {n} stamps")
    _check_automaton(table, parts, ends, PARTS)
    _check_texts(offsets, data.shape[0])
    with nogil:
        for i in range(n):
            at, end, state = offsets[i], offsets[i + 1], 1
            while at < end and _blank(data[at]):
                at += 1
            while at < end and _blank(data[end - 1]):
                end -= 1
            memset(numbers, 0, sizeof(numbers))
            while at < end and state:
                state = table[state, data[at]]
                numbers[parts[state]] = numbers[parts[state]] * 10 + (data[at] & 15)
                at += 1
            known[i] = ends[state] and _stamp(numbers, ends[state], &micros[i], &minutes[i])


def read_decimals(const uint8_t[::1] data, const Offset[::1] offsets, const uint8_t[:, ::1] table,
                  const uint8_t[::1] parts, const uint8_t[::1] ends, int64_t[::1] digits,
                  uint8_t[::1] places, uint8_t[::1] percents, uint8_t[::1] known):
    """Read texts as numbers; see `kernels/reading.py`. The parts are those of `NumberPart`."""
    cdef Py_ssize_t n = digits.shape[0], i, at, end, count, behind
    cdef uint8_t state, part
    cdef uint64_t number
    cdef bint negative, percent
    if not offsets.shape[0] - 1 == n == places.shape[0] == percents.shape[0] == known.shape[0]:
        raise ValueError(f"{offsets.shape[0]} offsets for {n} numbers")
    _check_automaton(table, parts, ends, 5)
    _check_texts(offsets, data.shape[0])
    with nogil:
        for i in range(n):
            at, end, state = offsets[i], offsets[i + 1], 1
            number, count, behind, negative, percent = 0, 0, 0, False, False
            while at < end and _blank(data[at]):
                at += 1
            while at < end and _blank(data[end - 1]):
                end -= 1
            while at < end and state:
                state = table[state, data[at]]
                part = parts[state]
                if part == 1 or part == 2:
                    number = number * 10 + (data[at] & 15)
                    count += 1
                    behind += part == 2
                negative |= part == 3
                percent |= part == 4
                at += 1
            known[i] = ends[state] != 0 and count <= MOST_DIGITS
            if known[i]:
                digits[i] = -<int64_t> number if negative else <int64_t> number
                places[i], percents[i] = <uint8_t> behind, percent
