"""Channel: something more that is kept of every particle."""

import re
from typing import Literal

from errant_gust.core.errors import StudyError
from errant_gust.core.fields.samples import Array
from errant_gust.core.flows.particles.state import BASE, KEPT
from errant_gust.core.flows.particles.steps import ParticleStep, Use
from errant_gust.core.study.parameters import FieldId, param


class Channel(ParticleStep):
    """Keeps one more number of every particle in each frame: the length of its way, or a field where it is.

    It can colour the particles and is written with them. Arithmetic is done in the lane that is sampled, with Formula.
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

    what: Literal["way", "field"] = param("way", help="The length of the way since birth in metres, or a field")
    name: str = param("heat", when={"what": ["field"]}, help="What it is called in files")
    field: FieldId = param("", optional=True, when={"what": ["field"]}, help="A scalar lane")

    wants = {"field": "scalar"}

    def needs(self) -> tuple[str, ...]:
        if self.what == "way":
            return ("travelled",)
        if not re.fullmatch(r"[a-z][a-z0-9_]{0,30}", self.name) or self.name in (*BASE, *KEPT):
            raise StudyError(
                f"'{self.name}' cannot be the name of a channel", where="channel.name",
                fix="small letters, digits and _, and none that is there already",
            )  # fmt: skip
        if not self.field:
            raise StudyError("no field is chosen", where="channel.field", fix="choose a scalar lane")
        return (self.name,)

    @property
    def records(self) -> bool:
        return self.what == "field"

    def record(self, points: Array, use: Use) -> Array | None:
        return use.field("field", points, "end")
