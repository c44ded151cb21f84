"""Channel: something more that is kept of every particle."""

import re
from typing import Literal

import numpy as np

from errant_gust.core.errors import StudyError
from errant_gust.core.fields.expression import Broken, arithmetic, parse
from errant_gust.core.fields.samples import Array
from errant_gust.core.flows.particles.state import BASE, KEPT
from errant_gust.core.flows.particles.steps import ParticleStep, Use
from errant_gust.core.study.parameters import FieldId, param

NAMES = ("age", "life", "id", "speed", "x", "y", "z", "vx", "vy", "vz", "t")


class Channel(ParticleStep):
    """Keeps one more number of every particle in each frame: the length of its way, a field where it is, a formula.

    It can colour the particles and is written with them. A formula may use age and life in seconds, id, speed and vx
    vy vz in m/s, x y z in metres, t in seconds, f (the lane, if one is chosen), and every channel kept before it by
    name; functions are those of the Formula step.
    """

    id = "channel"
    label = "Channel"
    family = "motion"
    yields = "one more number a particle"
    mistake = (
        "It is recorded from its place in time, not looked up later: a lane that changes afterwards needs a new run. "
        "Names are small letters; position, velocity, age, life and id are there already."
    )
    headline = "name"

    what: Literal["way", "field", "formula"] = param(
        "way", help="The length of the way since birth in metres, a field, or arithmetic"
    )
    name: str = param("heat", when={"what": ["field", "formula"]}, help="What it is called in files")
    field: FieldId = param("", optional=True, when={"what": ["field", "formula"]}, help="A scalar lane")
    expression: str = param(
        "1 - age / life", label="Formula", when={"what": ["formula"]}, help="For example speed * (1 - age / life)"
    )

    wants = {"field": "scalar"}

    def needs(self) -> tuple[str, ...]:
        """Other lanes that the formula reads. Raises StudyError for a name that is taken, or a formula that cannot
        be used."""
        if self.what == "way":
            return ("travelled",)
        if not re.fullmatch(r"[a-z][a-z0-9_]{0,30}", self.name) or self.name in (*BASE, *KEPT):
            raise StudyError(
                f"'{self.name}' cannot be the name of a channel", where="channel.name",
                fix="small letters, digits and _, and none that is there already",
            )  # fmt: skip
        if not self.field and self.what == "field":
            raise StudyError("no field is chosen", where="channel.field", fix="choose a scalar lane")
        if self.what == "formula" and not self.field and re.search(r"\bf\b", self.expression):
            raise StudyError("f stands for a lane, and none is chosen", where="channel.field", fix="choose one")
        return (self.name,)

    def check_together(self, kept: tuple[str, ...], where: str) -> None:
        if self.what == "formula":
            names = frozenset({*NAMES, "pi", "f", *(k for k in kept if k != self.name)})
            try:
                parts = parse(self.expression, names)
                if len(parts) != 1:
                    raise Broken(f"has {len(parts)} parts; right would be one")
            except Broken as error:
                raise StudyError(str(error), where=f"{where}.expression") from None

    @property
    def records(self) -> bool:
        return self.what != "way"

    def record(self, part: dict[str, Array], use: Use) -> Array | None:
        if self.what == "field":
            return use.field("field", part["position"], "end")
        p, v = part["position"], part["velocity"]
        values = {k: a for k, a in part.items() if a.ndim == 1 and k != self.name}
        values |= {"x": p[0], "y": p[1], "z": p[2], "vx": v[0], "vy": v[1], "vz": v[2]}
        values |= {"speed": np.sqrt((v * v).sum(axis=0)), "t": np.full(p.shape[1], use.scenes["end"].time, np.float32)}
        if self.field:
            values["f"] = use.field("field", p, "end")
        return arithmetic(self.expression, values)
