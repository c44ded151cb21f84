"""What moves grains: Gravity, Push, Drag, Speed limit, Hold. They work on the nodes of the grid, so that grains that
lie together move together."""

from typing import Any

import numpy as np

from errant_gust.core.fields.samples import Array
from errant_gust.core.flows.grains.steps import GrainStep, Work
from errant_gust.core.flows.moving import Dragging, Falling, Holding, Limiting, Pushing, reached
from errant_gust.core.flows.step import Limits, Placed, Pushes
from errant_gust.core.study.parameters import param


class Gravity(Falling, GrainStep, Pushes):
    """Everything falls alike."""

    id = "gravity"
    family = "force"
    lasting = True
    mistake = "Without it a heap has no weight and no friction: it drifts apart at a touch."

    def pushes(self, part: Placed, work: Work) -> None:
        g = work.along(np.array(self.acceleration, np.float32)[:, None])[:, 0]
        work.v += (g * np.float32(work.kick))[:, None]


class Push(Pushing, GrainStep, Pushes):
    """A vector lane pushes the sand: eased toward the field's velocity, or as a force. Only along the axes that are
    chosen, and only where a scalar lane says.

    Several in one lane act one after another; each can be switched off to see what the others do. Sand is drawn along
    a curve by a spline flow that is masked with evolving noise of high contrast: some rises while the rest slumps.
    """

    id = "push"
    family = "force"
    lasting = True
    mistake = (
        "What is drawn up faster than it can follow flies apart: put a Speed limit well below what the field asks. "
        "Eased with a share of 1 the field wins over weight and friction alike; 0.1 to 0.3 steers."
    )

    def pushes(self, part: Placed, work: Work) -> None:
        lane = work.lane(self.field, f"{part.where}.field")
        where = np.clip(work.lane(self.by, f"{part.where}.by"), 0, None) if self.by else np.float32(1)
        acts = (np.abs(lane).max(axis=0, initial=0) > 1e-6) & (where > 1e-6)
        share_met = float(acts.mean()) if acts.size else 0.0
        work.met[part.where] = max(work.met.get(part.where, 0.0), share_met)
        if self.how == "force":
            gained = np.float32(work.kick) * work.number(part, "strength") * where * lane
            work.v += self._chosen(work, gained)
            return
        share = np.clip(work.number(part, "share"), 0, 1 - 1e-6) * np.clip(where, 0, 1)
        each = np.asarray(reached(share, work.kick), np.float32)
        toward = np.asarray(work.number(part, "amount") * lane, np.float32)
        work.v += self._chosen(work, each * (toward - work.v))

    def _chosen(self, work: Work, vectors: Array) -> Array:
        """The part of vectors (3, k) along the chosen axes of the scene."""
        if self.axes.all():
            return np.asarray(vectors)
        r = work.domain.axes
        return np.asarray((r.T @ np.diag(self.axes.astype(float)) @ r).astype(np.float32) @ vectors)


class GrainDrag(Dragging, GrainStep, Limits):
    """Takes the sand's speed at a rate, everywhere or where a scalar lane says: sand in water, or in thick air."""

    id = "drag"
    family = "force"
    lasting = True
    yields = "slower sand"
    mistake = "It slows a heap and a stream alike. For sand that holds steeper use Friction."

    def pushes(self, part: Placed, work: Work) -> None:
        rate: Any = work.number(part, "rate")
        if self.by:
            rate = rate * work.lane(self.by, f"{part.where}.by")
        work.v *= np.asarray(np.exp(-np.maximum(rate, 0) * np.float32(work.kick)), np.float32)


class SpeedLimit(Limiting, GrainStep, Limits):
    """No grain is faster than the limit, whatever pushes it: hard, or bending toward it.

    Sand that a field draws up stays sand only if it is held well below what the field asks.
    """

    id = "speed_limit"
    family = "force"
    mistake = "It bounds what stands before it. Below what falling gives, a stream hangs in the air: 0.2 m are 2 m/s."

    soft: float = param(0.0, range=(0, 1), help="Share of the limit from which on speed bends toward it; 0 cuts it off")

    def pushes(self, part: Placed, work: Work) -> None:
        speed = np.sqrt((work.v * work.v).sum(axis=0))
        most = np.maximum(np.asarray(work.number(part, "most"), np.float32), np.float32(1e-6))
        if self.soft:
            begins = most * np.float32(1 - self.soft)
            span = np.maximum(most - begins, np.float32(1e-12))
            bent = begins + span * -np.expm1(-np.maximum(speed - begins, 0) / span)
            allowed = np.where(speed > begins, bent, speed)
        else:
            allowed = np.minimum(speed, most)
        work.v *= np.asarray(allowed / np.maximum(speed, np.float32(1e-20)), np.float32)


class Hold(Holding, GrainStep, Limits):
    """A scalar lane decides which sand stays: above the level it moves, below it keeps still (or the other way), as if
    it were frozen in its place. With a lane that evolves it is let go bit by bit."""

    id = "hold"
    family = "force"
    yields = "sand that keeps still"
    mistake = (
        "It holds what is before it in the lane: keep it behind Gravity and Push. What is held carries the sand that "
        "lies on it; a mask that never passes the level holds everything for ever."
    )

    def pushes(self, part: Placed, work: Work) -> None:
        work.v *= np.asarray(self.share_left(work.lane(self.by, f"{part.where}.by")), np.float32)
