"""Surfaces that lanes move, made once for what they depend on."""

from __future__ import annotations

from typing import TYPE_CHECKING, Protocol

import numpy as np

from errant_gust.core.errors import BudgetError, StudyError
from errant_gust.core.fields.gridded import KEPT
from errant_gust.core.fields.samples import Array
from errant_gust.core.fields.sampling import sample
from errant_gust.core.geometry.deformed import DeformedDistance, DeformedShape
from errant_gust.core.geometry.made import Made
from errant_gust.core.geometry.mesh import Mesh
from errant_gust.core.study.document import content_hash

if TYPE_CHECKING:
    from errant_gust.core.fields.scene import Scene

MOST_TRIANGLES = 2_000_000
ASKED = 20_000  # triangles that are asked whether they lie in the shape
NUDGE = 1e-3  # of the largest side: how far outside of a triangle it is asked
Surface = tuple[Array, Array]


class Deforms(Protocol):
    """What says how a shape is moved: see `DeformedShape`."""

    @property
    def shape(self) -> str:
        """The shape, or surface, that is moved."""

    @property
    def field(self) -> str:
        """The field that moves it."""

    @property
    def how(self) -> str:
        """Along the field, along the normal, or carried by it."""

    @property
    def amount(self) -> float:
        """What the field is multiplied by."""

    @property
    def seconds(self) -> float:
        """How long a velocity carries it, in s."""

    @property
    def steps(self) -> int:
        """Steps of the path along a velocity."""

    @property
    def by(self) -> str:
        """The scalar that says how much, from place to place; empty for everywhere."""


def deformed_moves(scene: Scene, kind: Deforms) -> bool:
    """Whether it changes from frame to frame."""
    lanes = [scene.lane(id) for id in (kind.field, kind.by) if id]
    return kind.how.endswith("first frame") or any(n.moves for n in lanes) or scene.shape_moves(kind.shape)


def deformed_of(scene: Scene, kind: DeformedShape, where: str, content: str) -> Made:
    """The deformed surface at the scene's time. `content` stands for all it depends on but the time.

    Raises a StudyError if its lanes do not fit, or nothing of it is left, a BudgetError if it has too many triangles.
    """
    time = scene.time if deformed_moves(scene, kind) else 0.0

    def make() -> Made:
        before = _before(scene, kind, where, content)
        vertices, faces = moved_surface(scene, kind, where, content, before)
        return _shape(vertices, faces, where)

    key = content_hash("deformed", content, time)
    return KEPT.get(key, make, lambda made: made.nbytes)  # type: ignore[no-any-return]


def _before(scene: Scene, kind: DeformedShape, where: str, content: str) -> Surface:
    """The surface before it is moved, in the scene, joined at its seams, with edges that are short enough."""
    import trimesh

    shape = first_scene(scene, kind).shape(kind.shape)
    if not shape.kind.bounded:
        raise StudyError(
            f"'{kind.shape}' has no end", where=f"{where}.shape", fix="choose a shape that has, such as a flat box"
        )
    moves = shape.moves and not kind.how.endswith("first frame")
    key = content_hash("before", content, scene.time if moves else 0.0)

    def make() -> Surface:
        made = trimesh.Trimesh(*shape.surface, process=True)
        made.update_faces(made.nondegenerate_faces())
        longest = float(made.edges_unique_length.max(initial=0.0))
        need = len(made.faces) * max(1.0, longest / kind.edges) ** 2
        if need > 4 * MOST_TRIANGLES:
            raise BudgetError(
                f"edges of {kind.edges:g} m need about {need:,.0f} triangles", where=f"{where}.edges",
                fix=f"at least {longest / (MOST_TRIANGLES / len(made.faces)) ** 0.5:.2g} m",
            )  # fmt: skip
        vertices, faces = trimesh.remesh.subdivide_to_size(made.vertices, made.faces, kind.edges, max_iter=20)
        fine = trimesh.Trimesh(vertices, faces, process=True)
        return np.asarray(fine.vertices, np.float32), np.asarray(fine.faces, np.int32)

    return KEPT.get(key, make, lambda s: s[0].nbytes + s[1].nbytes)  # type: ignore[no-any-return]


def first_scene(scene: Scene, kind: Deforms) -> Scene:
    """When its shape and its mask are looked up: at first if it is carried on from there, else now."""
    return scene.sibling(0.0) if kind.how.endswith("first frame") else scene


def moved_surface(scene: Scene, kind: Deforms, where: str, content: str, before: Surface) -> Surface:
    """A surface, or points with no faces, moved as the kind says. Raises StudyError for a field of the wrong kind,
    or that is not a number everywhere on the surface."""
    vertices, faces = before
    share = np.full(len(vertices), kind.amount, np.float32)
    if kind.by:
        if scene.lane(kind.by).kind != "scalar":
            raise StudyError(f"'{kind.by}' is a vector; a scalar is needed here", where=f"{where}.by")
        share *= sample(first_scene(scene, kind).lane(kind.by), vertices)[0]
    kinds = scene.lane(kind.field).kind
    if kinds != "vector" and kind.how != "along the normal":
        raise StudyError(
            f"'{kind.field}' is a scalar; a vector is needed here", where=f"{where}.field",
            fix="another lane, or along the normal",
        )  # fmt: skip
    if kind.how == "along the field":
        moved = vertices + share[:, None] * sample(scene.lane(kind.field), vertices)[0]
    elif kind.how == "along the normal":
        normal = normals(vertices, faces)
        value = sample(scene.lane(kind.field), vertices)[0]
        moved = vertices + (share * (value if value.ndim == 1 else (value * normal).sum(axis=1)))[:, None] * normal
    elif kind.how == "carried":
        moved, step = vertices, kind.seconds / kind.steps
        for n in range(kind.steps):
            moved = carried(scene, kind.field, moved, share, scene.time + n * step, step)
    else:
        moved = _carried_on(scene, kind, vertices, share, content)
    if not np.isfinite(moved).all():
        raise StudyError("the lane is not a number everywhere on it", where=f"{where}.field", fix="look at the lane")
    return moved.astype(np.float32), faces


def _carried_on(scene: Scene, kind: Deforms, vertices: Array, share: Array, content: str) -> Array:
    """Carried from frame to frame; each frame is kept, so that the next begins with it."""
    clock = scene.study.clock
    last = max(0, round(scene.time / clock.step))

    def key(frame: int) -> str:
        return content_hash("carried on", content, frame)

    begun, moved = 0, vertices
    for n in range(last, 0, -1):
        held = KEPT.find(key(n))
        if held is not None:
            begun, moved = n, held
            break
    for n in range(begun, last):
        moved = carried(scene, kind.field, moved, share, n * clock.step, clock.step)
        KEPT.get(key(n + 1), lambda made=moved: made, lambda v: int(v.nbytes))  # type: ignore[misc]
    return np.asarray(moved)


def carried(scene: Scene, lane: str, points: Array, share: Array, time: float, step: float) -> Array:
    """Points (n, 3) carried along a share (n,) of a lane in m/s for a step of seconds, by the classic method of the
    fourth order (Kutta 1901)."""

    def v(at: float, p: Array) -> Array:
        return np.asarray(share[:, None] * sample(scene.sibling(max(0.0, at)).lane(lane), p)[0])

    half = np.float32(0.5 * step)
    k1 = v(time, points)
    k2 = v(time + 0.5 * step, points + half * k1)
    k3 = v(time + 0.5 * step, points + half * k2)
    k4 = v(time + step, points + np.float32(step) * k3)
    return np.asarray(points + np.float32(step / 6) * (k1 + 2 * k2 + 2 * k3 + k4), np.float32)


def normals(vertices: Array, faces: Array) -> Array:
    """Unit normals (n, 3) of vertices: those of their triangles by area."""
    corners = vertices[faces].astype(np.float64)
    across = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    total = np.zeros((len(vertices), 3))
    for corner in range(3):
        for axis in range(3):
            total[:, axis] += np.bincount(faces[:, corner], across[:, axis], len(vertices))
    return np.asarray(total / np.maximum(np.linalg.norm(total, axis=1), 1e-30)[:, None], np.float32)


def _shape(vertices: Array, faces: Array, where: str) -> Made:
    import trimesh

    corners = vertices[faces].astype(np.float64)
    across = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    volume = float(np.einsum("ni,ni->n", corners[:, 0], across).sum() / 6)
    tight = trimesh.Trimesh(vertices, faces, process=False)
    flaws = {"inside_out": 1.0 if tight.is_watertight and volume < 0 else 0.0}
    if flaws["inside_out"]:
        faces, across = np.ascontiguousarray(faces[:, ::-1]), -across
    mean = normals(vertices, faces)[faces].mean(axis=1)
    flaws["folded"] = float(((across * mean).sum(axis=1) < 0).sum())
    mesh = Mesh(vertices, faces, watertight=bool(tight.is_watertight))
    flaws["through_itself"] = _through_itself(mesh, vertices, faces, across)
    said = f", {volume:.3g} m³" if tight.is_watertight else ", not closed"
    return Made(DeformedDistance(mesh), np.asarray(faces, np.int32), f"{len(faces):,} triangles{said}", flaws)


def _through_itself(mesh: Mesh, vertices: Array, faces: Array, across: Array) -> float:
    """What share of the triangles lies inside the shape: of a place just outside of one the shape goes round once."""
    some = np.unique(np.linspace(0, len(faces) - 1, min(len(faces), ASKED)).astype(int))
    size = np.linalg.norm(across[some], axis=1)
    some = some[size > 1e-12]
    unit = across[some] / np.linalg.norm(across[some], axis=1)[:, None]
    out = vertices[faces[some]].mean(axis=1) + NUDGE * float((mesh.upper - mesh.lower).max()) * unit
    return float((mesh.winding(out) > 0.5).mean()) if len(some) else 0.0
