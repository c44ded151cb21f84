"""Flows along curves: spline flow around a path, bore flow inside a tube of varying width."""

from dataclasses import dataclass
from typing import Any, Literal

import numpy as np

from errant_gust.core.blocks import Cancel
from errant_gust.core.errors import StudyError
from errant_gust.core.fields.node import Node
from errant_gust.core.fields.samples import Array, At, Samples, cross, dot, scaled, size_of, smooth_step
from errant_gust.core.fields.step import VectorStart
from errant_gust.core.fields.steps.potential_flow import PotentialFlow
from errant_gust.core.geometry.curve_shape import Tube
from errant_gust.core.geometry.placed import PlacedShape
from errant_gust.core.study.parameters import Curve, RegionId, ShapeId, ShapeIds, param
from errant_gust.core.study.profile import profile

FADE = 0.3  # share of the reach over which a path's influence ends


@dataclass(frozen=True)
class Along:
    """A block of points as seen from a curve: place, offset, tangent, curvature as samples with gradients."""

    s: Samples
    share: Samples
    offset: Samples
    tangent: Samples
    curvature: Samples
    over: Samples
    length: Array


def curve_of(at: At, id: str) -> tuple[PlacedShape, Tube]:
    """A curve of the study with what is known along it. Raises StudyError for a shape that is no curve."""
    shape = at.node.scene.shape(id)
    if not isinstance(shape.kind, Tube):
        raise StudyError(
            f"'{id}' is a {shape.kind.label.lower()}, not a curve", where=at.node.where, fix="choose a curve"
        )
    return shape, shape.kind


def seen_from(at: At, id: str) -> Along:
    """Points of the block relative to the nearest point of the curve, in the scene's axes."""
    shape, kind = curve_of(at, id)
    near = kind.curves(shape.geometry).nearest(np.ascontiguousarray(shape.to_local(at.points)))
    turn = shape.turned.astype(np.float32)
    rotate: Any = (lambda v: turn @ v) if any(kind.turn) else (lambda v: v)
    tangent, offset = rotate(near.tangent), rotate(near.offset)
    curvature, change = rotate(near.curvature), rotate(near.change)
    if not at.gradient:
        s, share = Samples(near.s), Samples(near.s / near.length)
        across = (Samples(offset), Samples(tangent), Samples(curvature))
        return Along(s, share, *across, Samples(near.over), near.length)
    ds = near.q * tangent
    identity = np.broadcast_to(np.eye(3, dtype=np.float32)[:, :, None], (3, 3, at.n))
    doffset = identity - tangent[:, None] * ds[None]
    # offset stays across the tangent: where the curve bends the tangent turns, which ds already contains
    dover = np.where(near.over != 0, np.float32(1), np.float32(0)) * tangent
    return Along(
        Samples(near.s, ds),
        Samples(near.s / near.length, ds / near.length),
        Samples(offset, doffset),
        Samples(tangent, curvature[:, None] * ds[None]),
        Samples(curvature, change[:, None] * ds[None]),
        Samples(near.over, dover),
        near.length,
    )


def by_profile(points: list[tuple[float, float]], x: Samples) -> Samples:
    """A number that goes from 0 to 1, sent through a profile of points (place, value)."""
    value, slope, _ = profile(points, x.value)
    return x.chain(value, slope)


class SplineFlow(VectorStart):
    """A stream along a path: along it, toward it, and around it.

    v = A(r) [ (1 − τ(r)) along T − (inward (1 − τ) + along τ) ρ̂ + (1 − τ) around T × ρ̂ ], with T the tangent at the
    nearest point, ρ the offset from it, r = |ρ| / reach. Far particles are turned gradually from inward to along (τ,
    the turn-in), and A ends the influence at the reach.
    """

    id = "spline_flow"
    label = "Spline flow"
    yields = "a stream along, toward and around a path"
    mistake = (
        "Toward the path as strong as along it: everything collapses into a string. A tenth of it is enough, "
        "with some swirl around."
    )
    headline = "curve"
    formula = "v = A(r) [(1−τ) along T − (inward (1−τ) + along τ) ρ̂ + (1−τ) around T × ρ̂]"
    unit = "m/s"

    curve: ShapeId = param(help="The path to follow: a curve")
    along: float = param(1.5, unit="m/s", slider=(-10, 10), help="Speed along the path; negative goes backwards")
    inward: float = param(
        0.15, unit="m/s", slider=(-2, 2), help="Speed toward the path, usually a tenth of the speed along"
    )
    around: float = param(0.0, unit="m/s", slider=(-10, 10), help="Speed of the swirl around the path")
    reach: float = param(1.0, unit="m", above=0, slider=(0.05, 10), help="How far from the path particles are captured")
    turn_in: Curve = param(
        [(0.3, 0.0), (1.0, 0.8)],
        label="Turn-in",
        help="From the path (0) to the reach (1): 0 flows along, 1 straight inward",
    )
    strength: Curve = param(
        [(0.0, 1.0), (1.0, 1.0)], help="Factor on the speeds from the start of the path (0) to its end (1)"
    )
    width: Curve = param(
        [(0.0, 1.0), (1.0, 1.0)], help="Factor on the reach from the start of the path (0) to its end (1)"
    )
    with_tube: bool = param(
        True, label="As wide as the tube", help="The reach also grows and shrinks with the curve's own widths"
    )
    ends: Literal["stop", "run on", "loop"] = param(
        "stop", help="Beyond the ends: nothing, the stream goes on straight, or (for closed curves) round again"
    )

    def feature(self) -> float:
        return 0.5 * self.reach

    def evaluate(self, at: At) -> Samples:
        seen = seen_from(at, self.curve)
        inside = seen.share.chain(
            np.clip(seen.share.value, 0, 1), ((seen.share.value > 0) & (seen.share.value < 1)) * np.float32(1)
        )
        reach = by_profile(self.width, inside)
        if self.with_tube:
            reach = reach.times(by_profile(curve_of(at, self.curve)[1].widths, inside))
        reach = reach.chain(
            np.maximum(reach.value, 1e-3) * np.float32(self.reach), np.full_like(reach.value, self.reach)
        )
        distance = size_of(seen.offset)
        r = distance.times(reach.chain(1 / reach.value, -1 / reach.value**2))
        fade, slope = smooth_step((r.value - (1 - FADE)) / FADE)
        strength = by_profile(self.strength, inside).times(r.chain(1 - fade, -slope / FADE))
        if self.ends != "run on":
            tail = seen.over.chain(np.abs(seen.over.value), np.sign(seen.over.value))
            end = tail.times(reach.chain(1 / reach.value, -1 / reach.value**2))
            fade, slope = smooth_step(end.value / 0.5)
            strength = strength.times(end.chain(1 - fade, -slope / 0.5))
        turn = by_profile(self.turn_in, r)
        rest = turn.chain(1 - turn.value, np.full_like(turn.value, -1))
        soft = seen.offset.value
        room = dot(seen.offset, seen.offset)
        core = (0.05 * self.reach) ** 2
        inverse = room.chain(1 / np.sqrt(room.value + core), -0.5 * (room.value + core) ** -1.5)
        outward = Samples(soft, seen.offset.gradient).times(inverse)
        pull = scaled(rest, self.inward).plus(scaled(turn, abs(self.along)))
        v = seen.tangent.times(scaled(rest, self.along)).plus(outward.times(scaled(pull, -1)))
        if self.around:
            v = v.plus(cross(seen.tangent, outward).times(scaled(rest, self.around)))
        return v.times(strength)


class BoreFlow(VectorStart):
    """A flow inside a tube: it spreads where the tube is wide, hurries where it is narrow, and does not leave the wall.

    v = u T + (u R′ / R) ρ / (1 − κ · ρ) with u = Q / (π R²): free of divergence in the tube, also in bends (κ is the
    curvature of the axis), and tangent to the wall r = R(s). Beyond the wall it turns back inward and fades. Through a
    closed shape, from inlet to outlet, it is the potential flow on the voxels of a region.
    """

    id = "bore_flow"
    label = "Bore flow"
    yields = "a flow through a tube of varying width"
    mistake = (
        "A curve without radii is a thin straight tube: give its points radii. Particles born outside the "
        "wall are not drawn in."
    )
    headline = "curve"
    formula = "v = u T + (u R′/R) ρ/(1 − κ·ρ),  u = Q/(πR²)"
    unit = "m/s"

    curve: ShapeId = param(label="Tube", help="A curve with a radius, or a closed shape with an inlet and an outlet")
    flux: float = param(0.4, unit="m³/s", slider=(-5, 5), help="Volume through every section in a second")
    region: RegionId = param("", optional=True, help="For a closed shape: where its flow is solved, and how fine")
    inlets: ShapeIds = param([], help="For a closed shape: the space inside these shapes is where flow comes in")
    outlets: ShapeIds = param([], help="For a closed shape: where it goes out")
    spin: float = param(0.0, unit="/s", slider=(-10, 10), help="Turns about the axis, in radians a second")
    outside: float = param(0.3, range=(0, 5), help="How far beyond the wall it still acts, as a share of the radius")

    def feature(self) -> float:
        return 0.25

    def duct(self, node: Node) -> PotentialFlow | None:
        """The solved flow through a closed shape; None for a curve. Raises StudyError where no region is named, or
        the shape is open."""
        kind = node.scene.shape(self.curve).kind
        if isinstance(kind, Tube):
            return None
        if not self.region:
            what = f"'{self.curve}' is a {kind.label.lower()}, whose flow is solved on a region"
            raise StudyError(
                what, where=f"{node.where}.region", fix="choose a region around it, or a curve as the tube"
            )
        return PotentialFlow(
            region=self.region, inside=[self.curve], inlets=self.inlets, outlets=self.outlets, flux=self.flux
        )

    def prepare(self, node: Node, cancel: Cancel | None = None) -> None:
        duct = self.duct(node)
        if duct is not None:
            duct.prepare(node, cancel)

    def evaluate(self, at: At) -> Samples:
        duct = self.duct(at.node)
        if duct is not None:
            return duct.evaluate(at)
        _, kind = curve_of(at, self.curve)
        seen = seen_from(at, self.curve)
        share = np.clip(seen.share.value, 0, 1)
        inner = ((seen.share.value > 0) & (seen.share.value < 1)) * np.float32(1)
        r, dr, ddr = kind.width(share)
        dr, ddr = dr * inner / seen.length, ddr * inner / seen.length**2
        radius, slope = seen.s.chain(r, dr), seen.s.chain(dr, ddr)
        speed = radius.chain(np.float32(self.flux / np.pi) / r**2, np.float32(-2 * self.flux / np.pi) / r**3)
        distance = size_of(seen.offset)
        bend = dot(seen.curvature, seen.offset)
        over = np.maximum(1 - bend.value, np.float32(0.1))
        inverse = bend.chain(1 / over, np.where(1 - bend.value > 0.1, 1 / over**2, np.float32(0)))
        widen = slope.times(speed).times(radius.chain(1 / r, -1 / r**2))
        beyond = distance.value - r
        out = beyond > 0
        across = seen.offset.times(widen.times(inverse))
        if self.spin:
            across = across.plus(cross(seen.tangent, seen.offset).times(scaled(inverse, self.spin)))
        v = seen.tangent.times(speed).plus(across)
        if not out.any():
            return v
        back = np.where(out, np.abs(speed.value) * 4 * beyond / r, np.float32(0))
        unit = seen.offset.value / np.maximum(distance.value, np.float32(1e-9))
        room = np.maximum(np.float32(self.outside) * r, np.float32(1e-6))
        fade, steep = smooth_step(beyond / room)
        value = np.where(out, (v.value - back * unit) * (1 - fade), v.value)
        if v.gradient is None:
            return Samples(value)
        if seen.offset.gradient is None or distance.gradient is None:
            raise RuntimeError("a gradient was asked for")
        dbeyond = distance.gradient - radius.slope
        dunit = (seen.offset.gradient - unit[:, None] * distance.gradient[None]) / np.maximum(distance.value, 1e-9)
        sign = np.sign(speed.value) * 4
        dback = sign * (speed.slope * beyond + speed.value * dbeyond) / r - back / r * radius.slope
        dfade = steep * (dbeyond / room - beyond / room**2 * np.float32(self.outside) * radius.slope)
        whole = v.value - back * unit
        slope_out = (v.gradient - unit[:, None] * dback[None] - back * dunit) * (1 - fade) - whole[:, None] * dfade[
            None
        ]
        return Samples(value, np.where(out, slope_out, v.gradient))
