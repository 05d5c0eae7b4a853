"""Planes that add up, a block of rows at a time: counts, sums and squares.

Whole numbers are added without a sign, where wrapping is defined; the caller chose plans whose
sums fit. Floats from 2**62 on are not summed, and numbers from 2**44 on not squared.
"""

from libc.math cimport fabs, rint
from libc.stdint cimport int64_t, uint8_t, uint64_t
from libc.string cimport memcpy

from eptaro.core.kernels.compiled.planned cimport (
    BLOCK, HALF, LIMB, LOW_24, LOW_LIMB, SQUARE, SQUARE_FLOATS, SUM, SUM_FLOATS_HALVES, Planned,
    add, there,
)


cdef inline double _nearest(double value) noexcept nogil:
    """Return the nearest whole number, of two the even one, as IEEE 754 has it.

    Below 2**51 a float that is added and taken away again leaves no place for a fraction; that
    is quicker than a call.
    """
    cdef double shift = 6755399441055744.0  # 1.5 * 2**52
    if -2251799813685248.0 < value < 2251799813685248.0:
        return (value + shift) - shift
    return rint(value)


cdef inline double _high(double value) noexcept nogil:
    """Return the upper 26 bits of a float, as `beside_square` in NumPy needs them."""
    cdef double shifted = 134217729.0 * value  # 2**27 + 1
    return shifted - (shifted - value)


cdef inline void count(const Planned *plan, const int64_t *at, int64_t *cells,
                 Py_ssize_t n) noexcept nogil:
    cdef Py_ssize_t j
    for j in range(n):
        add(cells + at[j] + plan.word, 1)


cdef inline void fill(const Planned *plan, const int64_t *at, int64_t *cells, Py_ssize_t start,
                Py_ssize_t n) noexcept nogil:
    cdef Py_ssize_t j
    for j in range(n):
        add(cells + at[j] + plan.word, there(plan, start + j))


cdef inline void sum(const Planned *plan, const int64_t *at, int64_t *cells, Py_ssize_t start,
               Py_ssize_t n) noexcept nogil:
    cdef Py_ssize_t j
    cdef int64_t value
    cdef int64_t *word
    for j in range(n):
        if plan.filled != NULL and plan.filled[start + j] == 0:
            continue
        value = plan.whole[start + j]
        word = cells + at[j] + plan.word
        if plan.op == SUM:
            add(word, <uint64_t> value)
        else:
            add(word, <uint64_t> value & ((<uint64_t> 1 << HALF) - 1))
            add(word + 1, <uint64_t> (value >> HALF))


cdef inline bint _parted(const Planned *plan, Py_ssize_t start, Py_ssize_t n, int64_t *whole,
                  double *rest) noexcept nogil:
    """Part the floats of a block into nearest whole numbers and what is left, zero for blanks;
    return whether all were within 2**62.

    Below 2**51 a float that 1.5 * 2**52 is added to has its nearest whole number, of two the
    even one, in its lowest bits; all of a block are then parted without a branch.
    """
    cdef double values[BLOCK]
    cdef double shift = 6755399441055744.0  # 1.5 * 2**52
    cdef double value, shifted, largest = 0.0
    cdef const double *floats = plan.floats + start
    cdef const uint8_t *filled = plan.filled
    cdef int64_t bits, base
    cdef Py_ssize_t j
    memcpy(&base, &shift, 8)
    if filled != NULL:
        for j in range(n):
            values[j] = floats[j] if filled[start + j] and floats[j] == floats[j] else 0.0
    else:
        for j in range(n):
            values[j] = floats[j] if floats[j] == floats[j] else 0.0
    for j in range(n):
        value = fabs(values[j])
        largest = value if value > largest else largest
    if largest < 2251799813685248.0:
        for j in range(n):
            shifted = values[j] + shift
            memcpy(&bits, &shifted, 8)
            whole[j] = bits - base
            rest[j] = values[j] - (shifted - shift)
        return True
    if largest >= 4611686018427387904.0:
        return False
    for j in range(n):
        value = rint(values[j])
        whole[j] = <int64_t> value
        rest[j] = values[j] - value
    return True


cdef inline bint sum_floats(const Planned *plan, const int64_t *at, int64_t *cells, Py_ssize_t start,
                      Py_ssize_t n) noexcept nogil:
    """Return whether all values were within 2**62."""
    cdef int64_t whole[BLOCK]
    cdef double rest[BLOCK]
    cdef Py_ssize_t j
    cdef bint halves = plan.op == SUM_FLOATS_HALVES
    if not _parted(plan, start, n, whole, rest):
        return False
    cells += plan.word
    if not halves:
        for j in range(n):
            add(cells + at[j], <uint64_t> whole[j])
            (<double *> (cells + at[j] + 1))[0] += rest[j]
        return True
    for j in range(n):
        add(cells + at[j], <uint64_t> whole[j] & ((<uint64_t> 1 << HALF) - 1))
        add(cells + at[j] + 1, <uint64_t> (whole[j] >> HALF))
        (<double *> (cells + at[j] + 2))[0] += rest[j]
    return True


cdef inline void packed(const Planned *plan, const int64_t *at, int64_t *cells, Py_ssize_t start,
                        Py_ssize_t n) noexcept nogil:
    cdef Py_ssize_t j
    cdef int shift = plan.shift
    cdef const int64_t *whole = plan.whole + start
    cells += plan.word
    if plan.filled == NULL:
        for j in range(n):
            add(cells + at[j], (<uint64_t> whole[j] << shift) + 1)
        return
    for j in range(n):
        add(cells + at[j], (<uint64_t> whole[j] << shift if plan.filled[start + j] else 0) + 1)


cdef inline bint packed_floats(const Planned *plan, const int64_t *at, int64_t *cells,
                               Py_ssize_t start, Py_ssize_t n) noexcept nogil:
    """Return whether all values were within 2**51, where a float is parted as in `_parted`."""
    cdef const double *floats = plan.floats + start
    cdef const uint8_t *filled = plan.filled
    cdef double near = 6755399441055744.0  # 1.5 * 2**52
    cdef double value, shifted, largest = 0.0
    cdef int64_t bits, base
    cdef int64_t *word
    cdef int shift = plan.shift
    cdef Py_ssize_t j
    memcpy(&base, &near, 8)
    for j in range(n):
        value = fabs(floats[j])
        largest = value if value > largest else largest
    if largest >= 2251799813685248.0:
        return False
    cells += plan.word
    for j in range(n):
        value = floats[j]
        if value != value or (filled != NULL and not filled[start + j]):
            value = 0.0
        shifted = value + near
        memcpy(&bits, &shifted, 8)
        word = cells + at[j]
        add(word, (<uint64_t> (bits - base) << shift) + 1)
        (<double *> (word + 1))[0] += value - (shifted - near)
    return True


cdef inline void _add_limbs(int64_t *word, uint64_t size, int64_t extra) noexcept nogil:
    """Add the square of a number below 2**44, and what is below 2**46, to three limbs.

    x = a * 2**24 + b, so x**2 = a**2 * 2**48 + a*b * 2**25 + b**2; each is cut at 2**30 and
    2**60.
    """
    cdef uint64_t a = size >> 24, b = size & LOW_24
    cdef uint64_t aa = a * a, ab = a * b, bb = b * b
    add(word, (bb & <uint64_t> LOW_LIMB) + ((ab & 31) << 25) + (<uint64_t> extra & <uint64_t> LOW_LIMB))
    add(word + 1, (bb >> LIMB) + ((ab >> 5) & <uint64_t> LOW_LIMB) + ((aa & 4095) << 18)
         + <uint64_t> (extra >> LIMB))
    add(word + 2, (ab >> 35) + (aa >> 12))


cdef inline bint square(const Planned *plan, const int64_t *at, int64_t *cells, Py_ssize_t start,
                  Py_ssize_t n) noexcept nogil:
    """Return whether all values were within 2**44."""
    cdef Py_ssize_t j
    cdef int64_t away, most = <int64_t> 17592186044416.0
    cdef int64_t *word
    for j in range(n):
        if plan.filled != NULL and plan.filled[start + j] == 0:
            continue
        away = plan.whole[start + j]
        if not -most < away < most:
            return False
        word = cells + at[j] + plan.word
        if plan.op == SQUARE:
            add(word, <uint64_t> away * <uint64_t> away)
        else:
            _add_limbs(word, <uint64_t> (-away if away < 0 else away), 0)
    return True


cdef inline bint square_floats(const Planned *plan, const int64_t *at, int64_t *cells,
                         Py_ssize_t start, Py_ssize_t n) noexcept nogil:
    """Return whether all values were within 2**44 of the centre."""
    cdef Py_ssize_t j
    cdef double value, nearest, left, away, product, error, extra, rest
    cdef double high, low, left_high, left_low
    cdef int64_t whole
    cdef int64_t *word
    for j in range(n):
        if not there(plan, start + j):
            continue
        value = plan.floats[start + j]
        nearest = _nearest(value)
        left, away = value - nearest, nearest - <double> plan.centre
        if not -17592186044416.0 < away < 17592186044416.0:
            return False
        product = 2 * away * left
        high, left_high = _high(2 * away), _high(left)
        low, left_low = 2 * away - high, left - left_high
        error = ((high * left_high - product) + high * left_low + low * left_high) + low * left_low
        extra = _nearest(product)
        rest = (product - extra) + (error + left * left)
        whole = <int64_t> away
        word = cells + at[j] + plan.word
        if plan.op == SQUARE_FLOATS:
            add(word, <uint64_t> whole * <uint64_t> whole + <uint64_t> <int64_t> extra)
            (<double *> (word + 1))[0] += rest
        else:
            _add_limbs(word, <uint64_t> (-whole if whole < 0 else whole), <int64_t> extra)
            (<double *> (word + 3))[0] += rest
    return True
