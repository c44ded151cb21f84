"""What is said beside the arrays of something to look at, by form. The interface's types are made from these."""

from pydantic import BaseModel

from errant_gust.core.flows.results import Form

Vec = tuple[float, float, float]


class Head(BaseModel):
    """Of all: which frame of which run, the form, the channel that colours it between `low` and `high`, and those that
    could (`names`)."""

    identity: str
    frame: int
    form: Form
    names: list[str] = []
    channel: str = ""
    unit: str = ""
    low: float = 0.0
    high: float = 1.0
    count: int
    """How many there are, in the unit of the kind of flow."""


class PointsHead(Head):
    """Points lie in the box from `lower` to `upper`, `spacing` m apart if that is known."""

    lower: Vec
    upper: Vec
    spacing: float = 0.0


class TexelsHead(Head):
    """Texels lie from `lower` on in the `axes` of the box, `size` m in all. `tops`: what 255 stands for, by array."""

    tops: dict[str, float]
    lower: Vec
    size: Vec
    shape: tuple[int, int, int]
    axes: tuple[Vec, Vec, Vec]
    voxel_size: float


class MeshHead(Head):
    """Triangles as they are, in a box. `thickest`: m that 255 stands for in `thickness`."""

    thickest: float = 1.0
    lower: Vec = (0.0, 0.0, 0.0)
    upper: Vec = (1.0, 1.0, 1.0)


class DrawnHead(BaseModel):
    """Lines, points on them, instances, and a `mesh`. `prototypes`: keys of the meshes that instances are made of;
    `triangles`: how many all have together, `most`: from how many on points are shown instead; `on`: what they stand
    on."""

    identity: str
    frame: int
    prototypes: list[str] = []
    triangles: int = 0
    most: int = 0
    on: str = ""
    mesh: MeshHead | None = None


class VolumeDifference(BaseModel):
    """See `runs.compare.Difference`."""

    greatest: float
    at: Vec
    rms: float
    mean: float
    share: float
    same: bool


class PointsDifference(BaseModel):
    """How far points with the same numbers are from each other, in m; how many there are in each, and in both."""

    a: int
    b: int
    both: int
    mean: float
    rms: float
    greatest: float


class VolumesCompared(TexelsHead):
    numbers: VolumeDifference


class PointsCompared(BaseModel):
    form: Form
    numbers: PointsDifference


HEADS: tuple[type[BaseModel], ...] = (PointsHead, TexelsHead, MeshHead, DrawnHead, VolumesCompared, PointsCompared)
