"""Numbers that become addresses: clamped in the kernel that uses them, whatever they are.

A NaN or an infinity made an integer may be any integer, and an address from it ends the process.
"""

import numpy as np

from errant_gust.core.kernels.compiler import inline

F0 = np.float32(0.0)
VAST = np.float32(1e9)
"""Cells away from which a place is no place in any grid."""


@inline
def within(p, low, top):
    """Clamped to low … top; what is not a number becomes `low`."""
    p = p if p > low else low
    return p if p < top else top


@inline
def cell(p, n):
    """The cell that a coordinate is in, of 0 … n − 1; what is not a number is in the first."""
    return np.int64(within(p, F0, np.float32(n - 1)))


@inline
def inner(p, n):
    """The cell that a coordinate is in, of 1 … n − 2; what is not a number is in the first."""
    return np.int64(within(p, np.float32(1), np.float32(n - 2)))


@inline
def sane(x, y, z):
    """Whether all are numbers, and not beyond any grid."""
    return abs(x) < VAST and abs(y) < VAST and abs(z) < VAST
