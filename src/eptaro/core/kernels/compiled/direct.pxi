# Statistics of ranges that share few values, each worked out from its own values.
#
# A number in the order of a range is found by its digits: values become whole numbers without a
# sign that are in the same order; those of the digit that holds the number are kept, and the next
# digit tells on. That takes a few passes over the range, whatever it holds.

cdef enum:
    BYTE = 8
    BYTES = 256
    FEW = 24  # so many are put in order at once

cdef uint64_t SIGN = <uint64_t> 1 << 63


cdef inline uint64_t _key(Value value) noexcept nogil:
    """Return a whole number without a sign that is in the order of the values."""
    cdef uint64_t bits
    if Value is double:
        value = value + 0.0  # there is one zero
        memcpy(&bits, &value, 8)
        return ~bits if bits & SIGN else bits | SIGN
    else:
        return <uint64_t> value ^ SIGN


cdef inline Value _value(uint64_t key, Value like) noexcept nogil:
    """Return the value of a key, of the type of another."""
    cdef double found
    if Value is double:
        key = key & ~SIGN if key & SIGN else ~key
        memcpy(&found, &key, 8)
        return found
    else:
        return <int64_t> (key ^ SIGN)


cdef void _sort_few(uint64_t *keys, Py_ssize_t n) noexcept nogil:
    cdef Py_ssize_t i, j
    cdef uint64_t key
    for i in range(1, n):
        key = keys[i]
        j = i
        while j > 0 and keys[j - 1] > key:
            keys[j] = keys[j - 1]
            j -= 1
        keys[j] = key


cdef void _neighbours(uint64_t *keys, Py_ssize_t n, Py_ssize_t k, uint64_t *one,
                      uint64_t *two) noexcept nogil:
    """Find the k-th smallest of n keys and the one after it, itself where it is the last; the
    keys are overwritten.
    """
    cdef Py_ssize_t counts[BYTES]
    cdef Py_ssize_t i, kept, below, digit
    cdef uint64_t differ, after = ~<uint64_t> 0
    cdef bint follows = k + 1 < n, known = False
    cdef int shift
    while n > FEW:
        differ = 0
        for i in range(1, n):
            differ |= keys[i] ^ keys[0]
        if not differ:
            break
        shift = 63
        while not differ >> shift:
            shift -= 1
        shift = shift - BYTE + 1 if shift >= BYTE else 0
        for digit in range(BYTES):
            counts[digit] = 0
        for i in range(n):
            counts[(keys[i] >> shift) & (BYTES - 1)] += 1
        digit, below = 0, 0
        while below + counts[digit] <= k:
            below += counts[digit]
            digit += 1
        if follows and k + 1 == below + counts[digit]:  # the one after has a larger digit
            known = True
            for i in range(n):
                if <Py_ssize_t> ((keys[i] >> shift) & (BYTES - 1)) > digit and keys[i] < after:
                    after = keys[i]
            follows = False
        kept = 0
        for i in range(n):
            if <Py_ssize_t> ((keys[i] >> shift) & (BYTES - 1)) == digit:
                keys[kept] = keys[i]
                kept += 1
        n, k = kept, k - below
    if n <= FEW:
        _sort_few(keys, n)
    one[0] = keys[k] if n <= FEW else keys[0]
    if known:
        two[0] = after
    elif follows:
        two[0] = keys[k + 1] if n <= FEW else keys[0]
    else:
        two[0] = one[0]


cdef Py_ssize_t _longest(const int64_t[::1] lo, const int64_t[::1] hi, Py_ssize_t size):
    """Return the length of the longest range; raises `IndexError` for one that reaches out."""
    cdef Py_ssize_t i, longest = 0
    if hi.shape[0] != lo.shape[0]:
        raise ValueError(f"{lo.shape[0]} begins and {hi.shape[0]} ends")
    for i in range(lo.shape[0]):
        if hi[i] > lo[i]:
            if lo[i] < 0 or hi[i] > size:
                raise IndexError(f"range {lo[i]}..{hi[i]} goes beyond {size} values")
            longest = longest if longest > hi[i] - lo[i] else hi[i] - lo[i]
    return longest


def neighbours(const Value[::1] values, const int64_t[::1] lo, const int64_t[::1] hi,
               const int64_t[::1] k, Value[:, :] found):
    """Put the k-th smallest value of each range and the one after it, the k-th again where it is
    the last, into two rows of `found`; an empty range leaves what is there.
    """
    cdef Py_ssize_t n = lo.shape[0], i, j, length
    cdef uint64_t[::1] keys = np.empty(_longest(lo, hi, values.shape[0]) + 1, np.uint64)
    cdef uint64_t one, two
    cdef bint inside = True
    if k.shape[0] != n or found.shape[0] != 2 or found.shape[1] != n:
        raise ValueError(f"{k.shape[0]} numbers for {n} ranges")
    with nogil:
        for i in range(n):
            length = hi[i] - lo[i]
            if length <= 0:
                continue
            if not 0 <= k[i] < length:
                inside = False
                break
            for j in range(length):
                keys[j] = _key(values[lo[i] + j])
            _neighbours(&keys[0], length, k[i], &one, &two)
            found[0, i] = _value(one, values[0])
            found[1, i] = _value(two, values[0])
    if not inside:
        raise IndexError(f"range {i} has no number {k[i]}")


def distinct_in(const int32_t[::1] codes, const int64_t[::1] lo, const int64_t[::1] hi,
             int64_t bound, int64_t[:] found):
    """Put the number of different codes, which are from 0 to below `bound`, of each range into
    `found`.
    """
    cdef Py_ssize_t n = lo.shape[0], i, j
    cdef int32_t[::1] met = np.zeros(bound, np.int32)
    cdef int64_t count
    cdef bint inside = True
    if found.shape[0] != n or n >= 1 << 31:
        raise ValueError(f"{found.shape[0]} answers for {n} ranges")
    _longest(lo, hi, codes.shape[0])
    with nogil:
        for j in range(codes.shape[0]):
            if not 0 <= codes[j] < bound:
                inside = False
        if inside:
            for i in range(n):
                count = 0
                for j in range(lo[i], hi[i]):
                    if met[codes[j]] != <int32_t> (i + 1):
                        met[codes[j]] = <int32_t> (i + 1)
                        count += 1
                found[i] = count
    if not inside:
        raise IndexError(f"a code lies outside 0..{bound - 1}")
