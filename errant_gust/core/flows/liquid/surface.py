"""Surface: the liquid as triangles."""

from errant_gust.core.flows.liquid.steps import LiquidStep
from errant_gust.core.flows.surface import DrawsSurface


class Surface(LiquidStep, DrawsSurface):
    """The surface of the liquid as triangles, smooth, with the volume of its particles.

    It is drawn from the frames of a run: other voxels or another smoothing need no new run. Its points have velocity
    for motion blur, the thickness behind them, and the channels that the liquid carries.
    """

    id = "surface"
    label = "Surface"
    family = "drawn"
    yields = "a smooth surface"
    mistake = (
        "Drops of single particles fall through a smooth surface: show them as foam, or smooth less. With voxels "
        "larger than half of the liquid's thin sheets tear."
    )
    headline = "voxels"
    private = frozenset({"affine", "born_viscosity", "foam", "id"})
