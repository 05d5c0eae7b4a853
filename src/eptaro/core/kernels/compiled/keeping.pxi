# Rows that a mask keeps, one after the other, for `kernels/reading.py`.
#
# Each value is written to the next place that is free, which is left only where it is kept: no
# branch that the processor could guess wrong.

ctypedef fused word:
    uint8_t
    uint16_t
    uint32_t
    uint64_t


def keep(const word[::1] values, const uint8_t[::1] mask, word[::1] kept):
    """Put the values that a mask keeps into `kept`; see `kernels/reading.py`."""
    cdef Py_ssize_t n = values.shape[0], room = kept.shape[0], i, at = 0
    if mask.shape[0] != n:
        raise ValueError(f"a mask of {mask.shape[0]} for {n} values")
    with nogil:
        for i in range(n):
            if at == room:
                break
            kept[at] = values[i]
            at += mask[i] != 0
    if at != room:
        raise ValueError(f"the mask keeps {at} rows, not {room}")


def kept_places(const uint8_t[::1] mask, int64_t first, int64_t[::1] places):
    """Put the places that a mask keeps into `places`; see `kernels/reading.py`."""
    cdef Py_ssize_t n = mask.shape[0], room = places.shape[0], i, at = 0
    with nogil:
        for i in range(n):
            if at == room:
                break
            places[at] = first + i
            at += mask[i] != 0
    if at != room:
        raise ValueError(f"the mask keeps {at} rows, not {room}")
