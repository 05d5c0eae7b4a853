"""What the fold in C knows of a plan: its columns, and what a row holds in them."""

from libc.stdint cimport int64_t, uint8_t, uint64_t

cdef enum:
    BLOCK = 512  # rows that are taken at once
    HALF = 32
    LIMB = 30
    LOW_LIMB = (1 << 30) - 1
    LOW_24 = (1 << 24) - 1

cdef enum:  # as in `Op` of `kernels/folding.py`
    ROWS, FILLED, SUM, SUM_HALVES, SUM_FLOATS, SUM_FLOATS_HALVES, PACKED, PACKED_FLOATS
    SQUARE, SQUARE_LIMBS, SQUARE_FLOATS, SQUARE_FLOATS_LIMBS
    LEAST, LARGEST, FIRST, LAST

ctypedef struct Planned:
    int op
    Py_ssize_t word
    const int64_t *whole
    const double *floats
    const uint8_t *filled
    int64_t centre
    int shift


cdef inline bint there(const Planned *plan, Py_ssize_t i) noexcept nogil:
    """Return whether a row holds a value."""
    if plan.filled != NULL and plan.filled[i] == 0:
        return False
    return plan.floats == NULL or plan.floats[i] == plan.floats[i]


cdef inline void add(int64_t *word, uint64_t value) noexcept nogil:
    word[0] = <int64_t> (<uint64_t> word[0] + value)
