"""What a `turn` in degrees means."""

from typing import Any

import numpy as np
from numpy.typing import NDArray

Array = NDArray[Any]


def rotation(turn: tuple[float, float, float]) -> Array:
    """Rotation matrix for degrees about x, then y, then z. (3, 3)."""
    x, y, z = np.radians(turn)
    cx, sx, cy, sy, cz, sz = np.cos(x), np.sin(x), np.cos(y), np.sin(y), np.cos(z), np.sin(z)
    about_x = np.array([[1, 0, 0], [0, cx, -sx], [0, sx, cx]])
    about_y = np.array([[cy, 0, sy], [0, 1, 0], [-sy, 0, cy]])
    about_z = np.array([[cz, -sz, 0], [sz, cz, 0], [0, 0, 1]])
    turned: Array = about_z @ about_y @ about_x
    return turned


def turn_of(axes: Array) -> tuple[float, float, float]:
    """Degrees about x, then y, then z of a rotation matrix. `axes` (3, 3)."""
    y = float(np.degrees(np.arcsin(np.clip(-axes[2, 0], -1, 1))))
    x = float(np.degrees(np.arctan2(axes[2, 1], axes[2, 2])))
    z = float(np.degrees(np.arctan2(axes[1, 0], axes[0, 0])))
    turn = (x, y, z)
    return (0.0, 0.0, 0.0) if max(map(abs, turn)) < 1e-9 else turn
