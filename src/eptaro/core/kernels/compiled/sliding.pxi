# Statistics of windows that slide over values, for `kernels/order_statistics.py`.
#
# A window keeps what it holds while it moves: of each number how often it occurs, and for ranks a
# tree of sums (P. Fenwick, "A new data structure for cumulative frequency tables", 1994), in which
# the k-th smallest is found by halving.

cdef _check_windows(const int32_t[::1] numbers, const int64_t[::1] lo, const int64_t[::1] hi,
              int64_t bound):
    """Raise `IndexError` for numbers or windows that do not exist, `ValueError` for windows that
    go back.
    """
    cdef Py_ssize_t i, size = numbers.shape[0]
    cdef bint inside = True, onward = True
    if hi.shape[0] != lo.shape[0]:
        raise ValueError(f"{lo.shape[0]} begins and {hi.shape[0]} ends")
    with nogil:
        for i in range(size):
            inside = inside & (0 <= numbers[i] < bound)
        for i in range(lo.shape[0]):
            inside = inside & (0 <= lo[i] <= hi[i] <= size)
            onward = onward & (i == 0 or (lo[i] >= lo[i - 1] and hi[i] >= hi[i - 1]))
    if not inside:
        raise IndexError(f"a number lies outside 0..{bound - 1}, or a window outside {size} values")
    if not onward:
        raise ValueError("windows go back")


cdef inline void _add(int32_t *tree, int64_t size, int64_t at, int32_t count) noexcept nogil:
    at += 1
    while at <= size:
        tree[at] += count
        at += at & -at


cdef inline int64_t _kth(const int32_t *tree, int64_t size, int64_t k) noexcept nogil:
    """Return the number of which k others are smaller or stand before it."""
    cdef int64_t at = 0, step = size
    while step:
        if at + step <= size and tree[at + step] <= k:
            at += step
            k -= tree[at]
        step >>= 1
    return at


def window_neighbours(const int32_t[::1] ranks, const int64_t[::1] lo, const int64_t[::1] hi,
                      const int64_t[::1] below, const int64_t[::1] above, int64_t bound,
                      int64_t[:, ::1] found):
    """Put two ranks of each window into `found`; see `kernels/order_statistics.py`."""
    cdef Py_ssize_t n = lo.shape[0], i
    cdef int64_t size = 1, left = 0, right = 0
    cdef bint there = True
    _check_windows(ranks, lo, hi, bound)
    if below.shape[0] != n or above.shape[0] != n or found.shape[0] != 2 or found.shape[1] != n:
        raise ValueError(f"{below.shape[0]} and {above.shape[0]} numbers for {n} windows")
    while size < bound:
        size *= 2
    cdef int32_t[::1] tree = np.zeros(size + 1, np.int32)
    with nogil:
        for i in range(n):
            while right < hi[i]:
                _add(&tree[0], size, ranks[right], 1)
                right += 1
            while left < lo[i]:
                _add(&tree[0], size, ranks[left], -1)
                left += 1
            if hi[i] == lo[i]:
                continue
            if not (0 <= below[i] < hi[i] - lo[i] and 0 <= above[i] < hi[i] - lo[i]):
                there = False
                break
            found[0, i] = _kth(&tree[0], size, below[i])
            found[1, i] = found[0, i] if above[i] == below[i] else _kth(&tree[0], size, above[i])
    if not there:
        raise IndexError("a window has not so many values")


def window_distinct(const int32_t[::1] codes, const int64_t[::1] lo, const int64_t[::1] hi,
                    int64_t bound, int64_t[::1] found):
    """Put the number of different codes of each window into `found`; see
    `kernels/order_statistics.py`.
    """
    cdef Py_ssize_t n = lo.shape[0], i
    cdef int64_t left = 0, right = 0, count = 0
    cdef int32_t[::1] held
    _check_windows(codes, lo, hi, bound)
    if found.shape[0] != n:
        raise ValueError(f"{found.shape[0]} answers for {n} windows")
    held = np.zeros(bound, np.int32)
    with nogil:
        for i in range(n):
            while right < hi[i]:
                count += held[codes[right]] == 0
                held[codes[right]] += 1
                right += 1
            while left < lo[i]:
                held[codes[left]] -= 1
                count -= held[codes[left]] == 0
                left += 1
            found[i] = count
