# Whole numbers that lie close together as codes, for `kernels/occurring.py`.
#
# A number below the least is a very large one without a sign, so that one comparison checks both
# ends.

def mark(const int64_t[::1] values, int64_t least, uint8_t[::1] seen):
    """Mark each value at its distance from the least; see `kernels/occurring.py`."""
    cdef Py_ssize_t n = values.shape[0], i
    cdef uint64_t begin = <uint64_t> least, width = seen.shape[0], place
    cdef bint inside = True
    with nogil:
        for i in range(n):
            place = <uint64_t> values[i] - begin
            if place >= width:
                inside = False
                break
            seen[<Py_ssize_t> place] = 1
    if not inside:
        raise IndexError(f"values lie outside {least}..{least + seen.shape[0] - 1}")


def numbered(const int64_t[::1] values, int64_t least, const int32_t[::1] numbers,
             int32_t[::1] codes):
    """Put the number of each value into `codes`; see `kernels/occurring.py`."""
    cdef Py_ssize_t n = values.shape[0], i
    cdef uint64_t begin = <uint64_t> least, width = numbers.shape[0], place
    cdef bint inside = True
    if codes.shape[0] != n:
        raise ValueError(f"{codes.shape[0]} codes for {n} values")
    with nogil:
        for i in range(n):
            place = <uint64_t> values[i] - begin
            if place >= width:
                inside = False
                break
            codes[i] = numbers[<Py_ssize_t> place]
    if not inside:
        raise IndexError(f"values lie outside {least}..{least + numbers.shape[0] - 1}")


cdef _check_pairs(Py_ssize_t n, Py_ssize_t beside, Py_ssize_t height, Py_ssize_t width,
              Py_ssize_t room):
    if n != beside:
        raise ValueError(f"{n} numbers beside {beside}")
    if height < 0 or width < 0 or (width and height > room // width) or height * width != room:
        raise ValueError(f"{height} times {width} pairs have no room in {room}")


def mark_pairs(const int32_t[::1] one, const int32_t[::1] two, Py_ssize_t height,
               Py_ssize_t width, uint8_t[::1] seen):
    """Mark each pair of numbers; see `kernels/occurring.py`."""
    cdef Py_ssize_t n = one.shape[0], i
    cdef uint64_t high = height, wide = width
    cdef bint inside = True
    _check_pairs(n, two.shape[0], height, width, seen.shape[0])
    with nogil:
        for i in range(n):
            if <uint64_t> one[i] >= high or <uint64_t> two[i] >= wide:
                inside = False
                break
            seen[<Py_ssize_t> one[i] * width + two[i]] = 1
    if not inside:
        raise IndexError(f"pairs lie outside {height} times {width}")


def number_pairs(const int32_t[::1] one, const int32_t[::1] two, Py_ssize_t height,
                 Py_ssize_t width, const int32_t[::1] numbers, int32_t[::1] codes):
    """Put the number of each pair into `codes`; see `kernels/occurring.py`."""
    cdef Py_ssize_t n = one.shape[0], i
    cdef uint64_t high = height, wide = width
    cdef bint inside = True
    _check_pairs(n, two.shape[0], height, width, numbers.shape[0])
    if codes.shape[0] != n:
        raise ValueError(f"{codes.shape[0]} codes for {n} pairs")
    with nogil:
        for i in range(n):
            if <uint64_t> one[i] >= high or <uint64_t> two[i] >= wide:
                inside = False
                break
            codes[i] = numbers[<Py_ssize_t> one[i] * width + two[i]]
    if not inside:
        raise IndexError(f"pairs lie outside {height} times {width}")
