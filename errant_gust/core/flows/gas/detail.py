"""Detail: a finer gas carried by what a coarser one computed, with small eddies added."""

from __future__ import annotations

from typing import Literal

import numpy as np

from errant_gust.core.blocks import BLOCK
from errant_gust.core.fields.samples import Array
from errant_gust.core.fields.steps.noise import OCTAVE_SHIFT, SLOPE
from errant_gust.core.flows.gas.steps import GasStep
from errant_gust.core.grids.region import GridRegion
from errant_gust.core.grids.staggered.faces import Triple
from errant_gust.core.grids.staggered.refine import Each, finer, nodes
from errant_gust.core.kernels import noise as kernels
from errant_gust.core.kernels.advection import middles
from errant_gust.core.kernels.noise_values import add_value
from errant_gust.core.kernels.refine import curls
from errant_gust.core.study.parameters import FlowId, param

FALL = 2.0 ** (-5.0 / 6.0)
"""Speed of eddies half as large (Kolmogorov), as Kim et al. take it."""


class Detail(GasStep):
    """A finer gas that a coarser one carries: its sources, its cooling, its burning, all on smaller voxels; no force
    is computed again, and small eddies are added where the coarse motion has lost them (Kim, Thürey, James, Gross
    2008, with curl noise in place of wavelet noise).

    Changes to it leave the coarse run as it is. Steps after it change the fine gas only: a Source of its own, a
    Channel, a Formula. The added flow has no divergence and stays out of obstacles.
    """

    id = "detail"
    label = "Detail"
    family = "domain"
    yields = "a finer copy of a gas"
    mistake = (
        "It refines what the coarse gas does, it does not invent another shape: find the motion first. Strength above "
        "2 tears the smoke apart; evolve too fast and the smoke seems to shiver."
    )
    headline = "flow"
    formula = "v = refine(V) + ∇ × (A ψ),  A = strength · 2^(−5/6) · |V − smooth V|"

    flow: FlowId = param("", label="Gas", help="The coarser gas", provides="volume")
    finer: Literal["2", "3", "4"] = param("2", help="Voxels are so many times smaller; 2 is eight times as many")
    strength: float = param(
        1.0, range=(0, 20), slider=(0, 4), help="Of the added eddies; 1 is what turbulence would have"
    )
    size: float = param(
        2.0, unit="voxels", range=(0.5, 32), slider=(1, 8), help="Of the largest added eddies, in coarse voxels"
    )
    octaves: int = param(2, range=(1, 6), help="How many sizes of eddies")
    evolve: float = param(1.5, unit="/s", range=(0, 100), slider=(0, 5), help="How quickly eddies change in place")
    seed: int = param(1, range=(0, 2**31 - 1), help="Another number, other eddies of the same kind")
    quality: Literal["as this run", "preview", "full"] = param(
        "as this run", label="Carried by", help="The coarse gas's quick run or its final one"
    )

    def amplitude(self, u: Array, v: Array, w: Array, clear: Array | None) -> Array:
        """Speed in m/s (root mean square of a component) of the eddies to add, in every coarse cell.

        clear (cells): 0 in walls to 1 where these are far. Faces (nx+1, ny, nz), (nx, ny+1, nz), (nx, ny, nz+1) in
        m/s; the result (nx, ny, nz) (Kim, Thürey, James, Gross 2008).
        """
        from scipy.ndimage import gaussian_filter

        whole = np.empty((u.shape[0] - 1, u.shape[1], u.shape[2], 3), np.float32)
        middles(u, v, w, whole, 0, whole.shape[0])
        band = np.zeros(whole.shape[:3], np.float32)
        for axis in range(3):
            a = whole[..., axis]
            band += (a - gaussian_filter(a, 1.0, mode="nearest")) ** 2
        a = np.sqrt(gaussian_filter(band, 1.0, mode="nearest") / np.float32(3)) * np.float32(self.strength * FALL)
        return np.asarray(a if clear is None else a * clear, np.float32)

    def eddies(self, window: GridRegion, times: int, amplitude: Array, time: float, each: Each) -> Triple:
        """Velocity on the faces of the fine window: the discrete curl of potentials on its edges, so that it has no
        divergence at all. `amplitude` (nx, ny, nz) of coarse cells in m/s; faces of the fine window as
        `amplitude`'s, `times` as many, in m/s (Bridson, Houriham, Nordenstam 2007)."""
        size = self.size * window.voxel_size * times
        x, y, z = (self._potential(window, times, amplitude, axis, size, time, each) for axis in range(3))
        h = np.float32(1 / window.voxel_size)
        nx, ny, nz = x.shape[0], y.shape[1], z.shape[2]
        u, v, w = (np.empty(s, np.float32) for s in ((nx + 1, ny, nz), (nx, ny + 1, nz), (nx, ny, nz + 1)))
        each(nx, lambda a, b: curls(x, y, z, h, u, v, w, a, b))
        return u, v, w

    def _potential(
        self, window: GridRegion, times: int, amplitude: Array, axis: int, size: float, time: float, each: Each
    ) -> Array:
        """The potential along an axis on the fine edges that lie along it."""
        coarse = amplitude.shape
        x, y, z = (_between(coarse[a], times) if a == axis else nodes(coarse[a], times) for a in range(3))
        strong = finer(amplitude, (x, y, z), each)
        lower, h = np.array(window.lower), window.voxel_size
        places = [
            ((np.arange(n) + (0.5 if a == axis else 0.0)) * h + low).astype(np.float32)
            for a, (n, low) in enumerate(zip(strong.shape, lower, strict=True))
        ]
        scale = size / (SLOPE["gradient"] * np.sqrt(2))
        rows = max(1, BLOCK // strong.shape[2])
        along = np.tile(places[2], rows)

        def plane(i: int, first: int) -> None:
            """Rows first … first + rows of plane i."""
            a = strong[i, first : first + rows].reshape(-1)
            if float(a.max()) < 1e-4:
                a[:] = 0
                return
            at_x, at_y = np.full(a.size, places[0][i]), np.repeat(places[1][first : first + rows], strong.shape[2])
            value = np.zeros(a.size, np.float32)
            for o in range(self.octaves):
                offset = (np.float32(s) for s in OCTAVE_SHIFT[o % 4] * (1 + o // 4))
                w = np.float32(self.evolve * time * 2**o + o)
                seed = np.uint32((self.seed * 0x9E3779B1 + o * 0x85EBCA77) & 0xFFFFFFFF)
                share = np.float32(scale * (FALL / 2) ** o)
                add_value(
                    at_x, at_y, along[: a.size], np.float32(2.0**o / size), *offset, w, seed,
                    kernels.STREAMS[axis], share, value,
                )  # fmt: skip
            a *= value

        def planes(a: int, b: int) -> None:
            for i in range(a, b):
                for first in range(0, strong.shape[1], rows):
                    plane(i, first)

        each(len(strong), planes)
        return strong


def _between(n: int, times: int) -> tuple[Array, Array]:
    """Middles of fine cells, linear between the middles of coarse ones."""
    s = (np.arange(n * times) + 0.5) / times - 0.5
    first = np.floor(s).astype(int)
    t = s - first
    return first, np.stack([1 - t, t, np.zeros_like(t)], 1).astype(np.float32)
