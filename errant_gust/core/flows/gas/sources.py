"""Source and Collide: what brings gas in, and what stands in its way."""

import re
from typing import Literal

import numpy as np

from errant_gust.core.errors import StudyError
from errant_gust.core.fields.samples import Array
from errant_gust.core.fields.scene import Scene
from errant_gust.core.flows.gas.state import FACES
from errant_gust.core.flows.gas.steps import BASE, COLOURS, GasStep, Part, Work
from errant_gust.core.geometry.placed import PlacedShape
from errant_gust.core.study.parameters import FieldId, ShapeId, ShapeIds, Vec3, param


class Source(GasStep):
    """Brings density, temperature, fuel, a channel and velocity in where a shape is.

    `add` gives so much a second, `at least` fills up to the value, `set` puts it there. Edges are a voxel soft, so
    that a moving shape leaves no steps. Where the shape lies partly outside the domain, that part does nothing.
    """

    id = "source"
    label = "Source"
    family = "source"
    yields = "gas where a shape is"
    mistake = (
        "A source thinner than two voxels is hit or missed by chance: make it thicker, or the voxels smaller. Added "
        "every second it grows without end where nothing carries it away; 'at least' does not."
    )
    headline = "shape"

    shape: ShapeId = param(help="Where")
    where: Literal["inside", "shell"] = param("inside", help="All of the shape, or a layer on its surface")
    thickness: float = param(
        0.1, unit="m", above=0, slider=(0.01, 1), help="Of the layer, half inside and half outside",
        when={"where": ["shell"]},
    )  # fmt: skip
    how: Literal["add", "at least", "set"] = param("add", help="So much a second; filled up to; put there")
    density: float = param(4.0, slider=(0, 20), help="Of smoke; 1 is thick")
    temperature: float = param(300.0, unit="K", slider=(0, 2000), help="Above the air around")
    fuel: float = param(0.0, range=(0, 1e6), slider=(0, 10), help="What a Burn step burns")
    channel: str = param("", help="A further channel that it fills, by name")
    amount: float = param(1.0, slider=(0, 10), help="Of that channel")
    by: FieldId = param("", optional=True, help="A scalar lane: how much of it, from place to place")
    colour: Vec3 = param((1, 1, 1), help="Red, green and blue of the smoke, 0 to 1, in a lane that has Colour")
    velocity: Vec3 = param((0, 0, 0), unit="m/s", help="The gas is given this velocity, if it is not zero")
    own_motion: float = param(0.0, range=(-2, 2), help="Share of the shape's own velocity that the gas is given")
    begin: float = param(0.0, unit="s", range=(-1e5, 1e5), slider=(0, 10), help="When it starts")
    until: float = param(1e4, unit="s", range=(-1e5, 1e5), slider=(0, 20), help="When it stops")

    wants = {"by": "scalar"}

    def names(self) -> tuple[str, ...]:
        return (*(("fuel",) if self.fuel else ()), *((self.channel,) if self.channel else ()))

    def check(self, scene: Scene, where: str) -> None:
        super().check(scene, where)
        channel_name(self.channel or "x", f"{where}.channel")
        if not all(0 <= c <= 1 for c in self.colour):
            raise StudyError(
                "a colour has three numbers from 0 to 1", where=f"{where}.colour", fix="for example 1 0.4 0"
            )
        if not scene.shape(self.shape).kind.bounded and self.where == "inside":
            raise StudyError("fills a half space", where=f"shapes.{self.shape}", fix="use its shell, or a box")

    def source(self, part: Part, work: Work) -> None:
        time = work.scene.time
        if not self.begin <= time + 1e-9 < self.until:
            return
        box = cells_of(work, work.scene.shape(self.shape), self.thickness if self.where == "shell" else 0.0)
        if box is None:
            return
        shape = work.scene.shape(self.shape)
        share = self._share(work, shape, box) * part.masked("by", work)[box if self.by else ...]
        amounts = {"density": self.density, "temperature": self.temperature, "fuel": self.fuel}
        if self.channel:
            amounts[self.channel] = self.amount
        if COLOURS[0] in work.state.names:
            self._tint(work, share, box, amounts)
        for name, amount in amounts.items():
            if name not in work.state.names or (not amount and self.how != "set"):
                continue
            a = work.state.channel(name)[box]
            if self.how == "add":
                a += share * np.float32(amount * work.dt)
            elif self.how == "at least":
                np.maximum(a, share * np.float32(amount), out=a)
            else:
                a += np.clip(share, 0, 1) * (np.float32(amount) - a)
        self._drive(work, shape, share, box)

    def _tint(self, work: Work, share: Array, box: tuple[slice, ...], amounts: dict[str, float]) -> None:
        """Colours come in as the density does; filled up, they take part by what is new."""
        if self.how != "at least":
            amounts |= {name: self.density * c for name, c in zip(COLOURS, self.colour, strict=True)}
            return
        new = np.maximum(share * np.float32(self.density) - work.state.channel("density")[box], 0)
        for name, c in zip(COLOURS, self.colour, strict=True):
            work.state.channel(name)[box] += new * np.float32(c)

    def _share(self, work: Work, shape: PlacedShape, box: tuple[slice, ...]) -> Array:
        """How much of each cell of the box is in the source, 0 to 1."""
        d = distances(work, shape, box)
        if self.where == "shell":
            d = np.abs(d) - np.float32(0.5 * self.thickness)
        return np.clip(np.float32(0.5) - d / np.float32(work.state.domain.voxel_size), 0, 1)

    def _drive(self, work: Work, shape: PlacedShape, share: Array, box: tuple[slice, ...]) -> None:
        if not any(self.velocity) and not (self.own_motion and shape.moves):
            return
        window = work.state.window
        whole = (3, *work.state.values.shape[1:])
        target, weight = np.zeros(whole, np.float32), np.zeros(whole[1:], np.float32)
        given = np.array(self.velocity, float)[:, None] * np.ones((1, share.size))
        if self.own_motion:
            points = centres_of(work, box).astype(float) - np.array(shape.kind.move)[:, None]
            moving = np.array(shape.velocity)[:, None] + np.cross(np.array(shape.spin), points.T).T
            given += self.own_motion * moving
        own = (window.axes.T @ given).astype(np.float32).reshape(3, *share.shape)
        target[(slice(None), *box)] = own
        weight[box] = np.clip(share, 0, 1)
        work.ease.append((target, weight))


class Collide(GasStep):
    """Shapes that gas flows around; moving ones push it along. Their surface is cut through the voxels, not stepped."""

    id = "collide"
    label = "Collide"
    family = "solid"
    yields = "shapes in the way"
    mistake = (
        "A plate thinner than a voxel leaks. A floor that is a plane may lie inside the domain; what is below it then "
        "costs memory and does nothing."
    )
    headline = "shapes"

    shapes: ShapeIds = param(help="What stands in the way")


def channel_name(name: str, where: str) -> None:
    if not re.fullmatch(r"[a-z][a-z0-9_]{0,30}", name) or name in FACES or name == "vel":
        raise StudyError(
            f"'{name}' cannot be the name of a channel",
            where=where,
            fix="small letters, digits and _; not u, v, w, vel",
        )


def cells_of(work: Work, shape: PlacedShape, thickness: float) -> tuple[slice, slice, slice] | None:
    """Cells of the window that the shape may touch; None if it is outside."""
    window = work.state.window
    h = window.voxel_size
    if not shape.kind.bounded:
        low, high = np.zeros(3, int), np.array(window.shape)
    else:
        lower, upper = shape.box
        corners = np.array([[(lower, upper)[b][a] for a, b in enumerate(bits)] for bits in np.ndindex(2, 2, 2)])
        own = corners @ window.axes
        first = (own.min(axis=0) - 0.5 * thickness - np.array(window.lower)) / h
        last = (own.max(axis=0) + 0.5 * thickness - np.array(window.lower)) / h
        low = np.clip(np.floor(first).astype(int) - 1, 0, window.shape)
        high = np.clip(np.ceil(last).astype(int) + 1, 0, window.shape)
    if (high <= low).any():
        return None
    return slice(low[0], high[0]), slice(low[1], high[1]), slice(low[2], high[2])


def centres_of(work: Work, box: tuple[slice, ...]) -> Array:
    """Middles (3, n) in the scene of the cells of a box of the window."""
    window = work.state.window
    axes = [
        (np.arange(s.start, s.stop) + 0.5) * window.voxel_size + low for s, low in zip(box, window.lower, strict=True)
    ]
    grid = np.stack(np.meshgrid(*axes, indexing="ij")).reshape(3, -1).astype(np.float32)
    return window.to_scene(np.ascontiguousarray(grid))


def distances(work: Work, shape: PlacedShape, box: tuple[slice, ...]) -> Array:
    """Signed distance of every cell's middle of a box, (…) in m."""
    size = tuple(s.stop - s.start for s in box)
    return shape.distance(centres_of(work, box))[0].reshape(size)


__all__ = ["BASE", "Collide", "Source", "cells_of", "channel_name", "distances"]
