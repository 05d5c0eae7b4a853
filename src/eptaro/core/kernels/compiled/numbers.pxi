# Numbers as they are read, for `kernels/reading.py`.

cdef enum:
    LANES = 8  # so many values are looked at side by side


def extent(const double[::1] values):
    """Return the least and the largest, and how many are NaN; see `kernels/reading.py`."""
    cdef Py_ssize_t i = 0, lane, rows = values.shape[0], blanks = 0
    cdef double least[LANES]
    cdef double most[LANES]
    cdef int64_t nans[LANES]
    cdef double value
    for lane in range(LANES):
        least[lane], most[lane], nans[lane] = float("inf"), -float("inf"), 0
    with nogil:
        while i + LANES <= rows:
            for lane in range(LANES):
                value = values[i + lane]
                nans[lane] += value != value
                least[lane] = value if value < least[lane] else least[lane]
                most[lane] = value if value > most[lane] else most[lane]
            i += LANES
        for i in range(i, rows):
            value = values[i]
            nans[0] += value != value
            least[0] = value if value < least[0] else least[0]
            most[0] = value if value > most[0] else most[0]
        for lane in range(LANES):
            blanks += nans[lane]
            least[0] = least[lane] if least[lane] < least[0] else least[0]
            most[0] = most[lane] if most[lane] > most[0] else most[0]
    return least[0], most[0], blanks


def narrow(const int64_t[:, ::1] words, const uint8_t[::1] filled, int64_t[::1] low):
    """Put whole numbers of 128 bits into 64; see `kernels/reading.py`."""
    cdef Py_ssize_t rows = words.shape[0], i, wrong = -1
    cdef bint some = filled.shape[0] > 0
    if low.shape[0] != rows or filled.shape[0] not in (0, rows) or words.shape[1] != 2:
        raise ValueError(f"{rows} numbers, {low.shape[0]} places and {filled.shape[0]} flags")
    with nogil:
        for i in range(rows):
            if some and not filled[i]:
                low[i] = 0
                continue
            low[i] = words[i, 0]
            if words[i, 1] != (-1 if words[i, 0] < 0 else 0):
                wrong = i
                break
    return wrong


def units(const double[::1] values, double unit, double limit, int64_t[::1] found):
    """Put how many units floats stand for into `found`; see `kernels/reading.py`."""
    cdef Py_ssize_t i
    cdef double count
    cdef bint whole = True
    if found.shape[0] != values.shape[0]:
        raise ValueError(f"{values.shape[0]} values for {found.shape[0]} places")
    with nogil:
        for i in range(values.shape[0]):
            count = rint(values[i] * unit)
            if not (fabs(count) < limit and count / unit == values[i]):
                whole = False
                break
            found[i] = <int64_t> count
    return whole
