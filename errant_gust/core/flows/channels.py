"""Channel, as far as kinds of flow that are points share it: one more number that each carries."""

import re
from collections.abc import Iterable
from typing import ClassVar, Literal

import numpy as np

from errant_gust.core.errors import StudyError
from errant_gust.core.fields.expression import Broken, arithmetic, parse
from errant_gust.core.fields.samples import Array
from errant_gust.core.study.parameters import FieldId, Parameters, param

NAMES = ("x", "y", "z", "vx", "vy", "vz", "speed", "t")
"""What a formula may use besides channels: place, velocity and speed, and time in seconds."""


def channel_name(name: str, where: str, there: Iterable[str]) -> None:
    """Raise a StudyError unless a channel can be called so; `there`: names that have a meaning already."""
    if not re.fullmatch(r"[a-z][a-z0-9_]{0,30}", name) or name in (*there, *NAMES, "colour", "pi", "f"):
        raise StudyError(
            f"'{name}' cannot be the name of a channel", where=where,
            fix="small letters, digits and _, and none that is there already",
        )  # fmt: skip


class Carrying(Parameters):
    """Something more that is carried."""

    label: ClassVar[str] = "Channel"
    yields: ClassVar[str] = "one more number, carried along"
    headline: ClassVar[str] = "name"
    wants: ClassVar[dict[str, Literal["scalar", "vector"]]] = {"field": "scalar"}

    name: str = param("heat", help="Small letters; it is called so in files")
    what: Literal["of its source", "field at birth", "formula"] = param(
        "of its source", help="What a Source that names it gives, a field where it was born, or arithmetic"
    )
    field: FieldId = param("", optional=True, help="A scalar lane", when={"what": ["field at birth", "formula"]})
    expression: str = param("speed", label="Formula", help="For example max(speed - 1, 0)", when={"what": ["formula"]})
    fades: float = param(0.0, unit="1/s", range=(0, 1e4), slider=(0, 5), help="Share lost a second")

    def keeps(self) -> dict[str, int]:
        """Channels that the step adds, with how many numbers each has."""
        return {self.name: 1}

    def named_well(self, where: str, there: Iterable[str]) -> None:
        """Raise a StudyError if its name or its lane cannot be; `there`: names that have a meaning already."""
        channel_name(self.name, f"{where}.name", there)
        if self.what == "field at birth" and not self.field:
            raise StudyError("no field is chosen", where=f"{where}.field", fix="choose a scalar lane")
        if self.what == "formula" and not self.field and re.search(r"\bf\b", self.expression):
            raise StudyError("f stands for a lane, and none is chosen", where=f"{where}.field", fix="choose one")

    def read_well(self, where: str, names: Iterable[str]) -> None:
        """Raise a StudyError if its formula cannot be read; names: of channels."""
        if self.what != "formula":
            return
        try:
            parts = parse(self.expression, frozenset({*NAMES, "pi", "f", *(n for n in names if n != self.name)}))
            if len(parts) != 1:
                raise Broken(f"has {len(parts)} parts; right would be one")
        except Broken as error:
            raise StudyError(str(error), where=f"{where}.expression") from None

    def worked_out(
        self, points: Array, velocity: Array, time: float, channels: dict[str, Array], f: Array | None
    ) -> Array:
        """The formula at points (3, n) with a velocity (3, n) in m/s, at a time in seconds, from channels (n,) and the
        lane f (n,)."""
        values = {k: a for k, a in channels.items() if a.ndim == 1 and k != self.name}
        values |= dict(zip(("x", "y", "z", "vx", "vy", "vz"), (*points, *velocity), strict=True))
        values["speed"] = np.sqrt((velocity * velocity).sum(axis=0))
        values["t"] = np.full(points.shape[1], time, np.float32)
        if f is not None:
            values["f"] = f
        return np.asarray(arithmetic(self.expression, values), np.float32)

    def faded(self, values: Array, seconds: float) -> Array:
        """What is left of it. `values` as they are, of any shape."""
        return values * np.float32(np.exp(-self.fades * seconds)) if self.fades else values
