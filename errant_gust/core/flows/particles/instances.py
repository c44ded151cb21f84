"""Instances: one shape many times, on particles or on points spread along lines."""

from typing import Any, Literal

import numpy as np

from errant_gust.core.errors import StudyError
from errant_gust.core.fields.samples import Array
from errant_gust.core.fields.sampling import sample
from errant_gust.core.flows.drawing import Drawing, Instanced, Prototype
from errant_gust.core.flows.particles.trails import DrawnStep
from errant_gust.core.flows.random import uniform
from errant_gust.core.study.parameters import FieldId, ShapeIds, param

PICK, SIZE, TURN = 60, 61, 62
TINY = 1e-12


class Instances(DrawnStep):
    """A sphere, a disc, or shapes of the study on every particle or spread point: sized, turned and chosen.

    Shapes are taken about the middle of their box and scaled so that their largest side is `size`. Their x axis (a
    disc's normal) is turned along the motion or a field. A scalar lane may choose among the shapes: with a Mask shape
    lane set to `which one`, the strongest mask at the place decides, and where there is none, there is no instance.
    """

    id = "instances"
    label = "Instances"
    yields = "a shape on every point"
    mistake = (
        "A field that chooses gives 1 for the first shape, 2 for the second, and 0 for none: a mask that is 1 inside "
        "chooses the first everywhere. Use a Mask shape lane set to 'which one'."
    )
    headline = "form"

    on: Literal["particles", "spread points"] = param("particles", help="Where they are placed")
    form: Literal["sphere", "disc", "shapes"] = param("sphere", help="What is placed")
    shapes: ShapeIds = param(
        default=[], optional=True, help="Shapes of the study; hide them in the list to see only the instances",
        when={"form": ["shapes"]},
    )  # fmt: skip
    choose: Literal["at random", "by field"] = param(
        "at random", label="Choice", help="Which of the shapes", when={"form": ["shapes"]}
    )
    chosen_by: FieldId = param(
        "", optional=True, help="A scalar lane: 1 takes the first, 2 the second, 0 none", when={"choose": ["by field"]}
    )
    size: float = param(0.05, unit="m", above=0, slider=(0.005, 1), varies=True, help="The largest side, or diameter")
    variation: float = param(0.3, range=(0, 1), help="Sizes differ by this share, more or less")
    turn: Literal["as they are", "along motion", "along field", "at random"] = param(
        "along motion", help="How they are turned"
    )
    toward: FieldId = param("", optional=True, help="A vector lane", when={"turn": ["along field"]})
    roll: bool = param(False, label="Roll", help="Each also turned about its direction, at random")
    share: float = param(1.0, range=(0, 1), help="Share of the points that have one")
    seed: int = param(1, range=(0, 2**31 - 1), help="Another number, other sizes, turns and choices")

    wants = {"chosen_by": "scalar", "toward": "vector"}

    def draw(self, d: Drawing) -> None:
        points, numbers, velocity, channels = self._places(d)
        keep = np.flatnonzero(uniform(self.seed, numbers, PICK + 9) < self.share) if self.share < 1 else slice(None)
        points, numbers, velocity = points[keep], numbers[keep], velocity[keep]
        channels = {k: v[keep] for k, v in channels.items()}
        prototypes = self._prototypes(d)
        which = self._choice(d, points, numbers, len(prototypes))
        there = which >= 0
        if not there.all():
            points, numbers, velocity, which = points[there], numbers[there], velocity[there], which[there]
            channels = {k: v[there] for k, v in channels.items()}
        d.instanced = Instanced(
            points, self._turns(d, points, numbers, velocity), self._sizes(d, points, numbers), which.astype(np.int32),
            prototypes, channels, self.on,
        )  # fmt: skip

    def _places(self, d: Drawing) -> tuple[Array, Array, Array, dict[str, Array]]:
        """Positions (n, 3), numbers (n,), velocities (n, 3), and channels (n,)."""
        if self.on == "particles":
            now = d.read(d.frame)
            speed = np.linalg.norm(now["velocity"], axis=1).astype(np.float32)
            return now["position"], now["id"].astype(np.int64), now["velocity"], {
                "id": now["id"].astype(np.float32), "age": now["age"], "speed": speed, "row": np.arange(len(speed)),
            }  # fmt: skip
        s = d.spread
        if s is None or d.tangents is None:
            return np.zeros((0, 3), np.float32), np.zeros(0, np.int64), np.zeros((0, 3), np.float32), {}
        return s.points, np.arange(len(s.points)), d.tangents, dict(s.channels)

    def _prototypes(self, d: Drawing) -> list[Prototype]:
        import trimesh

        if self.form == "sphere":
            ball = trimesh.creation.icosphere(subdivisions=2, radius=0.5)
            return [Prototype("sphere", np.asarray(ball.vertices, np.float32), np.asarray(ball.faces, np.int32))]
        if self.form == "disc":
            return [_disc()]
        if not self.shapes:
            raise StudyError("no shapes are chosen", where=f"{d.where}.shapes", fix="choose one or more")
        return [_of_shape(d, id) for id in self.shapes]

    def _choice(self, d: Drawing, points: Array, numbers: Array, many: int) -> Array:
        if self.form != "shapes" or (many == 1 and self.choose == "at random"):
            return np.zeros(len(points), np.int32)
        if self.choose == "at random":
            return (uniform(self.seed, numbers, PICK) * many).astype(np.int32)
        if not self.chosen_by:
            raise StudyError("no lane chooses", where=f"{d.where}.chosen_by", fix="choose a scalar lane")
        value = sample(d.scene.lane(self.chosen_by), points)[0]
        which = np.floor(np.nan_to_num(value) + 0.5).astype(np.int64) - 1
        return np.where(which < many, which, -1)

    def _sizes(self, d: Drawing, points: Array, numbers: Array) -> Array:
        lane = d.varying.get("size")
        size = np.maximum(sample(d.scene.lane(lane), points)[0], 0) if lane else np.full(len(points), self.size)
        u = uniform(self.seed, numbers, SIZE)
        return (size * (1 + self.variation * (2 * u - 1))).astype(np.float32)

    def _turns(self, d: Drawing, points: Array, numbers: Array, velocity: Array) -> Array:
        """Unit quaternions (n, 4), w x y z."""
        n = len(points)
        if self.turn == "at random":
            return _random_turns(self.seed, numbers)
        if self.turn == "as they are":
            turns = np.zeros((n, 4))
            turns[:, 0] = 1
        else:
            if self.turn == "along field":
                if not self.toward:
                    raise StudyError("no lane turns them", where=f"{d.where}.toward", fix="choose a vector lane")
                velocity = sample(d.scene.lane(self.toward), points)[0]
            turns = _toward(velocity.astype(np.float64))
        if self.roll:
            half = np.pi * uniform(self.seed, numbers, TURN + 3)
            turns = _times(turns, np.stack([np.cos(half), np.sin(half), 0 * half, 0 * half], axis=1))
        return turns.astype(np.float32)


def _disc(sides: int = 24) -> Prototype:
    """A disc of diameter 1 about the origin, its normal along x."""
    a = 2 * np.pi * np.arange(sides) / sides
    rim = np.stack([np.zeros(sides), 0.5 * np.cos(a), 0.5 * np.sin(a)], axis=1)
    i = np.arange(sides)
    faces = np.stack([np.zeros(sides, int), i + 1, (i + 1) % sides + 1], axis=1)
    return Prototype("disc", np.concatenate([[[0, 0, 0]], rim]).astype(np.float32), faces.astype(np.int32))


def _of_shape(d: Drawing, id: str) -> Prototype:
    """A shape of the study about the middle of its box, its largest side 1."""
    shape = d.scene.shape(id)
    if not shape.kind.bounded:
        raise StudyError("has no end, so it cannot be an instance", where=f"shapes.{id}", fix="choose another shape")
    vertices, faces = shape.kind.triangles(shape.geometry)
    v = np.asarray(vertices, np.float64) @ shape.turned.T
    low, high = v.min(axis=0), v.max(axis=0)
    v = (v - 0.5 * (low + high)) / max(float((high - low).max()), TINY)
    return Prototype(id, v.astype(np.float32), np.asarray(faces, np.int32))


def _toward(v: Array) -> Array:
    """The shortest turn of the x axis to each vector (n, 3); no turn for a vector of no length."""
    length = np.linalg.norm(v, axis=1, keepdims=True)
    u = np.where(length > TINY, v / np.maximum(length, TINY), [[1.0, 0.0, 0.0]])
    turns = np.stack([1 + u[:, 0], 0 * u[:, 0], -u[:, 2], u[:, 1]], axis=1)
    back = turns[:, 0] < 1e-9
    turns[back] = (0, 0, 0, 1)
    return turns / np.linalg.norm(turns, axis=1, keepdims=True)


def _times(a: Array, b: Array) -> Array:
    """Products of quaternions (n, 4): first b, then a."""
    w, v = a[:, :1], a[:, 1:]
    x, u = b[:, :1], b[:, 1:]
    real = w[:, 0] * x[:, 0] - (v * u).sum(axis=1)
    return np.concatenate([real[:, None], w * u + x * v + np.cross(v, u)], axis=1)


def _random_turns(seed: int, numbers: Array) -> Array:
    """Evenly over all turns (Shoemake 1992)."""
    u, a, b = (uniform(seed, numbers, TURN + i) for i in range(3))
    low, high = np.sqrt(1 - u), np.sqrt(u)
    a, b = 2 * np.pi * a, 2 * np.pi * b
    turns: Any = np.stack([high * np.cos(b), low * np.sin(a), low * np.cos(a), high * np.sin(b)], axis=1)
    return turns.astype(np.float32)
