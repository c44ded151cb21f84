"""The grown volume as triangles: as a result of every frame, and smoother by the step Surface."""

from collections.abc import Sequence
from functools import partial
from typing import Any, ClassVar

import numpy as np

from errant_gust.core.blocks import share_out
from errant_gust.core.fields.samples import Array
from errant_gust.core.flows.drawing import Drawing, Draws
from errant_gust.core.flows.growth.state import ABOUT
from errant_gust.core.flows.growth.steps import GrowthStep
from errant_gust.core.flows.results import Channel, Form, Frames, MeshData, MeshResult, VolumeResult
from errant_gust.core.grids.region import GridRegion
from errant_gust.core.kernels import surfaces as kernels
from errant_gust.core.study.parameters import param

DEEPEST = 64.0  # voxels that a thickness is followed
OFF = np.float32(1e-3)  # voxels from the surface, at least, that a voxel is taken to be
INWARD = 0.9  # voxels behind the surface, where its age is taken from
VOLUME = VolumeResult("volume", "volumes", ABOUT, aside=True)
ON_MESH = (
    Channel("age", "s", help="Since the growth reached what is behind the surface"),
    Channel("thickness", "m", help="Of what is behind the surface"),
    Channel("velocity", "m/s", 3, True, "Of the surface, along its normal"),
)


class GrownSurface(MeshResult):
    """The surface of the volume, made when it is asked for: frames hold distances, and no triangles."""

    def own(self, names: object) -> list[str]:
        return []

    def channels(self, names: Sequence[str]) -> list[Channel]:
        return list(ON_MESH)

    def read(self, frames: Frames, frame: int, names: tuple[str, ...] | None = None) -> MeshData:
        if names is not None:
            self.known(frames, frame, names)
        made = surface_of(frames, frame)
        kept = {n: a for n, a in made.channels.items() if names is None or n in names}
        return MeshData(made.vertices, made.faces, kept, made.normals)


class Surface(GrowthStep, Draws):
    """The surface of the volume as triangles, smoothed, in place of the plain one: with the age and the thickness of
    what is behind each point, and how fast it grew there, for motion blur.

    It is drawn from the frames of a run: another smoothing needs no new run.
    """

    id = "surface"
    label = "Surface"
    family = "drawn"
    yields = "a smoother surface of triangles"
    mistake = "Smoothing wider than an arm is thick takes the arm: smooth less, or grow thicker arms."
    headline = "smooth"
    takes: ClassVar[Form] = "volume"

    smooth: float = param(
        1.0, unit="voxels", range=(0, 20), slider=(0, 5), label="Smoothing", help="Distances are blurred so far"
    )

    def draw(self, d: Drawing) -> None:
        assert d.frames is not None
        d.mesh = surface_of(d.frames, d.frame, self.smooth)


def surface_of(frames: Frames, frame: int, smooth: float = 0.0) -> MeshData:
    """The surface on a frame, with `ON_MESH`, its distances blurred by so many voxels."""
    from scipy import ndimage
    from skimage.measure import marching_cubes

    region = VOLUME.region(frames, frame)
    facts = frames.facts(frame)
    phi = VOLUME.grid(frames, frame, "distance").values / np.float32(region.voxel_size)
    if smooth:
        phi = ndimage.gaussian_filter(phi, smooth, mode="nearest")
    # a voxel on the surface itself would make triangles without an area, of which others make holes
    phi = np.where(np.abs(phi) < OFF, np.where(phi < 0, -OFF, OFF), phi)
    if not phi.min() < 0 < phi.max():
        none = np.zeros((0, 3), np.float32)
        empty: dict[str, Array] = {c.name: none if c.components > 1 else none[:, 0] for c in ON_MESH}
        return MeshData(none, none.astype(np.int32), empty, none)
    own, faces, inward, _ = marching_cubes(phi, 0.0, gradient_direction="descent")
    thick = np.empty(len(own), np.float32)
    through = partial(
        kernels.thicknesses, phi, np.ascontiguousarray(own.T + 0.5, np.float32),
        np.ascontiguousarray(inward.T, np.float32), np.float32(0.5), np.float32(DEEPEST),
    )  # fmt: skip
    share_out(lambda a, b: through(thick, a, b), len(own), block=4096)
    age = VOLUME.grid(frames, frame, "age").values
    vertices = _placed(region, own)
    normals = -inward if not region.is_turned else -inward @ region.axes.T.astype(np.float32)
    channels = {
        "age": ndimage.map_coordinates(age, (own + INWARD * inward).T, order=0, mode="nearest").astype(np.float32),
        "thickness": thick * np.float32(region.voxel_size),
        "velocity": np.ascontiguousarray(normals * _pace(frames, frame, facts, vertices)[:, None], np.float32),
    }
    return MeshData(
        vertices, np.ascontiguousarray(faces, np.int32), channels, np.ascontiguousarray(normals, np.float32)
    )


def _pace(frames: Frames, frame: int, facts: dict[str, Any], vertices: Array) -> Array:
    """How fast (m/s) the surface moves outward at vertices: their distance to it on the frame before."""
    if frame - 1 not in frames.frames() or not facts.get("lasts"):
        return np.zeros(len(vertices), np.float32)
    before = VOLUME.grid(frames, frame - 1, "distance").sample_many(vertices)
    return np.asarray(before / np.float32(facts["lasts"]), np.float32)


def _placed(region: GridRegion, own: Array) -> Array:
    """Vertices (n, 3) in voxels from the middle of the first, in the scene."""
    at = np.array(region.lower) + (own + 0.5) * region.voxel_size
    return np.asarray(at @ region.axes.T if region.is_turned else at, np.float32)
