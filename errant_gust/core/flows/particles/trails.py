"""Steps that draw what has been computed: trails, flow lines grown through a field, points spread along lines.

They are worked out from the frames of a run when they are asked for, and are not part of its identity: another length
of a trail needs no new run.
"""

from __future__ import annotations

from typing import Literal

import numpy as np

from errant_gust.core.fields.look import flow_lines
from errant_gust.core.flows.drawing import Drawing, Draws
from errant_gust.core.flows.on_lines import Measured
from errant_gust.core.flows.particles.steps import ParticleStep
from errant_gust.core.flows.random import uniform
from errant_gust.core.flows.results import Lines
from errant_gust.core.study.parameters import FieldId, ShapeId, param


class DrawnStep(ParticleStep, Draws):
    """A step that draws; it changes nothing that is computed."""

    family = "drawn"


class Trail(DrawnStep):
    """The way each particle came, as far back as a time: a line that is exactly so many seconds long.

    Points have `back` (seconds before the frame), `speed` and `id`. A particle that was born again begins a new trail.
    """

    id = "trail"
    label = "Trail"
    yields = "the way particles came"
    mistake = (
        "A trail is made of frames: fast particles in few frames have corners. More frames a second, or fewer metres a "
        "second, make it round."
    )
    headline = "length"

    length: float = param(0.5, unit="s", above=0, slider=(0.05, 5), help="How far back in time it reaches")
    share: float = param(1.0, range=(0, 1), help="Share of the particles that leave one")

    def draw(self, d: Drawing) -> None:
        step = d.clock.step
        now = d.read(d.frame)
        if self.share < 1:
            keep = uniform(7, now["id"], 3) < self.share
            now = {k: v[keep] for k, v in now.items()}
        order = np.argsort(now["id"])
        ids = now["id"][order]
        again = now["again"][order] if "again" in now else None
        rows = [now["position"][order]]
        speeds = [np.linalg.norm(now["velocity"][order], axis=1)]
        alive = np.ones(len(ids), bool)
        back, known = [0.0], [alive]
        n = int(np.ceil(self.length / step - 1e-9))
        for k in range(1, n + 1):
            if d.frame - k < d.clock.start or not alive.any():
                break
            then = d.read(d.frame - k)
            by_id = np.argsort(then["id"])
            found = np.searchsorted(then["id"][by_id], ids)
            found = by_id[np.minimum(found, len(by_id) - 1)] if len(by_id) else np.zeros(len(ids), int)
            here = alive & (then["id"][found] == ids) if len(by_id) else np.zeros(len(ids), bool)
            if again is not None and len(by_id):
                here &= then["again"][found] == again
            p = np.where(here[:, None], then["position"][found] if len(by_id) else 0, rows[-1])
            v = np.linalg.norm(then["velocity"][found], axis=1) if len(by_id) else speeds[-1]
            if k * step > self.length:  # the last piece only as far as the length asks
                part = np.float32((self.length - (k - 1) * step) / step)
                p = rows[-1] + part * (p - rows[-1])
            rows.append(p.astype(np.float32))
            speeds.append(np.where(here, v, speeds[-1]))
            back.append(min(k * step, self.length))
            known.append(here)
            alive = here
        there = np.stack(known, axis=1)
        counts = there.sum(axis=1)
        long = counts > 1
        there &= long[:, None]
        points = np.stack(rows, axis=1)[there]
        channels = {
            "back": np.broadcast_to(np.array(back, np.float32), there.shape)[there],
            "speed": np.stack(speeds, axis=1)[there].astype(np.float32),
            "id": np.broadcast_to(ids[:, None], there.shape)[there].astype(np.float32),
        }
        d.lines.append(Lines(points.astype(np.float32), counts[long].astype(np.int32), channels))


class FlowLines(DrawnStep):
    """Lines grown through a field from where the particles are, as it stands at the frame.

    Points are evenly spaced; `along` is the length from the start in metres, `speed` that of the field.
    """

    id = "flow_lines"
    label = "Flow lines"
    yields = "lines grown through a field"
    mistake = (
        "A spacing longer than the field's features cuts corners. Half of the smallest detail keeps lines on the flow."
    )
    headline = "field"
    wants = {"field": "vector"}

    field: FieldId = param(help="A vector lane to grow through")
    count: int = param(400, range=(1, 1_000_000), slider=(10, 5000), help="How many lines; particles are taken evenly")
    length: float = param(1.0, unit="m", above=0, slider=(0.1, 20), help="Length of each line, one way")
    spacing: float = param(0.05, unit="m", above=0, slider=(0.005, 1), help="Between points along it")
    both: bool = param(False, label="Both directions", help="Also upstream")
    stop: ShapeId = param("", optional=True, label="Stop at", help="Lines end where they meet this shape")

    def draw(self, d: Drawing) -> None:
        now = d.read(d.frame)
        order = np.argsort(now["id"])
        n = len(order)
        picked = order[np.unique(np.linspace(0, n - 1, min(n, self.count)).round().astype(int))] if n else order
        seeds = now["position"][picked]
        steps = max(1, min(20_000, round(self.length / self.spacing)))
        node = d.scene.lane(self.field)
        made = flow_lines(node, seeds, length=self.length, steps=steps, both=self.both)
        seed_at = steps if self.both else 0
        live = np.ones(made.shape[:2], bool)
        moved = np.linalg.norm(np.diff(made, axis=1), axis=2) > 1e-9
        if self.stop:
            inside = d.scene.shape(self.stop).distance(np.ascontiguousarray(made.reshape(-1, 3).T), 0)[0] < 0
            live &= ~inside.reshape(live.shape)
        live[:, seed_at + 1 :] &= moved[:, seed_at:]
        live[:, :seed_at] &= moved[:, :seed_at]
        forth = np.logical_and.accumulate(live[:, seed_at:], axis=1)
        back = np.logical_and.accumulate(live[:, : seed_at + 1][:, ::-1], axis=1)[:, ::-1]
        there = np.concatenate([back[:, :-1], forth], axis=1)
        counts = there.sum(axis=1)
        there &= (counts > 1)[:, None]
        points = made[there]
        first = there.argmax(axis=1)
        along = (np.arange(there.shape[1])[None] - first[:, None]) * np.float32(self.length / steps)
        value = node.evaluate(np.ascontiguousarray(points.T)).value if len(points) else np.zeros((3, 0), np.float32)
        channels = {
            "along": along[there].astype(np.float32),
            "speed": np.sqrt((value * value).sum(axis=0)),
            "id": np.broadcast_to(now["id"][picked][:, None], there.shape)[there].astype(np.float32),
        }
        d.lines.append(Lines(points, counts[counts > 1].astype(np.int32), channels))


class SpreadAlong(DrawnStep):
    """Points spread along the lines of the step before: so many metres apart, or so many on each, evenly or at
    random."""

    id = "spread_along"
    label = "Spread along"
    yields = "points along lines"
    mistake = (
        "It spreads on the lines of the steps before it: without a Trail or Flow lines to its left there are none."
    )
    headline = "spacing"

    how: Literal["spacing", "count"] = param("spacing", help="So far apart, or so many on every line")
    spacing: float = param(0.1, unit="m", above=0, slider=(0.01, 1), help="Between points", when={"how": ["spacing"]})
    count: int = param(10, range=(1, 100_000), slider=(1, 100), help="Points a line", when={"how": ["count"]})
    random: bool = param(False, label="At random", help="Anywhere along the line, as many on the mean")
    seed: int = param(1, range=(0, 2**31 - 1), help="Another number, other places")

    def draw(self, d: Drawing) -> None:
        if not d.lines:
            d.spread = Lines(np.zeros((0, 3), np.float32), np.zeros(0, np.int32))
            d.tangents = d.spread.points
            return
        measured = Measured(d.lines[-1])
        length = measured.length
        many = (
            np.full(len(length), self.count)
            if self.how == "count"
            else np.floor(length / self.spacing + 1e-6).astype(int) + 1
        )
        owner = np.repeat(np.arange(len(many)), many)
        place = np.arange(many.sum()) - np.repeat(np.cumsum(many) - many, many)
        if self.random:
            share = uniform(self.seed, place.astype(np.uint64) + (owner.astype(np.uint64) << np.uint64(32)), 0)
            want = share * length[owner]
        elif self.how == "count":
            want = length[owner] * (place + 0.5) / many[owner]
        else:
            want = place * self.spacing
        points, d.tangents, channels = measured.at(owner, measured.start[owner] + want)
        d.spread = Lines(points, many.astype(np.int32), channels)
