"""Random numbers by counter: a function of (seed, id, use), never of order, thread or history."""

from typing import Any

import numpy as np
from numpy.typing import NDArray

Array = NDArray[Any]
_A, _B, _C = np.uint64(0x9E3779B97F4A7C15), np.uint64(0xBF58476D1CE4E5B9), np.uint64(0x94D049BB133111EB)


def uniform(seed: int, ids: Array, use: int) -> Array:
    """float64 in [0, 1) for each id (SplitMix64 finaliser; Steele, Lea, Flood 2014)."""
    with np.errstate(over="ignore"):
        z = ids.astype(np.uint64) + np.uint64(seed) * _A + np.uint64(use + 1) * _B
        z = (z ^ (z >> np.uint64(30))) * _B
        z = (z ^ (z >> np.uint64(27))) * _C
        z = z ^ (z >> np.uint64(31))
        z = (z + _A) * _B
        z = z ^ (z >> np.uint64(29))
    return (z >> np.uint64(11)).astype(np.float64) * (1.0 / (1 << 53))


def unit_vectors(seed: int, ids: Array, use: int) -> Array:
    """float32 (3, n): a direction for each id, evenly over the sphere. Takes two uses."""
    z = 2 * uniform(seed, ids, use) - 1
    turn = 2 * np.pi * uniform(seed, ids, use + 1)
    r = np.sqrt(np.maximum(1 - z * z, 0))
    return np.stack([r * np.cos(turn), r * np.sin(turn), z]).astype(np.float32)
