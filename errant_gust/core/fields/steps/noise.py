"""Noise and curl noise on four bases: gradient, simplex, cells, waves."""

from typing import Any, Literal

import numpy as np

from errant_gust.core.fields.extent import least_over
from errant_gust.core.fields.samples import Array, At, Kind, Samples, curl_of, without_trace
from errant_gust.core.fields.step import FieldStep, VectorStart
from errant_gust.core.geometry.placed import Framed
from errant_gust.core.kernels import noise as kernels
from errant_gust.core.kernels import patterns
from errant_gust.core.study.parameters import Vec3, param

# Measured (tests/core/test_noise.py repeats it on fewer samples): one octave of any basis lies in [-1, 1] as it is
# (largest found: gradient 0.95, simplex 0.88, waves 0.995, cells 1.00). SLOPE is the root mean square of one
# component of
# the gradient, per lattice cell.
BOUND = 1.0
SLOPE = {
    "gradient": 0.476, "simplex": 0.611, "waves": 0.740,
    "nearest": 0.924, "second nearest": 0.796, "border": 1.389, "number": 0.0,
}  # fmt: skip
CELL_KINDS = ("nearest", "second nearest", "border", "number")
OCTAVE_SHIFT = np.array([[0.0, 0.0, 0.0], [31.416, 47.853, 12.793], [83.59, 9.27, 71.31], [5.7, 57.1, 38.6]])


class Fractal(FieldStep):
    """Parameters shared by the noises: a sum of octaves, each finer and weaker than the one before."""

    basis: Literal["gradient", "simplex", "cells", "waves"] = param(
        "gradient", help="Clouds, clouds without a grid, cells around scattered points, or sums of plane waves"
    )
    cells: Literal["nearest", "second nearest", "border", "number"] = param(
        "nearest",
        label="Cell value",
        help="Distance to the nearest point or the second nearest, their difference, or a number for each cell",
        when={"basis": ["cells"]},
    )
    feature_size: float = param(
        1.0,
        unit="m",
        above=0,
        slider=(0.05, 10),
        varies=True,
        help="Size of the largest pattern; other octaves are finer",
    )
    octaves: int = param(3, range=(1, 12), help="How many sizes are added up")
    roughness: float = param(0.5, range=(0, 1), help="Strength of each octave against the one before")
    lacunarity: float = param(2.0, range=(1.01, 8), slider=(1.5, 4), help="How much finer each octave is")
    evolve: float = param(
        0.0,
        unit="/s",
        slider=(0, 2),
        rate=True,
        help="Boiling in place: cells of a fourth dimension passed each second",
    )
    drift: Vec3 = param((0, 0, 0), unit="m/s", rate=True, help="Sliding of the whole pattern, which looks different")
    seed: int = param(1, range=(0, 2**31 - 1), help="Another number, another pattern of the same kind")

    def feature(self) -> float:
        return self.feature_size / self.lacunarity ** (self.octaves - 1)

    def feature_at(self, node: Any) -> float | None:
        own, lane = self.feature(), node.varying.get("feature_size")
        if own is None or lane is None:
            return own
        return own / self.feature_size * max(least_over(node.scene, lane), 1e-4)

    def _octaves(self, at: At) -> list[Any]:
        """(frequency, amplitude, offset x, y, z, w, seed) of every octave as the kernels take them; made once."""
        return at.node.kept("octaves", lambda: list(self._make_octaves(at)))

    def _make_octaves(self, at: At) -> Any:
        drift, evolve = at.total("drift"), at.total("evolve")
        size = self.feature_size
        if "feature_size" in at.node.varying:  # points then come divided by the size
            drift, size = (0.0, 0.0, 0.0), 1.0
        for o in range(self.octaves):
            frequency = self.lacunarity**o / size
            shift = OCTAVE_SHIFT[o % 4] * (1 + o // 4) - np.array(drift) * frequency
            yield (
                np.float32(frequency),
                self.roughness**o,
                *(np.float32(s) for s in shift),
                np.float32(evolve * self.lacunarity**o + o),
                np.uint32((self.seed * 0x9E3779B1 + o * 0x85EBCA77) & 0xFFFFFFFF),
            )

    def _weight(self) -> float:
        return sum(self.roughness**o for o in range(self.octaves))

    def _energy(self) -> float:
        """Root mean square of the summed slopes, octaves being independent."""
        return float(np.sqrt(sum((self.roughness * self.lacunarity) ** (2 * o) for o in range(self.octaves))))

    def must_slope(self) -> None:
        """Raises a ValueError if the noise is one that is flat."""
        if self.basis == "cells" and self.cells == "number":
            raise ValueError("a number for each cell has no slope, so its curl is zero; choose another cell value")

    @property
    def slope(self) -> float:
        """Root mean square of a component of the gradient of one octave, per lattice cell."""
        return SLOPE[self.cells if self.basis == "cells" else self.basis]

    def _scalar(self, at: At, stream: int, scale: float) -> Samples:
        """One of three decorrelated noises and its gradient."""
        value, gradient = np.zeros(at.n, np.float32), np.zeros((3, at.n), np.float32)
        size = at.number("feature_size") if "feature_size" in at.node.varying else None
        points = at.points
        if size is not None:
            drifted = points - np.array(at.total("drift"), np.float32)[:, None]
            safe = np.maximum(size.value, np.float32(1e-4))
            points = np.ascontiguousarray(drifted / safe)
        x, y, z = points
        k = kernels.STREAMS[stream]
        add: Any = {
            "gradient": kernels.add_scalar, "simplex": patterns.add_simplex, "waves": patterns.add_waves,
            "cells": patterns.add_cells,
        }[self.basis]  # fmt: skip
        more = (CELL_KINDS.index(self.cells),) if self.basis == "cells" else ()
        for f, a, ox, oy, oz, w, seed in self._octaves(at):
            add(x, y, z, f, ox, oy, oz, w, seed, k, np.float32(a * scale), value, gradient, *more)
        if size is not None and size.gradient is not None:  # q = (p - drift) / s: grad f = (g - (g.q) grad s) / s
            gradient = (gradient - (gradient * points).sum(axis=0) * size.gradient) / safe
        return Samples(value, gradient)

    def _vector(self, at: At, scale: float) -> Samples:
        """Three decorrelated noises as a vector with its gradient."""
        parts = [self._scalar(at, stream, scale) for stream in range(3)]
        return Samples(np.stack([p.value for p in parts]), np.stack([p.slope for p in parts]))


class Noise(Fractal):
    """Noise summed over octaves; it boils by passing through a fourth dimension and slides by drifting.

    Gradient noise: Perlin, Improving Noise, 2002. Simplex noise: Gustavson 2005, in four dimensions. Cells: Worley
    1996, whose points wander as it evolves. Waves: six plane waves in even directions, which swell and fade as it
    evolves while six others take their place. `signed` lies in [-1, 1] and `unit`
    in [0, 1] (typically half of that is used, more octaves use less); `raw` is the sum as it is, at most the sum of
    roughness^o.
    """

    id = "noise"
    label = "Noise"
    family = "start"
    yields = "a cloudy pattern, boiling if it evolves"
    mistake = (
        "Evolve makes it boil, drift slides it: with drift alone it looks like a texture that is pulled past. "
        "Most first tries evolve ten times too fast."
    )
    headline = "feature_size"
    formula = "f(x, t) = strength · Σₒ rᵒ n(lᵒ (x − drift) / size, lᵒ · evolved)"

    makes: Literal["scalar", "vector"] = param("scalar", help="One pattern, or three independent ones as a vector")
    range: Literal["signed", "unit", "raw"] = param("signed", help="−1 … 1, 0 … 1, or the sum as it is")
    strength: float = param(1.0, slider=(0, 10), varies=True, help="Multiplies the pattern; may be a scalar field")

    def gives(self, incoming: Kind | None, lanes: dict[str, Kind]) -> Kind:
        return self.makes

    def evaluate(self, at: At) -> Samples:
        scale = 1.0 if self.range == "raw" else 1.0 / (BOUND * self._weight())
        offset = np.float32(0.5 if self.range == "unit" else 0.0)
        scale *= 0.5 if self.range == "unit" else 1.0
        made = self._vector(at, scale) if self.makes == "vector" else self._scalar(at, 0, scale)
        return Samples(made.value + offset, made.gradient if at.gradient else None).times(at.number("strength"))


def steadied(w: float) -> float:
    """What gradient noise at w in the fourth dimension is multiplied by, so that its slopes always have the root mean
    square SLOPE: between two layers they are weaker (0.446 halfway, 0.500 at a layer), and the curl would breathe.

    A slope is a blend of two independent gradients with weights 1 − s and s, and of their fourth parts; the two
    variances are measured (8 million points) and hold within 0.1 % in between.
    """
    t = w - np.floor(w)
    s = t * t * t * (t * (t * 6 - 15) + 10)
    spatial, fourth = (1 - s) ** 2 + s**2, ((1 - s) * t) ** 2 + (s * (1 - t)) ** 2
    return float(SLOPE["gradient"] / np.sqrt(0.25 * spatial + 0.589 * fourth))


class CurlNoise(VectorStart, Fractal):
    """The curl of a noise potential: swirls without sources or sinks, so that what is carried does not bunch.

    Bridson, Houriham, Nordenstam, Curl-Noise for Procedural Fluid Flow, 2007, with exact derivatives instead of nudged
    differences. `strength` is the root mean square speed, at any time. In a plane, v = ∇ψ × normal from one scalar
    potential.
    """

    id = "curl_noise"
    label = "Curl noise"
    yields = "swirls without sinks"
    mistake = (
        "Feature size smaller than about four voxels of the region that bakes it: the swirls alias away. A "
        "mask after it should multiply the potential, or the swirls leak at its border."
    )
    headline = "feature_size"
    formula = "v = ∇ × ψ,  ψ = three noises;  in a plane v = ∇ψ × n"
    unit = "m/s"

    strength: float = param(
        1.0, unit="m/s", slider=(0, 10), varies=True, help="Root mean square speed; a field strengthens the potential"
    )
    plane: Literal["off", "across x", "across y", "across z", "across a normal"] = param(
        "off", label="In plane", help="Keep all motion in planes across this axis, made from one potential"
    )
    normal: Vec3 = param((0, 0, 1), help="The direction without motion", when={"plane": ["across a normal"]})

    def gives(self, incoming: Kind | None, lanes: dict[str, Kind]) -> Kind:
        self.must_slope()
        return "vector"

    @property
    def axis(self) -> Array:
        """The direction without motion. (3,) float64 of length 1."""
        if self.plane == "across a normal":
            n = np.array(self.normal, np.float64)
            return n / max(float(np.linalg.norm(n)), 1e-12)
        return np.eye(3)[("across x", "across y", "across z").index(self.plane)]

    def _scale(self, node: Any) -> float:
        """Potential amplitude for a root mean square speed of 1 m/s."""
        components = 6.0 if self.plane == "off" else 2.0
        size = 1.0 if "feature_size" in node.varying else self.feature_size
        return size / (self.slope * np.sqrt(components) * self._energy())

    def _make_octaves(self, at: At) -> Any:
        for frequency, amplitude, x, y, z, w, seed in super()._make_octaves(at):
            steady = steadied(float(w)) if self.basis == "gradient" else 1.0
            yield frequency, amplitude * steady, x, y, z, w, seed

    def has_potential(self, node: Any) -> Literal["none", "free", "gauged"]:
        return "free"

    def potential(self, at: At, around: Framed | None = None) -> Samples:
        wanted = At(at.node, at.points, True)
        scale = self._scale(at.node)
        if self.plane == "off":
            made = self._vector(wanted, scale)
        else:
            one, n = self._scalar(wanted, 0, scale), self.axis.astype(np.float32)
            made = Samples(n[:, None] * one.value, n[:, None, None] * one.slope)
        if "feature_size" in at.node.varying:
            made = made.times(wanted.number("feature_size"))
        return made.times(wanted.number("strength"))

    def evaluate(self, at: At) -> Samples:
        plain = not at.node.varying and self.basis == "gradient"
        if plain and self.plane == "off":
            value = np.zeros((3, at.n), np.float32)
            x, y, z = at.points
            scale = self._scale(at.node) * self.strength
            for f, a, ox, oy, oz, w, seed in self._octaves(at):
                add = kernels.add_still_curl if w == np.floor(w) else kernels.add_curl
                add(x, y, z, f, ox, oy, oz, w, seed, np.float32(a * scale * float(f)), value)
        else:
            value = curl_of(self.potential(at).slope)
        if not at.gradient:
            return Samples(value)
        if plain:
            return Samples(value, self._second(at))
        return Samples(value, without_trace(at.node.differences(at.points, value)))

    def _second(self, at: At) -> Array:
        """Exact gradient of the curl from the second derivatives of the potential."""
        x, y, z = at.points
        scale = self._scale(at.node) * self.strength
        hessian = np.zeros((3, 3, 3, at.n), np.float32)  # of each potential component
        for component in [0, 1, 2] if self.plane == "off" else [0]:
            out = np.zeros((10, at.n), np.float32)
            k = kernels.STREAMS[component]
            for f, a, ox, oy, oz, w, seed in self._octaves(at):
                kernels.add_hessian(x, y, z, f, ox, oy, oz, w, seed, k, np.float32(a * scale), out)
            for row, (i, j) in enumerate(((0, 0), (1, 1), (2, 2), (0, 1), (0, 2), (1, 2))):
                hessian[component, i, j] = hessian[component, j, i] = out[4 + row]
        if self.plane != "off":
            hessian = self.axis.astype(np.float32)[:, None, None, None] * hessian[0]
        return np.stack([hessian[2, 1] - hessian[1, 2], hessian[0, 2] - hessian[2, 0], hessian[1, 0] - hessian[0, 1]])
