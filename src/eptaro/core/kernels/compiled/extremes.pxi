# The least or largest of windows that slide, for `kernels/order_statistics.py`.
#
# A window keeps the places that may still win: a value that comes later and is at least as good
# puts those before it out, so that what is kept is in order and the first of it wins.

def window_extremes(const Value[::1] values, const int64_t[::1] lo, const int64_t[::1] hi,
                    bint largest, Value[::1] found):
    """Put the least (or largest) value of each window into `found`; see
    `kernels/order_statistics.py`.
    """
    cdef Py_ssize_t size = values.shape[0], n = lo.shape[0], i, first = 0, end = 0, right = 0
    cdef bint inside = True, onward = True
    cdef int64_t[::1] kept = np.empty(size + 1, np.int64)
    cdef Value value
    if hi.shape[0] != n or found.shape[0] != n:
        raise ValueError(f"{hi.shape[0]} ends and {found.shape[0]} answers for {n} begins")
    with nogil:
        for i in range(n):
            if not 0 <= lo[i] <= hi[i] <= size:
                inside = False
                break
            if i and (lo[i] < lo[i - 1] or hi[i] < hi[i - 1]):
                onward = False
                break
            while right < hi[i]:
                value = values[right]
                while end > first and (values[kept[end - 1]] <= value if largest
                                       else values[kept[end - 1]] >= value):
                    end -= 1
                kept[end] = right
                end += 1
                right += 1
            while first < end and kept[first] < lo[i]:
                first += 1
            if first < end:
                found[i] = values[kept[first]]
    if not inside:
        raise IndexError(f"a window lies outside {size} values")
    if not onward:
        raise ValueError("windows go back")
