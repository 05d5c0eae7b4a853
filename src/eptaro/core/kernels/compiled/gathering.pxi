# Answers gathered from cells, for `kernels/range_sums.py`.
#
# Spans mostly come in the order of their cells, each where the last one ended: a search goes on
# from there in steps that double, so that spans in order take one pass over the cells.

cdef inline Py_ssize_t _from(const int64_t *keys, Py_ssize_t size, Py_ssize_t low,
                             int64_t key) noexcept nogil:
    """Return how many of the keys are less than one, looking from a place on."""
    cdef Py_ssize_t high = low, step = 1, middle
    if low and keys[low - 1] >= key:
        low, high = 0, low - 1  # it is less than the one before
    else:
        while high < size and keys[high] < key:
            low = high + 1
            high = high + step if high + step < size else size
            step *= 2
    while low < high:
        middle = low + (high - low) // 2
        if keys[middle] < key:
            low = middle + 1
        else:
            high = middle
    return low


cdef inline int64_t _within(int64_t day, int64_t begin, int64_t width) noexcept nogil:
    cdef int64_t place = <int64_t> (<uint64_t> day - <uint64_t> begin)
    return 0 if place < 0 else width if place > width else place


cdef inline Py_ssize_t _put_bounds(const int64_t *keys, Py_ssize_t size, Py_ssize_t at, int64_t before,
                            int64_t first, int64_t last, int64_t begin, int64_t width,
                            int64_t *lo, int64_t *hi) noexcept nogil:
    """Put the cells of a span of the group whose cells come after `before` others; return where
    the next search begins, which is where this one ended.
    """
    cdef int64_t start = before + _within(first, begin, width)
    cdef int64_t stop = before + _within(<int64_t> (<uint64_t> last + 1), begin, width)
    stop = stop if stop > start else start
    if size:
        start = _from(keys, size, at, start)
        stop = at = _from(keys, size, start, stop)
    lo[0], hi[0] = start, stop
    return at


def bounds(const int64_t[::1] keys, const int64_t[::1] group, const int64_t[::1] first,
           const int64_t[::1] last, int64_t begin, int64_t width, int64_t[::1] lo,
           int64_t[::1] hi):
    """Put the cells of each span into `lo` and `hi`; see `kernels/range_sums.py`."""
    cdef Py_ssize_t n = group.shape[0], size = keys.shape[0], i, at = 0
    cdef const int64_t *cells = &keys[0] if size else NULL
    cdef int64_t before
    if not first.shape[0] == last.shape[0] == lo.shape[0] == hi.shape[0] == n:
        raise ValueError(f"{first.shape[0]} and {last.shape[0]} days for {n} groups")
    with nogil:
        for i in range(n):
            before = <int64_t> (<uint64_t> group[i] * <uint64_t> width)
            at = _put_bounds(cells, size, at, before, first[i], last[i], begin, width, &lo[i], &hi[i])


def bounds_of_all(const int64_t[::1] keys, int64_t group, const int64_t[::1] first,
                  const int64_t[::1] last, int64_t begin, int64_t width, int64_t[:, ::1] lo,
                  int64_t[:, ::1] hi):
    """Put the cells of the same spans of one group after the other into `lo` and `hi`; see
    `kernels/range_sums.py`.
    """
    cdef Py_ssize_t groups = lo.shape[0], spans = first.shape[0], size = keys.shape[0], g, i
    cdef Py_ssize_t at = 0
    cdef const int64_t *cells = &keys[0] if size else NULL
    cdef int64_t before
    if not last.shape[0] == lo.shape[1] == hi.shape[1] == spans or hi.shape[0] != groups:
        raise ValueError(f"{last.shape[0]} last days and {lo.shape[1]} places for {spans} spans")
    with nogil:
        for g in range(groups):
            before = <int64_t> ((<uint64_t> group + <uint64_t> g) * <uint64_t> width)
            for i in range(spans):
                at = _put_bounds(cells, size, at, before, first[i], last[i], begin, width, &lo[g, i],
                          &hi[g, i])


def edges_of_all(const int64_t[::1] keys, int64_t group, const int64_t[::1] first, int64_t begin,
                 int64_t width, int64_t[:, ::1] edges):
    """Put the first cell of the same spans of one group after the other into `edges`; see
    `kernels/range_sums.py`.
    """
    cdef Py_ssize_t groups = edges.shape[0], spans = first.shape[0], size = keys.shape[0], g, i
    cdef Py_ssize_t at = 0
    cdef int64_t before, start
    if edges.shape[1] != spans:
        raise ValueError(f"{edges.shape[1]} places for {spans} spans")
    with nogil:
        for g in range(groups):
            before = <int64_t> ((<uint64_t> group + <uint64_t> g) * <uint64_t> width)
            for i in range(spans):
                start = before + _within(first[i], begin, width)
                if at < size and keys[at] < start:  # else the span before has no cells: no search
                    at = _from(&keys[0], size, at + 1, start)
                edges[g, i] = at


cdef _outside(Py_ssize_t size):
    raise IndexError(f"places lie outside {size} running sums")


def between(const int64_t[::1] whole, const int64_t[::1] lo, const int64_t[::1] hi,
            int64_t[::1] found):
    """Put what running sums grow by into `found`; see `kernels/range_sums.py`."""
    cdef Py_ssize_t n = lo.shape[0], i
    cdef uint64_t size = whole.shape[0]
    cdef bint inside = True
    if not hi.shape[0] == found.shape[0] == n:
        raise ValueError(f"{hi.shape[0]} ends and {found.shape[0]} answers for {n} begins")
    with nogil:
        for i in range(n):
            if <uint64_t> lo[i] >= size or <uint64_t> hi[i] >= size:
                inside = False
                break
            found[i] = <int64_t> (<uint64_t> whole[hi[i]] - <uint64_t> whole[lo[i]])
    if not inside:
        _outside(size)


def between_floats(const int64_t[::1] whole, const double[::1] rest, const int64_t[::1] lo,
                   const int64_t[::1] hi, double[::1] found):
    """Put what running sums of floats grow by into `found`; see `kernels/range_sums.py`."""
    cdef Py_ssize_t n = lo.shape[0], i
    cdef uint64_t size = whole.shape[0]
    cdef bint inside = True
    if not hi.shape[0] == found.shape[0] == n or rest.shape[0] != whole.shape[0]:
        raise ValueError(f"{hi.shape[0]} ends and {found.shape[0]} answers for {n} begins")
    with nogil:
        for i in range(n):
            if <uint64_t> lo[i] >= size or <uint64_t> hi[i] >= size:
                inside = False
                break
            found[i] = (<double> <int64_t> (<uint64_t> whole[hi[i]] - <uint64_t> whole[lo[i]])
                        + (rest[hi[i]] - rest[lo[i]]))
    if not inside:
        _outside(size)


def scatter(const Value[::1] cells, const int64_t[::1] target, Value[::1] found):
    """Add cells to others; see `kernels/range_sums.py`."""
    cdef Py_ssize_t n = cells.shape[0], i
    cdef uint64_t size = found.shape[0]
    cdef bint inside = True
    if target.shape[0] != n:
        raise ValueError(f"{target.shape[0]} targets for {n} cells")
    with nogil:
        for i in range(n):
            if target[i] < 0:
                continue
            if <uint64_t> target[i] >= size:
                inside = False
                break
            if Value is int64_t:
                found[target[i]] = <int64_t> (<uint64_t> found[target[i]] + <uint64_t> cells[i])
            else:
                found[target[i]] += cells[i]
    if not inside:
        raise IndexError(f"targets lie outside {size} cells")
