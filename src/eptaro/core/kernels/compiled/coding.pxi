# Texts to codes by a table of their hashes, for `kernels/reading.py`.
#
# A slot of the table holds a text's hash and length and its code, or -1; texts that share a slot go to the next ones. Where the
# table is half full, the loop ends, a larger one is made, and the loop goes on.

ctypedef fused Offset:
    int32_t
    int64_t

ctypedef struct Entry:
    uint64_t hashed
    int32_t code
    uint32_t length  # its lower bits


cdef inline uint64_t _eight(const uint8_t *text) noexcept nogil:
    cdef uint64_t word
    memcpy(&word, text, 8)
    return word


cdef inline uint64_t _few(const uint8_t *text, Py_ssize_t n) noexcept nogil:
    """Return all bytes of a text of 1 to 7 in one word, some of them twice."""
    cdef uint32_t first, last
    if n >= 4:
        memcpy(&first, text, 4)
        memcpy(&last, text + n - 4, 4)
        return first | (<uint64_t> last << 32)
    return text[0] | (<uint64_t> text[n >> 1] << 8) | (<uint64_t> text[n - 1] << 16)


cdef inline uint64_t _mixed(uint64_t state, uint64_t word) noexcept nogil:
    """Return a hash with one more word in it, whose every bit reaches the lowest ones."""
    state = (state ^ word) * <uint64_t> 0x9E3779B97F4A7C15
    state = (state ^ (state >> 32)) * <uint64_t> 0xD6E8FEB86659FD93
    return state ^ (state >> 32)


cdef inline uint64_t _hash(const uint8_t *text, Py_ssize_t n) noexcept nogil:
    cdef uint64_t state = <uint64_t> n * <uint64_t> 0xC2B2AE3D27D4EB4F
    cdef Py_ssize_t at = 0
    if n < 8:
        return _mixed(state, _few(text, n)) if n else state
    while at + 8 < n:
        state = _mixed(state, _eight(text + at))
        at += 8
    return _mixed(state, _eight(text + n - 8))


cdef inline bint _same(const uint8_t *one, const uint8_t *two, Py_ssize_t n) noexcept nogil:
    cdef Py_ssize_t at = 0
    if n < 8:
        return n == 0 or _few(one, n) == _few(two, n)
    while at + 8 < n:
        if _eight(one + at) != _eight(two + at):
            return False
        at += 8
    return _eight(one + n - 8) == _eight(two + n - 8)


cdef Py_ssize_t _coded(const uint8_t *data, const Offset *offsets, const uint8_t *filled,
                       Py_ssize_t start, Py_ssize_t rows, Entry *table, uint64_t mask,
                       int32_t *codes, int64_t *firsts, Py_ssize_t *count) noexcept nogil:
    """Code rows from `start` on until the table is half full; return the row that comes next."""
    cdef Py_ssize_t i, length
    cdef uint64_t hashed, slot
    cdef Entry *entry
    for i in range(start, rows):
        if filled != NULL and not filled[i]:
            codes[i] = -1
            continue
        length = offsets[i + 1] - offsets[i]
        hashed = _hash(data + offsets[i], length)
        slot = hashed & mask
        while True:
            entry = table + slot
            if entry.code < 0:
                if 2 * <uint64_t> (count[0] + 1) > mask:
                    return i
                entry.code, entry.hashed = <int32_t> count[0], hashed
                entry.length = <uint32_t> length
                firsts[count[0]] = i
                count[0] += 1
                break
            # Of texts of up to eight bytes and one length, no two share a hash.
            if entry.hashed == hashed and entry.length == <uint32_t> length and (
                    length <= 8 or (
                        length == offsets[firsts[entry.code] + 1] - offsets[firsts[entry.code]]
                        and _same(data + offsets[i], data + offsets[firsts[entry.code]], length))):
                break
            slot = (slot + 1) & mask
        codes[i] = entry.code
    return rows


cdef _check_texts(const Offset[::1] offsets, Py_ssize_t size):
    """Raise `IndexError` for offsets that fall or lead out of the data."""
    cdef Py_ssize_t i
    cdef bint good = offsets[0] >= 0 and offsets[offsets.shape[0] - 1] <= size
    with nogil:
        for i in range(1, offsets.shape[0]):
            good = good & (offsets[i] >= offsets[i - 1])
    if not good:
        raise IndexError(f"texts go beyond {size} bytes")


def code(const uint8_t[::1] data, const Offset[::1] offsets, const uint8_t[::1] filled):
    """Return a code for each text, and the row that each code occurs in first; see
    `kernels/reading.py`.
    """
    cdef Py_ssize_t rows = offsets.shape[0] - 1, done = 0, count = 0, slot
    cdef uint64_t mask = 1023
    cdef const uint8_t *flags = NULL
    cdef const uint8_t *bytes_ = NULL
    cdef uint8_t none = 0
    if filled.shape[0] not in (0, rows):
        raise ValueError(f"{filled.shape[0]} flags for {rows} texts")
    made = np.empty(rows, np.int32)
    if rows < 1:
        return made, np.empty(0, np.int64)
    _check_texts(offsets, data.shape[0])
    cdef int32_t[::1] codes = made
    cdef Entry[::1] table = _fresh(mask + 1), larger
    first_rows = np.empty(mask + 1, np.int64)
    cdef int64_t[::1] firsts = first_rows
    if filled.shape[0]:
        flags = &filled[0]
    bytes_ = &data[0] if data.shape[0] else &none
    while True:
        with nogil:
            done = _coded(bytes_, &offsets[0], flags, done, rows, &table[0], mask, &codes[0],
                          &firsts[0], &count)
        if done == rows:
            return made, first_rows[:count].copy()
        mask = 4 * (mask + 1) - 1
        larger = _fresh(mask + 1)
        first_rows = np.resize(first_rows, mask + 1)
        firsts = first_rows
        with nogil:
            for slot in range(table.shape[0]):
                if table[slot].code >= 0:
                    _enter(&larger[0], mask, table[slot])
        table = larger


cdef _fresh(Py_ssize_t slots):
    """Return an empty table."""
    made = np.empty(slots, [("hashed", np.uint64), ("code", np.int32), ("length", np.uint32)])
    made["code"] = -1
    return made


cdef void _enter(Entry *table, uint64_t mask, Entry entry) noexcept nogil:
    cdef uint64_t slot = entry.hashed & mask
    while table[slot].code >= 0:
        slot = (slot + 1) & mask
    table[slot] = entry
