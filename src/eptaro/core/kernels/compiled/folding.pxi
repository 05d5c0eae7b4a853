# Rows folded to cells in one pass, for `kernels/folding.py`.
#
# A cell is one row of `cells`, a few words of 64 bits side by side, so that a transaction touches
# one or two lines of the processor's cache. Rows are taken in blocks: the cells of a block are
# worked out and checked first, then each plan goes over the block by itself while its cells are
# near. All is added in the order of the rows, so that sums of floats are the same to the last
# bit as those of NumPy.
#
# Nothing in the loops allocates or needs the interpreter.

from eptaro.core.kernels.compiled cimport adding
from eptaro.core.kernels.compiled.planned cimport (
    BLOCK, FILLED, FIRST, HALF, LARGEST, LAST, LEAST, LIMB, PACKED, PACKED_FLOATS, ROWS, SQUARE,
    SQUARE_FLOATS, SQUARE_FLOATS_LIMBS, SQUARE_LIMBS, SUM, SUM_FLOATS, SUM_FLOATS_HALVES,
    SUM_HALVES, Planned, add, there,
)

from eptaro.core.kernels.folding import (
    HALF as PLANNED_HALF, LIMB as PLANNED_LIMB, WITH_REST, WORDS, Op,
)

cdef extern from *:
    """
    #if defined(__GNUC__) || defined(__clang__)
      #define EPTARO_FETCH(p) __builtin_prefetch(p, 1)
    #else
      #define EPTARO_FETCH(p) ((void)(p))
    #endif
    """
    void EPTARO_FETCH(const void *p) noexcept nogil

cdef enum:
    MOST_PLANS = 64

if (HALF, LIMB, LAST) != (PLANNED_HALF, PLANNED_LIMB, Op.LAST):
    raise ImportError("the compiled kernel was built for other plans")

cdef inline bint _beaten(const Planned *plan, const int64_t *word, Py_ssize_t i,
                         const int64_t *times) noexcept nogil:
    """Return whether the value that a cell holds gives way to that of a later row."""
    if plan.op == FIRST:
        return times != NULL and times[i] < word[2]
    return times == NULL or times[i] >= word[2]


cdef inline void _pick_extreme(const Value *values, bint least, const Planned *plan,
                               const int64_t *at, int64_t *cells, Py_ssize_t start, Py_ssize_t n,
                               int64_t first_row) noexcept nogil:
    """Let values into the cells where they win: any value wins over what an empty cell holds, and
    NaN over nothing.
    """
    cdef Py_ssize_t j
    cdef int64_t *word
    cdef Value value
    for j in range(n):
        value = values[start + j]
        word = cells + at[j] + plan.word
        if value <= (<Value *> word)[0] if least else value >= (<Value *> word)[0]:
            if plan.filled == NULL or plan.filled[start + j]:
                (<Value *> word)[0] = value
                word[1] = first_row + start + j


cdef void _pick_extremes(const Planned *plan, const int64_t *at, int64_t *cells, Py_ssize_t start,
                         Py_ssize_t n, int64_t first_row) noexcept nogil:
    if plan.floats == NULL and plan.op == LEAST:
        _pick_extreme(plan.whole, True, plan, at, cells, start, n, first_row)
    elif plan.floats == NULL:
        _pick_extreme(plan.whole, False, plan, at, cells, start, n, first_row)
    elif plan.op == LEAST:
        _pick_extreme(plan.floats, True, plan, at, cells, start, n, first_row)
    else:
        _pick_extreme(plan.floats, False, plan, at, cells, start, n, first_row)


cdef void _pick(const Planned *plan, const int64_t *at, int64_t *cells, Py_ssize_t start,
                Py_ssize_t n, const int64_t *times, int64_t first_row) noexcept nogil:
    cdef Py_ssize_t i, j
    cdef int64_t *word
    for j in range(n):
        i = start + j
        word = cells + at[j] + plan.word
        if not there(plan, i) or (word[1] >= 0 and not _beaten(plan, word, i, times)):
            continue
        if plan.floats == NULL:
            word[0] = plan.whole[i]
        else:
            (<double *> word)[0] = plan.floats[i]
        word[1] = first_row + i
        if times != NULL:
            word[2] = times[i]


cdef Planned _planned(object plan, Py_ssize_t rows, Py_ssize_t words) except *:
    """Return a plan as C reads it, checked against the number of rows and of words."""
    op, word, values, flags, centre, shift = plan
    cdef const int64_t[::1] whole
    cdef const double[::1] floats
    cdef const uint8_t[::1] filled
    cdef Planned made
    made.op, made.word, made.centre, made.shift = op, word, centre, shift
    if not 0 <= shift < 63:
        raise ValueError(f"a sum cannot stand {shift} bits up")
    made.whole, made.floats, made.filled = NULL, NULL, NULL
    if not ROWS <= op <= LAST or not 0 <= word <= words - WORDS[op]:
        raise ValueError(f"word {word} of {words} has no room for plan {op}")
    if values is not None and values.dtype.kind == "f":
        floats = values
        if floats.shape[0] != rows:
            raise ValueError(f"{floats.shape[0]} values for {rows} rows")
        made.floats = &floats[0]
    elif values is not None:
        whole = values
        if whole.shape[0] != rows:
            raise ValueError(f"{whole.shape[0]} values for {rows} rows")
        made.whole = &whole[0]
    if flags is not None:
        filled = flags
        if filled.shape[0] != rows:
            raise ValueError(f"{filled.shape[0]} flags for {rows} rows")
        made.filled = &filled[0]
    of_floats = op in (
        SUM_FLOATS, SUM_FLOATS_HALVES, PACKED_FLOATS, SQUARE_FLOATS, SQUARE_FLOATS_LIMBS
    )
    of_whole = op in (SUM, SUM_HALVES, PACKED, SQUARE, SQUARE_LIMBS)
    if ((of_floats and made.floats == NULL) or (of_whole and made.whole == NULL)
            or (op >= LEAST and made.floats == NULL and made.whole == NULL)):
        raise ValueError(f"plan {op} has not the values that it needs")
    return made


def fold(const int32_t[::1] days, const Slot[::1] slots, int64_t first, int64_t width,
         int64_t[:, ::1] cells, plans, const int64_t[::1] times, int64_t first_row):
    """Fold rows to cells; see `kernels/folding.py`."""
    cdef Py_ssize_t rows = days.shape[0] if days.shape[0] else slots.shape[0]
    cdef Py_ssize_t size = cells.shape[0], words = cells.shape[1], start = 0, n = 0, j, k
    cdef Py_ssize_t count = len(plans)
    cdef Planned planned[MOST_PLANS]
    cdef int64_t at[BLOCK]
    cdef uint64_t place, most
    cdef int64_t *base
    cdef const int64_t *moments = NULL
    cdef bint dated = days.shape[0] > 0, slotted = slots.shape[0] > 0
    cdef bint inside = True, small = True
    if count > MOST_PLANS:
        raise ValueError(f"{count} plans; {MOST_PLANS} are the most")
    for length in (days.shape[0], slots.shape[0], times.shape[0]):
        if length not in (0, rows):
            raise ValueError(f"{length} days, slots or times for {rows} rows")
    if not rows:
        return
    if not size or not words:
        raise IndexError("there are no cells")
    for k in range(count):
        planned[k] = _planned(plans[k], rows, words)
    if times.shape[0]:
        moments = &times[0]
    base = &cells[0, 0]
    with nogil:
        while start < rows:
            n = BLOCK if rows - start > BLOCK else rows - start
            most = 0
            for j in range(n):
                place = 0
                if slotted:
                    place = <uint64_t> <int64_t> slots[start + j] * <uint64_t> width
                if dated:
                    place += <uint64_t> (<int64_t> days[start + j]) - <uint64_t> first
                most = most if most > place else place
                at[j] = <int64_t> (place * <uint64_t> words)
            if most >= <uint64_t> size:
                inside = False
                break
            for j in range(n):
                EPTARO_FETCH(base + at[j])
                EPTARO_FETCH(base + at[j] + words - 1)
            for k in range(count):
                if planned[k].op == ROWS:
                    adding.count(&planned[k], at, base, n)
                elif planned[k].op == FILLED:
                    adding.fill(&planned[k], at, base, start, n)
                elif planned[k].op <= SUM_HALVES:
                    adding.sum(&planned[k], at, base, start, n)
                elif planned[k].op <= SUM_FLOATS_HALVES:
                    small = adding.sum_floats(&planned[k], at, base, start, n) and small
                elif planned[k].op == PACKED:
                    adding.packed(&planned[k], at, base, start, n)
                elif planned[k].op == PACKED_FLOATS:
                    small = adding.packed_floats(&planned[k], at, base, start, n) and small
                elif planned[k].op <= SQUARE_LIMBS:
                    small = adding.square(&planned[k], at, base, start, n) and small
                elif planned[k].op <= SQUARE_FLOATS_LIMBS:
                    small = adding.square_floats(&planned[k], at, base, start, n) and small
                elif planned[k].op <= LARGEST:
                    _pick_extremes(&planned[k], at, base, start, n, first_row)
                else:
                    _pick(&planned[k], at, base, start, n, moments, first_row)
            if not small:
                break
            start += n
    if not inside:
        raise IndexError(f"rows {start} to {start + n} reach outside the {size} cells")
    if not small:
        raise ValueError(f"rows {start} to {start + n} hold values too large for their plan")


cdef void _join_sums(int64_t *one, const int64_t *two, Py_ssize_t n, Py_ssize_t words,
                     Py_ssize_t whole, bint rest) noexcept nogil:
    """Add the words of `n` cells: some whole numbers, and then a float where there is a rest."""
    cdef Py_ssize_t i, k
    for i in range(n):
        for k in range(whole):
            add(one + i * words + k, <uint64_t> two[i * words + k])
        if rest:
            (<double *> (one + i * words + whole))[0] += (<const double *> (two + i * words + whole))[0]


cdef void _join_picked(int64_t *one, const int64_t *two, Py_ssize_t n, Py_ssize_t words, int op,
                       bint floats) noexcept nogil:
    """Let what `n` cells of later rows picked into those of earlier ones where it wins."""
    cdef Py_ssize_t i
    cdef bint wins
    for i in range(n):
        if two[1] >= 0:
            if one[1] < 0:
                wins = True
            elif op == FIRST:
                wins = two[2] < one[2]
            elif op == LAST:
                wins = two[2] >= one[2]
            elif floats and op == LEAST:
                wins = (<const double *> two)[0] <= (<double *> one)[0]
            elif floats:
                wins = (<const double *> two)[0] >= (<double *> one)[0]
            else:
                wins = two[0] <= one[0] if op == LEAST else two[0] >= one[0]
            if wins:
                one[0], one[1] = two[0], two[1]
                if op >= FIRST:
                    one[2] = two[2]
        one += words
        two += words


def join(int64_t[:, ::1] one, const int64_t[:, ::1] two, plans):
    """Join the cells of rows and of later rows; see `kernels/folding.py`."""
    cdef Py_ssize_t size = one.shape[0], words = one.shape[1], start = 0, n, k
    cdef Py_ssize_t count = len(plans)
    cdef Py_ssize_t word[MOST_PLANS]
    cdef Py_ssize_t whole[MOST_PLANS]
    cdef int ops[MOST_PLANS]
    cdef bint floats[MOST_PLANS]
    cdef int64_t *mine
    cdef const int64_t *theirs
    if count > MOST_PLANS:
        raise ValueError(f"{count} plans; {MOST_PLANS} are the most")
    if two.shape[0] != size or two.shape[1] != words:
        raise ValueError(f"{two.shape[0]} cells of {two.shape[1]} words beside {size} of {words}")
    for k in range(count):
        op = plans[k].op
        ops[k], word[k] = op, plans[k].word
        if not 0 <= word[k] <= words - WORDS[op]:
            raise ValueError(f"word {word[k]} of {words} has no room for plan {op}")
        if op >= LEAST:
            floats[k] = plans[k].values.dtype.kind == "f"
            whole[k] = 0
        else:
            floats[k] = op in WITH_REST
            whole[k] = WORDS[op] - floats[k]
    with nogil:
        while start < size:
            n = BLOCK if size - start > BLOCK else size - start
            for k in range(count):
                mine, theirs = &one[start, word[k]], &two[start, word[k]]
                if ops[k] >= LEAST:
                    _join_picked(mine, theirs, n, words, ops[k], floats[k])
                else:
                    _join_sums(mine, theirs, n, words, whole[k], floats[k])
            start += n
