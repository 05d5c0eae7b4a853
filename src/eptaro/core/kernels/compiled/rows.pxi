# Where the rows of text end, for `kernels/reading.py`.


def end_of_rows(const uint8_t[::1] text, uint8_t delimiter):
    """Return where the last row that ends in some text does; see `kernels/reading.py`."""
    cdef Py_ssize_t n = text.shape[0], at = 0, end
    cdef const uint8_t* begin
    cdef const uint8_t* found
    cdef uint8_t before
    cdef bint inside = False
    if not n:
        return 0
    with nogil:
        begin = &text[0]
        while at < n:
            found = <const uint8_t*> memchr(begin + at, b'"', n - at)
            if found == NULL:
                break
            if not inside and found > begin:
                before = (found - 1)[0]
                if before != delimiter and before != b'\n' and before != b'\r' and before != b'"':
                    with gil:
                        return -1
            inside = not inside
            at = found - begin + 1
        for end in range(n, 0, -1):
            if begin[end - 1] == b'"':
                inside = not inside
            elif begin[end - 1] == b'\n' and not inside:
                break
        else:
            end = 0
    return end
