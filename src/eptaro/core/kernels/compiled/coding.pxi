# Texts to codes by a table of their hashes, for `kernels/reading.py`.
#
# A slot of the table holds a text's hash and length and its code, or -1; texts that share a slot go
# to the next ones. Where the table is half full, the loop ends, a larger one is made, and the loop
# goes on. Texts of up to eight bytes, as most are that group, are compared in one word.

ctypedef fused Offset:
    int32_t
    int64_t

ctypedef struct Entry:
    uint64_t hashed
    int32_t code
    uint32_t length  # its lower bits


cdef extern from *:
    """
    /* The first bytes of a text, at most eight, in one word; `room` bytes may be read. */
    static inline uint64_t eptaro_short(const uint8_t *text, int64_t length, int64_t room) {
        uint64_t word = 0;
    #if defined(_MSC_VER) || (defined(__BYTE_ORDER__) && __BYTE_ORDER__ == __ORDER_LITTLE_ENDIAN__)
        if (room >= 8 && length > 0) {
            memcpy(&word, text, 8);
            return word & (~(uint64_t) 0 >> (64 - 8 * length));
        }
    #endif
        memcpy(&word, text, (size_t) length);
        return word;
    }
    """
    uint64_t eptaro_short(const uint8_t *text, int64_t length, int64_t room) noexcept nogil


cdef inline uint64_t _eight(const uint8_t *text) noexcept nogil:
    cdef uint64_t word
    memcpy(&word, text, 8)
    return word


cdef inline uint64_t _mixed(uint64_t state, uint64_t word) noexcept nogil:
    """Return a hash with one more word in it."""
    state = (state ^ word) * <uint64_t> 0x9E3779B97F4A7C15
    return state ^ (state >> 32)


cdef inline uint64_t _hash(const uint8_t *text, Py_ssize_t n) noexcept nogil:
    """Return a hash of a text of more than eight bytes."""
    cdef uint64_t state = <uint64_t> n * <uint64_t> 0xC2B2AE3D27D4EB4F
    cdef Py_ssize_t at = 0
    while at + 8 < n:
        state = _mixed(state, _eight(text + at))
        at += 8
    return _mixed(state, _eight(text + n - 8)) * <uint64_t> 0xD6E8FEB86659FD93


cdef inline uint64_t _slot_of(uint64_t hashed, uint32_t length) noexcept nogil:
    """Return where a text's slot begins to be looked for: all bits of its hash reach it."""
    hashed = (hashed ^ (hashed >> 32) ^ <uint64_t> length) * <uint64_t> 0x9E3779B97F4A7C15
    return hashed >> 32


cdef inline bint _same(const uint8_t *one, const uint8_t *two, Py_ssize_t n) noexcept nogil:
    """Return whether two texts of more than eight bytes are the same."""
    cdef Py_ssize_t at = 0
    while at + 8 < n:
        if _eight(one + at) != _eight(two + at):
            return False
        at += 8
    return _eight(one + n - 8) == _eight(two + n - 8)


cdef Entry *_long_entry(const uint8_t *data, int64_t begin, Py_ssize_t length, Entry *table,
                        uint64_t mask, uint64_t hashed, const int64_t *spans) noexcept nogil:
    """Return the entry of a text of more than eight bytes, or the empty one where it belongs."""
    cdef uint64_t slot = _slot_of(hashed, <uint32_t> length) & mask
    cdef Entry *entry = table + slot
    cdef const int64_t *span
    while entry.code >= 0:
        if entry.hashed == hashed and entry.length == <uint32_t> length:
            span = spans + 2 * entry.code
            if length == span[1] - span[0] and _same(data + begin, data + span[0], length):
                break
        slot = (slot + 1) & mask
        entry = table + slot
    return entry


cdef Py_ssize_t _coded(const uint8_t *data, Py_ssize_t size, const Offset *offsets,
                       const uint8_t *filled, Py_ssize_t start, Py_ssize_t rows, Entry *table,
                       uint64_t mask, int32_t *codes, int64_t *spans, int64_t *firsts,
                       Py_ssize_t *count) noexcept nogil:
    """Code rows from `start` on until the table is half full; return the row that comes next.

    Code n has the bytes from `spans[2 n]` to `spans[2 n + 1]`, first met in row `firsts[n]`.
    """
    cdef Py_ssize_t i, length, found = count[0]
    cdef uint64_t hashed, slot
    cdef Entry *entry
    for i in range(start, rows):
        if filled != NULL and not filled[i]:
            codes[i] = -1
            continue
        length = offsets[i + 1] - offsets[i]
        if length <= 8:
            # The hash of a short text is the text itself, and an empty entry is longer.
            hashed = eptaro_short(data + offsets[i], length, size - offsets[i])
            slot = _slot_of(hashed, <uint32_t> length) & mask
            entry = table + slot
            while entry.hashed != hashed or entry.length != <uint32_t> length:
                if entry.code < 0:
                    break
                slot = (slot + 1) & mask
                entry = table + slot
        else:
            hashed = _hash(data + offsets[i], length)
            entry = _long_entry(data, offsets[i], length, table, mask, hashed, spans)
        if entry.code < 0:
            if 2 * <uint64_t> (found + 1) > mask:
                count[0] = found
                return i
            entry.code, entry.hashed = <int32_t> found, hashed
            entry.length = <uint32_t> length
            spans[2 * found], spans[2 * found + 1] = offsets[i], offsets[i + 1]
            firsts[found] = i
            found += 1
        codes[i] = entry.code
    count[0] = found
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


def code(const uint8_t[::1] data, const Offset[::1] offsets, const uint8_t[::1] filled,
         const Offset[::1] known, int32_t[::1] codes):
    """Put a code for each text into `codes`, and return the row that each new one occurs in first;
    see `kernels/reading.py`.
    """
    cdef Py_ssize_t rows = offsets.shape[0] - 1, done = 0, count = 0, slot, seeds
    cdef uint64_t mask = 1023
    cdef const uint8_t *flags = NULL
    cdef const uint8_t *bytes_ = NULL
    cdef uint8_t none = 0
    if filled.shape[0] not in (0, rows) or codes.shape[0] != max(rows, 0) or known.shape[0] % 2:
        raise ValueError(f"{filled.shape[0]} flags and {codes.shape[0]} codes for {rows} texts")
    if rows < 1:
        return np.empty(0, np.int64)
    _check_texts(offsets, data.shape[0])
    seeds = known.shape[0] // 2
    while mask < 4 * <uint64_t> seeds:
        mask = 4 * (mask + 1) - 1
    cdef Entry[::1] table = _fresh(mask + 1), larger
    first_rows, ends = np.empty(mask + 1, np.int64), np.empty(2 * (mask + 1), np.int64)
    cdef int64_t[::1] firsts = first_rows
    cdef int64_t[::1] spans = ends
    bytes_ = &data[0] if data.shape[0] else &none
    with nogil:
        for slot in range(seeds):
            if not 0 <= known[2 * slot] <= known[2 * slot + 1] <= data.shape[0]:
                break
            _coded(bytes_, data.shape[0], &known[2 * slot], NULL, 0, 1, &table[0], mask,
                   &codes[0], &spans[0], &firsts[0], &count)
    if count != seeds:
        raise ValueError(f"{seeds} known texts, {count} of which differ")
    if filled.shape[0]:
        flags = &filled[0]
    while True:
        with nogil:
            done = _coded(bytes_, data.shape[0], &offsets[0], flags, done, rows, &table[0], mask,
                          &codes[0], &spans[0], &firsts[0], &count)
        if done == rows:
            return first_rows[seeds:count].copy()
        mask = 4 * (mask + 1) - 1
        larger = _fresh(mask + 1)
        first_rows, ends = np.resize(first_rows, mask + 1), np.resize(ends, 2 * (mask + 1))
        firsts, spans = first_rows, ends
        with nogil:
            for slot in range(table.shape[0]):
                if table[slot].code >= 0:
                    _enter(&larger[0], mask, table[slot])
        table = larger


cdef _fresh(Py_ssize_t slots):
    """Return an empty table."""
    made = np.empty(slots, [("hashed", np.uint64), ("code", np.int32), ("length", np.uint32)])
    made["code"], made["length"] = -1, np.iinfo(np.uint32).max
    return made


cdef void _enter(Entry *table, uint64_t mask, Entry entry) noexcept nogil:
    cdef uint64_t slot = _slot_of(entry.hashed, entry.length) & mask
    while table[slot].code >= 0:
        slot = (slot + 1) & mask
    table[slot] = entry
