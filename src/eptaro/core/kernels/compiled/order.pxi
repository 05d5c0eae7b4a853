# Orders of whole numbers by digits of 11 bits, for `kernels/sorting.py`.
#
# A pass puts the rows in the order of one digit and keeps the order of those that share it; from
# the lowest digit to the highest, that sorts. Keys and rows move together, so that each pass reads
# from front to back.

cdef enum:
    DIGIT = 11
    DIGITS = 2048


cdef void _pass_keys(const int64_t *keys, const int64_t *rows, int64_t *keys_out, int64_t *rows_out,
                Py_ssize_t n, int shift) noexcept nogil:
    """Put rows in the order of one digit; without `rows`, they are numbered as they stand."""
    cdef Py_ssize_t counts[DIGITS]
    cdef Py_ssize_t i, digit, total = 0, count, to
    for digit in range(DIGITS):
        counts[digit] = 0
    for i in range(n):
        counts[(<uint64_t> keys[i] >> shift) & (DIGITS - 1)] += 1
    for digit in range(DIGITS):
        count = counts[digit]
        counts[digit] = total
        total += count
    for i in range(n):
        digit = (<uint64_t> keys[i] >> shift) & (DIGITS - 1)
        to = counts[digit]
        counts[digit] += 1
        keys_out[to] = keys[i]
        rows_out[to] = i if rows == NULL else rows[i]


cdef bint _in_order(const int64_t *keys, Py_ssize_t n) noexcept nogil:
    cdef Py_ssize_t i
    for i in range(1, n):
        if keys[i] < keys[i - 1]:
            return False
    return True


cdef tuple _sorted(const int64_t[::1] keys):
    """Return the keys in order and the row of each; the keys must not be negative."""
    cdef Py_ssize_t n = keys.shape[0], i
    cdef uint64_t most = 0
    cdef int shift = 0
    cdef bint first = True
    if n < 2 or _in_order(&keys[0], n):
        return np.asarray(keys), np.arange(n)
    made = [np.empty(n, np.int64) for _ in range(4)]
    cdef int64_t[::1] keys_to = made[0], rows_to = made[1], keys_from = made[2], rows_from = made[3]
    with nogil:
        for i in range(n):
            most = most if most > <uint64_t> keys[i] else <uint64_t> keys[i]
        while first or most >> shift:
            if first:
                _pass_keys(&keys[0], NULL, &keys_to[0], &rows_to[0], n, shift)
            else:
                _pass_keys(&keys_from[0], &rows_from[0], &keys_to[0], &rows_to[0], n, shift)
            first = False
            keys_from, keys_to = keys_to, keys_from
            rows_from, rows_to = rows_to, rows_from
            shift += DIGIT
            if shift >= 64:
                break
    return np.asarray(keys_from), np.asarray(rows_from)


def stable_order(keys):
    """Return the stable order of whole numbers from 0; see `kernels/sorting.py`."""
    return _sorted(np.ascontiguousarray(keys, np.int64))[1]


def distinct_keys(keys, bound):
    """Return the different whole numbers in order, and each one's place; see
    `kernels/sorting.py`.
    """
    cdef const int64_t[::1] given = np.ascontiguousarray(keys, np.int64)
    cdef const int64_t[::1] ordered, rows
    cdef Py_ssize_t n = given.shape[0], i, count = 0
    cdef uint64_t below = bound
    made, kept = np.empty(n, np.int64), np.empty(n, np.int64)
    cdef int64_t[::1] places = made, found = kept
    ordered, rows = _sorted(given)
    if n and (ordered[0] < 0 or <uint64_t> ordered[n - 1] >= below):
        raise IndexError(f"keys lie beyond {bound}")
    with nogil:
        for i in range(n):
            if i == 0 or ordered[i] != ordered[i - 1]:
                found[count] = ordered[i]
                count += 1
            places[rows[i]] = count - 1
    return kept[:count].copy(), made


def places(keys, asked):
    """Return how many of the keys, which are in order, are less than each number asked for; see
    `kernels/sorting.py`.

    Where a number is not less than the one before, the search goes on from there in steps that
    double, so that numbers in order take one pass.
    """
    cdef const int64_t[::1] given = np.ascontiguousarray(keys, np.int64)
    cdef const int64_t[::1] numbers = np.ascontiguousarray(asked, np.int64)
    cdef Py_ssize_t size = given.shape[0], i, low = 0, high = 0, step, middle
    made = np.empty(numbers.shape[0], np.int64)
    cdef int64_t[::1] found = made
    with nogil:
        for i in range(numbers.shape[0]):
            if low and given[low - 1] >= numbers[i]:
                low = 0  # it is less than the one before
                high = size
            else:
                step = 1
                high = low
                while high < size and given[high] < numbers[i]:
                    low = high + 1
                    high = high + step if high + step < size else size
                    step *= 2
            while low < high:
                middle = low + (high - low) // 2
                if given[middle] < numbers[i]:
                    low = middle + 1
                else:
                    high = middle
            found[i] = low
    return made
