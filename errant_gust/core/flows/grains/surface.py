"""Surface: a heap as triangles."""

from errant_gust.core.flows.grains.steps import GrainStep
from errant_gust.core.flows.surface import DrawsSurface


class Surface(GrainStep, DrawsSurface):
    """The surface of what grains fill as triangles, with the volume that they have.

    It is drawn from the frames of a run: other voxels or another smoothing need no new run. Its points have velocity
    for motion blur, the thickness behind them, and the channels that the grains carry.
    """

    id = "surface"
    label = "Surface"
    family = "drawn"
    yields = "a surface over the sand"
    mistake = "Single grains fall through a smooth surface: show the points as well, or smooth less."
    headline = "voxels"
    private = frozenset({"affine", "strain", "spread", "outward", "id", "life"})
