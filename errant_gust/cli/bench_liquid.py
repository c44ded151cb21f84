"""Benchmark rows of liquid: a substep thin and stiff, transfers, the pressure of a puddle, its surface, memory."""

import json
import subprocess
import sys
from collections.abc import Callable
from typing import Any

import numpy as np
from skimage.measure import marching_cubes

from errant_gust.cli.bench_rows import Row, best
from errant_gust.core.fields.plan import Plan
from errant_gust.core.flows.liquid.flow import LiquidFlow
from errant_gust.core.flows.liquid.kind import LiquidKind
from errant_gust.core.flows.liquid.state import LiquidState
from errant_gust.core.grids import transfer
from errant_gust.core.grids.particle_surface import particle_surface
from errant_gust.core.grids.region import GridRegion
from errant_gust.core.grids.staggered.faces import FaceGrid, Walls
from errant_gust.core.grids.staggered.free_surface import FreeSurface
from errant_gust.core.study.building import lane, study
from errant_gust.core.study.document import parse

Array = Any
VOXEL = 0.02
DT = 1 / 48


def dam(side: float = 1.92, *, high: float = 0.78, voxel: float = VOXEL, viscosity: Any = 1e-6) -> Plan:
    """A column in the corner of a box of `side` metres; at 0.02 m voxels it has half a million particles."""
    half = side / 2
    wide = 0.8 * side / 1.92
    steps = [
        ("domain", {"region": "r", "most_substeps": 256}),
        ("source", {"shape": "c", "until": 0.001, "viscosity": viscosity}), ("gravity", {}),
    ]  # fmt: skip
    patches = [
        ("noise", {"feature_size": 0.3, "octaves": 1, "range": "unit"}), ("threshold", {"level": 0.5, "soft": 0.02}),
        ("remap", {"from_range": [0, 1], "to_range": [np.log(1e-3), 0]}), ("formula", {"expression": "exp(f)"}),
        ("gain", {"factor": 1000 * voxel**2 / DT}),
    ]  # fmt: skip
    region = {"id": "r", "bounds": {"lower": [-half, -half, 0], "upper": [half, half, side]}, "voxel_size": voxel}
    column = {
        "id": "c", "kind": "box",
        "params": {"size": [wide, wide, high], "move": [-half + wide / 2, -half + wide / 2, high / 2]},
    }  # fmt: skip
    flows = [{**lane("w", *steps), "kind": LiquidKind.id}]
    return Plan(parse(study("Bench", lane("patches", *patches), regions=[region], shapes=[column], flows=flows)))


def begun(plan: Plan, frames: int = 3) -> tuple[LiquidFlow, LiquidState]:
    flow = LiquidFlow(plan, "w")
    state = flow.first()
    for n in range(1, 1 + frames):
        state = flow.next(state, n)
    return flow, state


def one_step(flow: LiquidFlow, state: LiquidState) -> dict[str, float]:
    """One substep of DT from a state, which is kept; what was found on the way."""
    domain = flow.domain
    low = np.array(domain.lower, np.float32)[:, None]
    a = {k: v.copy() for k, v in state.arrays().items()}
    a["q"] = (domain.to_own(np.ascontiguousarray(a.pop("position"))) - low) / np.float32(domain.voxel_size)
    a["velocity"] = a["velocity"] - a["lag"]
    work = flow._work(a, 0.2, 0.2 + DT, DT, [0] * 7, None)
    pace = {"substeps": 0.0, "fastest": 0.0}
    flow._substep(work, pace, last=False)
    return pace


def substeps() -> list[Row]:
    rows = []
    kinds = (
        ("thin", 1e-6, "≤ 600 ms"),
        ("stiff", 1000 * VOXEL**2 / DT, ""),
        ("stiff in patches", {"field": "patches"}, "≤ 1000 ms"),
    )
    for name, viscosity, goal in kinds:
        flow, state = begun(dam(viscosity=viscosity))
        found: dict[str, float] = {}
        took = best(lambda f=flow, s=state, d=found: d.update(one_step(f, s)), 3)  # type: ignore[misc]
        window = state.window.shape if state.window else ()
        note = f"{state.count:,} particles, window {' × '.join(map(str, window))}"
        if "stiffest" in found:
            iterations = int(found["viscous_iterations"])
            note += f"; dt ν / h² up to {found['stiffest']:.0f}, {iterations} iterations of viscosity"
        rows.append(Row(f"liquid, a substep, {name}", took, goal=goal, note=note))
    return rows


def transfers() -> list[Row]:
    """Particles to faces and back, against the same sums by NumPy's bincount and fancy indices for one component."""
    n, count = 96, 500_000
    rng = np.random.default_rng(1)
    q = rng.uniform(4, 50, (3, count)).astype(np.float32)
    shape = (n, n, n)
    order = transfer.order_by_cell(q, shape)
    q = order.sorted(q)
    v, c = rng.normal(size=(3, count)).astype(np.float32), np.zeros((9, count), np.float32)
    made = transfer.to_faces(q, v, c, q[0].copy(), order.start, shape)
    onto = best(lambda: transfer.to_faces(q, v, c, q[0], order.start, shape), 3)
    back = best(lambda: transfer.from_faces(q, made.faces, v, c, None, 0.0), 3)
    carried = best(lambda: transfer.carry(q.copy(), made.faces, 0.2), 3)
    sort = best(lambda: transfer.order_by_cell(q, shape).sorted(v), 3)
    some = q[:, :50_000]

    def numpy_onto() -> None:
        base = np.floor(some - 0.5).astype(np.int64)
        part = some - 0.5 - base
        for bits in np.ndindex(2, 2, 2):
            w = np.prod([part[a] if b else 1 - part[a] for a, b in enumerate(bits)], axis=0)
            cell = np.ravel_multi_index(tuple(base + np.array(bits)[:, None]), shape)
            np.bincount(cell, w * v[0, :50_000], n**3)
            np.bincount(cell, w, n**3)

    reference = best(numpy_onto, 2) * 30
    each = 1e6 / count
    note = (
        f"ns a particle: sort {sort * each:.0f}, to faces {onto * each:.0f}, from faces {back * each:.0f}, carried "
        f"(third order) {carried * each:.0f}; reference: 50,000 particles, one component, scaled by 30"
    )
    return [Row("liquid, 500 k particles to faces", onto, "NumPy bincount", reference, reference / onto, note=note)]


def puddle() -> Row:
    """Pressure of a layer six voxels thick in 96³, in its window, against the whole box."""

    def solve(shape: tuple[int, int, int]) -> Callable[[], None]:
        phi = np.broadcast_to(np.arange(shape[2]) + 0.5 - 8.3, shape).astype(np.float32).copy()
        sizes = tuple(tuple(m + (a == b) for b, m in enumerate(shape)) for a in range(3))
        shares = tuple(np.ones(s, np.float32) for s in sizes)
        for axis, s in enumerate(shares):
            s[(slice(None),) * axis + ([0, -1],)] = 0
        shares[2][:, :, :2] = 0
        faces = [np.full(s, -0.2 if a == 2 else 0.0, np.float32) for a, s in enumerate(sizes)]  # a step of falling
        region = GridRegion((0, 0, 0), shape, VOXEL)

        def work() -> None:
            surface = FreeSurface((shares[0], shares[1], shares[2]), phi)
            grid = FaceGrid(region, *(f.copy() for f in faces))
            surface.step(grid, surface.fixed(Walls(), None), tolerance=5e-4)

        return work

    ours, reference = best(solve((96, 96, 16)), 3), best(solve((96, 96, 96)), 3)
    note = "set-up and solve; the window grows with the liquid by blocks of 4 voxels"
    return Row("liquid, pressure of a thin puddle", ours, "in the box of 96³", reference, reference / ours, note=note)


def surfaces() -> Row:
    """The surface of half a million particles, against finding the triangles of a ball in as many voxels."""
    _, state = begun(dam())
    q = np.ascontiguousarray(state.position)
    spacing = VOXEL / 2
    values = np.ascontiguousarray(np.concatenate([state.velocity, state.age[None], state.viscosity[None]]))
    side = float((q.max(axis=1) - q.min(axis=1)).max())
    voxel = side / 120
    made = particle_surface(q, spacing, voxel, values=values)
    took = best(lambda: particle_surface(q, spacing, voxel, values=values), 3)
    region = np.stack(np.meshgrid(*[np.linspace(-1.2, 1.2, 128, dtype=np.float32)] * 3, indexing="ij"))
    ball = np.sqrt((region**2).sum(axis=0)) - 1
    reference = best(lambda: marching_cubes(ball, 0.0), 2)
    note = (
        f"{q.shape[1]:,} particles, about 128³ voxels, {len(made.faces):,} triangles with velocity, age, viscosity, "
        f"thickness; volume {made.volume / (q.shape[1] * spacing**3):.3f} of the particles'"
    )
    return Row("liquid, its surface", took, "marching cubes of a ball alone", reference, reference / took, note=note)


MEMORY = """
import sys, json, time
from errant_gust.cli.bench_liquid import begun, dam, one_step
from errant_gust.core.peak import peak
flow, state = begun(dam(voxel=float(sys.argv[1]), viscosity=float(sys.argv[2])), 2)
t = time.perf_counter()
one_step(flow, state)
print(json.dumps([peak(), state.count, state.window.voxels, time.perf_counter() - t]))
"""


def memory() -> list[Row]:
    """Peaks of processes at two sizes, above what one takes by itself; and two million particles."""
    told = []
    for voxel, viscosity in ((0.03, 0.5), (0.02, 0.5), (0.0126, 0.5)):
        words = [sys.executable, "-c", MEMORY, str(voxel), str(viscosity)]
        said = subprocess.run(words, capture_output=True, text=True, check=True)
        told.append(json.loads(said.stdout))
    (p0, n0, _, _), (p1, n1, w1, _), (p2, n2, _, t2) = told
    each = (p1 - p0) / (n1 - n0)
    note = (
        f"{each:.0f} bytes a particle at the peak of a substep with viscosity, its voxels included "
        f"({w1 / n1:.2f} of the window a particle)"
    )
    whole = f"{n2:,} particles with viscosity: {t2:.2f} s a substep, {p2 / 1e9:.2f} GB in all"
    return [Row("liquid, memory", 0.0, note=note), Row("liquid, two million particles", 1e3 * t2, note=whole)]


ROWS: list[tuple[str, Callable[[], Row | list[Row]]]] = [
    ("liquid substeps", substeps),
    ("liquid transfers", transfers),
    ("liquid puddle", puddle),
    ("liquid surface", surfaces),
    ("liquid memory", memory),
]
