# Rows put in the order of their cells in two steps, for `kernels/sorting.py`.
#
# Rows are dealt out to parts of the cells first, and each part is then put in order by itself, by
# digits of 11 bits from the lowest on: what is written to lies in the processor's cache both times.
# Every pass keeps the order of rows that share a digit, so that rows of one cell stay as they came.

ctypedef fused Moved:
    int32_t
    int64_t

ctypedef fused Cell:
    int32_t
    int64_t


def counted(const int32_t[::1] days, const Slot[::1] slots, int64_t first, int64_t width,
            int64_t size, int shift, int64_t[::1] counts):
    """Count the rows of each part; see `kernels/sorting.py`."""
    cdef Py_ssize_t rows = days.shape[0] if days.shape[0] else slots.shape[0], i
    cdef uint64_t cell, most = 0
    cdef bint dated = days.shape[0] > 0, slotted = slots.shape[0] > 0
    if days.shape[0] not in (0, rows) or slots.shape[0] not in (0, rows):
        raise ValueError(f"{days.shape[0]} days for {slots.shape[0]} slots")
    if rows and (size < 1 or counts.shape[0] <= (size - 1) >> shift):
        raise IndexError(f"{counts.shape[0]} parts do not cover {size} cells")
    with nogil:
        for i in range(rows):
            cell = <uint64_t> <int64_t> slots[i] * <uint64_t> width if slotted else 0
            if dated:
                cell += <uint64_t> <int64_t> days[i] - <uint64_t> first
            if cell >= <uint64_t> size:
                most = cell
                break
            counts[<Py_ssize_t> (cell >> shift)] += 1
    if most:
        raise IndexError(f"rows reach outside the {size} cells")


def dealt(const int32_t[::1] days, const Slot[::1] slots, int64_t first, int64_t width,
          int shift, int64_t[::1] begins, const Moved[::1] values, uint32_t[::1] lows,
          Moved[::1] out):
    """Put rows into their parts; see `kernels/sorting.py`."""
    cdef Py_ssize_t rows = days.shape[0] if days.shape[0] else slots.shape[0], i, to
    cdef uint64_t cell, mask = (<uint64_t> 1 << shift) - 1
    cdef bint dated = days.shape[0] > 0, slotted = slots.shape[0] > 0, inside = True
    if values.shape[0] != rows or lows.shape[0] != out.shape[0]:
        raise ValueError(f"{values.shape[0]} values for {rows} rows")
    with nogil:
        for i in range(rows):
            cell = <uint64_t> <int64_t> slots[i] * <uint64_t> width if slotted else 0
            if dated:
                cell += <uint64_t> <int64_t> days[i] - <uint64_t> first
            if cell >> shift >= <uint64_t> begins.shape[0]:
                inside = False
                break
            to = begins[<Py_ssize_t> (cell >> shift)]
            if not 0 <= to < out.shape[0]:
                inside = False
                break
            begins[<Py_ssize_t> (cell >> shift)] += 1
            lows[to] = <uint32_t> (cell & mask)
            out[to] = values[i]
    if not inside:
        raise IndexError("rows were not counted as they are dealt")


cdef void _pass_lows(const uint32_t *lows, const Moved *values, uint32_t *lows_out, Moved *out,
                Cell *cells, int64_t base, Py_ssize_t n, int shift) noexcept nogil:
    """Put rows in the order of one digit, with cells in place of lows where these are asked."""
    cdef Py_ssize_t counts[DIGITS]
    cdef Py_ssize_t i, digit, total = 0, count, to
    for digit in range(DIGITS):
        counts[digit] = 0
    for i in range(n):
        counts[(lows[i] >> shift) & (DIGITS - 1)] += 1
    for digit in range(DIGITS):
        count = counts[digit]
        counts[digit] = total
        total += count
    for i in range(n):
        digit = (lows[i] >> shift) & (DIGITS - 1)
        to = counts[digit]
        counts[digit] += 1
        out[to] = values[i]
        if cells != NULL:
            cells[to] = <Cell> (base + lows[i])
        else:
            lows_out[to] = lows[i]


def settled(uint32_t[::1] lows, Moved[::1] values, const int64_t[::1] ends, int shift,
            Py_ssize_t start, Py_ssize_t stop, Cell[::1] cells, Moved[::1] out):
    """Put the rows of some parts in the order of their cells; see `kernels/sorting.py`."""
    cdef Py_ssize_t part, begin, n, most = 0, passes = max((shift + DIGIT - 1) // DIGIT, 1), step
    cdef int64_t before
    cdef uint32_t *here
    cdef uint32_t *there
    cdef Moved *own
    cdef Moved *other
    if not 0 <= start <= stop <= ends.shape[0] or not 0 <= shift <= 32:
        raise IndexError(f"parts {start} to {stop} of {ends.shape[0]}, shifted by {shift}")
    for part in range(start, stop):
        before = ends[part - 1] if part else 0
        if not 0 <= before <= ends[part] <= lows.shape[0]:
            raise IndexError(f"part {part} goes beyond {lows.shape[0]} rows")
        most = max(most, ends[part] - before)
    if not lows.shape[0] == values.shape[0] == cells.shape[0] == out.shape[0]:
        raise ValueError("rows, cells and values are not equally many")
    if not most:
        return
    spare = most if passes > 1 else 1
    cdef uint32_t[::1] spare_lows = np.empty(spare, np.uint32)
    cdef Moved[::1] spare_values = np.empty(spare, np.asarray(values).dtype)
    with nogil:
        for part in range(start, stop):
            begin = ends[part - 1] if part else 0
            n = ends[part] - begin
            here, own = &lows[0] + begin, &values[0] + begin
            there, other = &spare_lows[0], &spare_values[0]
            for step in range(passes - 1):
                _pass_lows[Moved, Cell](here, own, there, other, NULL, 0, n, <int> step * DIGIT)
                here, there = there, here
                own, other = other, own
            _pass_lows[Moved, Cell](here, own, NULL, &out[0] + begin, &cells[0] + begin,
                               <int64_t> part << shift, n, <int> (passes - 1) * DIGIT)


def runs(const Cell[::1] cells, int64_t[::1] keys, int32_t[::1] places):
    """Put the different cells, which are in order, and the place of each row's into arrays; see
    `kernels/sorting.py`.
    """
    cdef Py_ssize_t n = cells.shape[0], i, count = 0
    cdef bint ordered = True
    if n >= 1 << 31:
        raise ValueError(f"{n} rows are too many for one table of places")
    if keys.shape[0] != n or places.shape[0] != n:
        raise ValueError(f"{keys.shape[0]} keys and {places.shape[0]} places for {n} cells")
    with nogil:
        for i in range(n):
            if i == 0 or cells[i] != cells[i - 1]:
                ordered = ordered & (i == 0 or cells[i] > cells[i - 1])
                keys[count] = cells[i]
                count += 1
            places[i] = <int32_t> (count - 1)
    if not ordered:
        raise ValueError("cells are not in order")
    return count


def merged(const int64_t[::1] one, const int64_t[::1] two, int64_t[::1] found,
           int64_t[::1] mine, int64_t[::1] theirs):
    """Put the different cells of two runs and the places of both into arrays; see
    `kernels/sorting.py`.
    """
    cdef Py_ssize_t n = one.shape[0], m = two.shape[0], i = 0, j = 0, count = 0
    cdef bint ordered = True
    cdef int64_t mine_next, theirs_next
    if found.shape[0] != n + m or mine.shape[0] != n or theirs.shape[0] != m:
        raise ValueError(f"{found.shape[0]} places for {n} and {m} cells")
    with nogil:
        while i < n and j < m:  # without a branch for each, as none could be foretold
            mine_next, theirs_next = one[i], two[j]
            found[count] = mine_next if mine_next < theirs_next else theirs_next
            mine[i] = theirs[j] = count
            i += mine_next <= theirs_next
            j += theirs_next <= mine_next
            count += 1
        for i in range(i, n):
            found[count], mine[i] = one[i], count
            count += 1
        for j in range(j, m):
            found[count], theirs[j] = two[j], count
            count += 1
        for i in range(1, count):
            ordered = ordered & (found[i] > found[i - 1])
    if not ordered:
        raise ValueError("cells are not in order")
    return count
