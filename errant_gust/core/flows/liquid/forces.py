"""What moves liquid: Gravity, Push, Drag, Speed limit, Surface tension."""

from functools import partial

import numpy as np

from errant_gust.core.blocks import threads
from errant_gust.core.fields.samples import Array
from errant_gust.core.flows.liquid.steps import LiquidStep, Work
from errant_gust.core.flows.moving import Dragging, Falling, Limiting, Pushing, reached
from errant_gust.core.flows.step import Limits, Placed, Pushes
from errant_gust.core.grids.slabs import each_slab
from errant_gust.core.kernels import advection as kernels
from errant_gust.core.study.parameters import param


def push_faces(work: Work, force: Array) -> None:
    """Add an acceleration (3, nx, ny, nz) in m/s²."""
    assert work.faces is not None
    for axis, f in enumerate(work.faces):
        rows = f.shape[0]
        each_slab(rows, partial(kernels.to_faces, force[axis], np.float32(work.kick), axis, f), threads())


def ease_faces(work: Work, axis: int, target: Array, share: Array) -> None:
    """Draw a component toward a velocity by a share (nx, ny, nz)."""
    assert work.faces is not None
    f = work.faces[axis]
    each_slab(f.shape[0], partial(kernels.ease_faces, target, share, axis, f), threads())


class Gravity(Falling, LiquidStep, Pushes):
    """Everything falls alike."""

    id = "gravity"
    family = "force"
    lasting = True
    mistake = "Without it liquid hangs where it was born. A tank that is smaller than it looks runs too fast: use less."

    def pushes(self, part: Placed, work: Work) -> None:
        assert work.faces is not None
        g = work.along(np.array(self.acceleration, np.float32)[:, None])[:, 0]
        for axis, f in enumerate(work.faces):
            if g[axis]:
                f += g[axis] * np.float32(work.kick)


class Push(Pushing, LiquidStep, Pushes):
    """A vector lane pushes the liquid: eased toward the field's velocity, or as a force. Only along the axes that are
    chosen, and only where a scalar lane says.

    Several in one lane act one after another; each can be switched off to see what the others do. A push that leaves
    out the vertical spreads a puddle and breaks its edge; with it the puddle crawls.
    """

    id = "push"
    family = "force"
    lasting = True
    mistake = (
        "A field that is strong beside the liquid and weak in it does nothing: look at it on a slice through the "
        "liquid. Eased with a share of 1 the field wins over gravity and pressure alike; 0.1 to 0.3 steers."
    )

    def pushes(self, part: Placed, work: Work) -> None:
        lane = work.lane(self.field)
        axes = self.axes
        where = np.clip(work.lane(self.by), 0, None) if self.by else np.float32(1)
        self._met(part, work, lane, where)
        shape = lane.shape[1:]
        if self.how == "force":
            push_faces(work, self._chosen(work, (work.number(part, "strength") * where * lane), axes))
            return
        share = np.clip(np.asarray(work.number(part, "share"), np.float64), 0, 1 - 1e-6) * np.clip(where, 0, 1)
        each = reached(share, work.kick)
        each = np.ascontiguousarray(np.broadcast_to(each, shape), np.float32)
        lane = np.asarray(work.number(part, "amount") * lane, np.float32)
        if axes.all():
            for axis in range(3):
                ease_faces(work, axis, np.ascontiguousarray(lane[axis]), each)
        elif not work.domain.is_turned:
            for axis in (a for a in range(3) if axes[a]):
                ease_faces(work, axis, np.ascontiguousarray(lane[axis]), each)
        else:  # in a turned domain no face is along the scene's axes: ease what the cells have of them
            now = self._middles(work)
            push_faces(work, self._chosen(work, each * (lane - now), axes) / np.float32(work.kick))

    def _met(self, part: Placed, work: Work, lane: Array, where: Array | np.float32) -> None:
        """How much of the liquid the push reaches: for the check."""
        assert work.phi is not None
        wet = work.phi < 0
        acts = (np.abs(lane).max(axis=0) > 1e-6) & (where > 1e-6)
        share = float((wet & acts).sum() / max(1, wet.sum()))
        work.met[part.where] = max(work.met.get(part.where, 0.0), share)

    @staticmethod
    def _chosen(work: Work, vectors: Array, axes: Array) -> Array:
        """The part of vectors (3, nx, ny, nz) along the chosen axes of the scene."""
        if axes.all():
            return np.ascontiguousarray(vectors, np.float32)
        r = work.domain.axes
        only = (r.T @ np.diag(axes.astype(float)) @ r).astype(np.float32)
        return np.ascontiguousarray(np.einsum("ij,jxyz->ixyz", only, vectors), np.float32)

    @staticmethod
    def _middles(work: Work) -> Array:
        assert work.faces is not None
        u, v, w = work.faces
        half = np.float32(0.5)
        return np.stack([half * (u[1:] + u[:-1]), half * (v[:, 1:] + v[:, :-1]), half * (w[:, :, 1:] + w[:, :, :-1])])


class LiquidDrag(Dragging, LiquidStep, Limits):
    """Takes the liquid's speed at a rate, everywhere or where a scalar lane says."""

    id = "drag"
    family = "force"
    lasting = True
    yields = "slower liquid"
    mistake = "It is no viscosity: a drop that falls through drag falls slower, thick or thin. For honey use Viscosity."

    def pushes(self, part: Placed, work: Work) -> None:
        rate = work.number(part, "rate") * (work.lane(self.by) if self.by else np.float32(1))
        shape = work.window.shape
        share = np.broadcast_to(1 - np.exp(-np.maximum(rate, 0) * np.float32(work.kick)), shape)
        share, still = np.ascontiguousarray(share, np.float32), np.zeros(shape, np.float32)
        for axis in range(3):
            ease_faces(work, axis, still, share)


class SpeedLimit(Limiting, LiquidStep, Limits):
    """No particle is faster than the limit, whatever pushes it."""

    id = "speed_limit"
    family = "force"
    mistake = "Below what falling gives, streams thicken and stop looking like liquid: 2 m of fall are 6.3 m/s."

    def limit(self, part: Placed, work: Work) -> None:
        v = work.a["velocity"]
        if not v.shape[1]:
            return
        most = np.maximum(work.number_at(part, "most", work.points()) if part.varying else np.float32(self.most), 0)
        speed = np.sqrt((v * v).sum(axis=0))
        v *= np.minimum(1, most / np.maximum(speed, np.float32(1e-20))).astype(np.float32)


class SurfaceTension(LiquidStep, Pushes):
    """Draws the surface together: drops become round, jets break up.

    It is tension over density: 7.3e-5 m³/s² for water. Seen only in drops and threads of a few centimetres, unless it
    is made stronger than it is.
    """

    id = "surface_tension"
    label = "Surface tension"
    family = "force"
    yields = "rounder drops"
    mistake = (
        "Steps in time grow short with it: with voxels half as large nearly three times as many are needed. In a tank "
        "of metres it shows nothing."
    )
    headline = "tension"
    formula = "p = tension · κ on the surface"

    tension: float = param(
        7.3e-5, unit="m³/s²", range=(0, 100), slider=(0, 0.01), help="Over density; water 7.3e-5, glass 1.2e-4"
    )

    def pushes(self, part: Placed, work: Work) -> None:
        work.tension += self.tension
