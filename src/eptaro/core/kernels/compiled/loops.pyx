# cython: language_level=3, boundscheck=False, wraparound=False, cdivision=True
# cython: initializedcheck=False
"""The loops in C, one module: what Cython adds to each is compiled once."""

import numpy as np

from libc.math cimport fabs, rint
from libc.stdint cimport int16_t, int32_t, int64_t, uint8_t, uint16_t, uint32_t, uint64_t
from libc.string cimport memchr, memcpy, memset

ctypedef fused Value:
    int64_t
    double

ctypedef fused Slot:
    int32_t
    int64_t

include "order.pxi"
include "parting.pxi"
include "marking.pxi"
include "keeping.pxi"
include "gathering.pxi"
include "folding.pxi"
include "direct.pxi"
include "extremes.pxi"
include "sliding.pxi"
include "coding.pxi"
include "numbers.pxi"
include "stamps.pxi"
include "reading.pxi"
include "rows.pxi"
