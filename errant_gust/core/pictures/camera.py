"""From where a picture is taken."""

from collections.abc import Mapping
from dataclasses import dataclass
from itertools import product
from math import radians, tan
from typing import Any

import numpy as np

from errant_gust.core.errors import GustError
from errant_gust.core.fields.samples import Array
from errant_gust.core.pictures.light import toward

FILM = 36.0
"""Width in mm of what a lens throws its picture on."""
LENS = 60.0
FILLS = 0.84
"""Share of the picture that what is looked at takes up."""
LENSES = (4.0, 2000.0)
VIEW_ANGLE = 38.0
"""Degrees from the lower to the upper border of the view."""
Box = tuple[Array, Array]


@dataclass(frozen=True)
class View:
    """From which side what is there is seen: `azimuth` degrees round (0 from +x, −90 from the front), `height` up."""

    azimuth: float = -60.0
    height: float = 13.0


USUAL, FRONT = View(), View(-90.0, 0.0)


@dataclass(frozen=True)
class Camera:
    """An eye that looks at a place, both (3,) in m, through a lens of so many mm on 36 mm of film; z is up."""

    eye: tuple[float, float, float]
    target: tuple[float, float, float]
    lens: float = LENS

    def __post_init__(self) -> None:
        if not np.isfinite([*self.eye, *self.target, self.lens]).all():
            raise GustError("the camera stands nowhere", where="camera", fix="right would be numbers in metres")
        if not LENSES[0] <= self.lens <= LENSES[1]:
            raise GustError(f"{self.lens:g} mm is no lens", where="camera", fix=f"{LENSES[0]:g} to {LENSES[1]:g} mm")

    @property
    def axes(self) -> tuple[Array, Array, Array]:
        """The way ahead, to the right and up, unit vectors (3,); where eye and target are one it looks along y."""
        ahead = np.subtract(self.target, self.eye)
        over = float(np.linalg.norm(ahead))
        ahead = ahead / over if over > 0 else np.array([0.0, 1.0, 0.0])
        right = np.cross(ahead, [0.0, 0.0, 1.0])
        if np.linalg.norm(right) < 1e-6:  # straight down or up
            right = np.array([1.0, 0.0, 0.0])
        right = right / np.linalg.norm(right)
        return ahead, right, np.cross(right, ahead)

    def numbers(self, size: tuple[int, int]) -> Array:
        """As kernels take it, (12,): the eye, the way ahead, and those from the middle to the right and upper border
        of a picture of width × height pixels, at a distance of 1."""
        ahead, right, up = self.axes
        wide = 0.5 * FILM / self.lens
        return np.concatenate([self.eye, ahead, wide * right, wide * size[1] / size[0] * up]).astype(np.float32)

    @classmethod
    def around(cls, box: Box, view: View, size: tuple[int, int], lens: float = LENS) -> "Camera":
        """One that has a box (lower and upper corner in m) whole in a picture of width × height pixels, from a
        side."""
        corners = np.array(list(product(*zip(*box, strict=True))), np.float64)
        way, middle = np.array(toward(view.azimuth, view.height)), 0.5 * np.add(*box)
        ahead, right, up = cls(tuple(middle + way), tuple(middle), lens).axes
        x, y, z = ((corners - middle) @ axis for axis in (right, up, ahead))
        far, moved = 0.0, []
        for across, half in ((x, 0.5 * FILM / lens), (y, 0.5 * FILM / lens * size[1] / size[0])):
            # the borders that the outermost corners on either side just touch meet in the eye
            k = FILLS * half
            high, low = float((across - k * z).max()), float((across + k * z).min())
            far = max(far, 0.5 * (high - low) / k)
            moved.append(0.5 * (high + low))
        target = middle + moved[0] * right + moved[1] * up
        return cls(tuple(target - max(far, 1e-6) * ahead), tuple(target), lens)

    @classmethod
    def at(cls, viewpoint: Mapping[str, Any], size: tuple[int, int]) -> "Camera":
        """One that stands where a saved viewpoint does, with the angle of the view. One without perspective is seen
        from as far away as lenses go."""
        wide = tan(radians(VIEW_ANGLE / 2)) * size[0] / size[1]
        target, lens = np.array(viewpoint["target"], np.float64), 0.5 * FILM / wide
        times = LENSES[1] / lens if viewpoint.get("parallel") else 1.0
        x, y, z = target + times * (np.array(viewpoint["position"], np.float64) - target)
        a, b, c = viewpoint["target"]
        return cls((float(x), float(y), float(z)), (a, b, c), min(lens * times, LENSES[1]))
