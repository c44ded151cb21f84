"""How much work a picture is worth."""

from dataclasses import dataclass

from errant_gust.core.errors import GustError


@dataclass(frozen=True)
class Quality:
    """`suns` and `ways`: rays of a pixel toward the key and the sky; `each`: steps through smoke, in voxels; `fine`:
    whether smoke is made twice as fine."""

    name: str
    label: str
    suns: int
    ways: int
    each: float
    fine: bool


DRAFT = Quality("draft", "Draft", 1, 2, 1.5, fine=False)
GOOD = Quality("good", "Good", 1, 3, 1.5, fine=True)
STILL = Quality("still", "Still", 4, 12, 0.75, fine=True)
QUALITIES = {q.name: q for q in (DRAFT, GOOD, STILL)}


def quality_of(name: str, where: str = "quality") -> Quality:
    """The one of a name. Raises GustError."""
    if name not in QUALITIES:
        raise GustError(f"'{name[:40]}' is no quality", where=where, fix=f"one of {', '.join(QUALITIES)}")
    return QUALITIES[name]
