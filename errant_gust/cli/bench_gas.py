"""Benchmark rows of gas: advection against SciPy, whole frames with an obstacle, memory, cost of what is active."""

import json
import subprocess
import sys
from collections.abc import Callable
from typing import Any

import numpy as np
from scipy import ndimage

from errant_gust.cli.bench_rows import Row, best
from errant_gust.core.fields.plan import Plan
from errant_gust.core.flows.gas.flow import GasFlow
from errant_gust.core.flows.gas.kind import GasKind
from errant_gust.core.flows.gas.refined import DetailFlow
from errant_gust.core.flows.gas.state import GasState
from errant_gust.core.grids.staggered.faces import Walls
from errant_gust.core.study.building import lane, study
from errant_gust.core.study.document import parse

Array = Any


def smoke(n: int, *, follow: bool = False, obstacle: bool = True, side: float = 2.0, reflect: bool = False) -> Plan:
    """Smoke and heat from a ball past an obstacle in n³ voxels of a box of `side` metres."""
    steps = [
        ("domain", {"region": "r", "follow": follow, "reflect": reflect}),
        ("source", {"shape": "s", "how": "at least", "density": 1, "temperature": 60}),
        ("rise", {}), ("cool", {"rate": 0.3}), ("curl_up", {"strength": 0.3}),
        *([("collide", {"shapes": ["b"]})] if obstacle else []),
    ]  # fmt: skip
    half = side / 2
    regions = [{"id": "r", "bounds": {"lower": [-half, -half, 0], "upper": [half, half, side]}, "voxel_size": side / n}]
    shapes = [
        {"id": "s", "kind": "sphere", "params": {"radius": 0.25, "move": [0, 0, 0.35]}},
        {"id": "b", "kind": "sphere", "params": {"radius": 0.3, "move": [0.1, 0, 1.1]}},
    ]
    flows = [{**lane("g", *steps), "kind": GasKind.id}]
    return Plan(parse(study("Bench", lane("w", ("wind", {})), regions=regions, shapes=shapes, flows=flows)))


def _begun(plan: Plan, frames: int = 3) -> tuple[GasFlow, GasState]:
    flow = GasFlow(plan, "g")
    state = flow.first()
    for k in range(1, 1 + frames):
        state = flow.next(state, k, keep=False)
    return flow, state


def carrying() -> Row:
    """Two channels and three components by MacCormack, against the same sum of samplings in SciPy."""
    flow, state = _begun(smoke(128, obstacle=False))
    projector = flow._kept[1]  # type: ignore[index]
    ours = best(lambda: flow._carried(state, projector, Walls(), 1 / 24, walls=False, own=False), 3)
    n = 64
    rng = np.random.default_rng(1)
    a = rng.normal(size=(n, n, n)).astype(np.float32)
    where = np.stack(np.meshgrid(*[np.arange(n, dtype=np.float32)] * 3, indexing="ij")) + np.float32(0.3)
    one = best(lambda: ndimage.map_coordinates(a, where, order=1), 2)
    # of each of the four grids: one trace of three components, there and back; of each channel: there and back
    samplings = 4 * 2 * 3 + 2 * 5
    reference = one * samplings * 8
    note = f"reference: {samplings} samplings of 64³ places in SciPy, scaled by 8, without limiter"
    return Row("advection 128³, smoke, heat, velocity", ours, "SciPy samplings", reference, reference / ours, note=note)


def frames() -> list[Row]:
    rows = []
    for n, goal in ((64, "≤ 120 ms"), (128, "≤ 1000 ms")):
        flow, state = _begun(smoke(n))
        took = best(lambda f=flow, s=state: f._step(s, 0.2, 0.2 + 1 / 24, None), 3)  # type: ignore[misc]
        note = (
            f"one substep; {1e6 * took / n**3:.0f} ns a voxel; projection in {flow._kept[1].solver.iterations} cycles"  # type: ignore[index]
        )
        rows.append(Row(f"gas {n}³, smoke, heat, obstacle: a step", took, goal=goal, note=note))
    flow, state = _begun(smoke(128, reflect=True))
    kept = best(lambda: flow._step(state, 0.2, 0.2 + 1 / 24, None), 3)
    rows.append(Row("gas 128³, keeping swirls: a step", kept, "without", took, kept / took, note="two half steps"))
    return rows


def following() -> Row:
    """The same gas in a box of eight times the volume: the window should make it cost the same."""
    small, s = _begun(smoke(64, follow=True, obstacle=False))
    large, b = _begun(smoke(128, follow=True, obstacle=False, side=4.0))
    ours = best(lambda: large.next(b, 3), 3)
    reference = best(lambda: small.next(s, 3), 3)
    note = f"{b.count:,} of {large.domain.voxels:,} voxels are computed; {s.count:,} in the small box"
    return Row("gas in 8 times the space, following", ours, "in the small box", reference, reference / ours, note=note)


MEMORY = """
import sys
from errant_gust.cli.bench_gas import _begun, smoke
from errant_gust.core.peak import peak
_begun(smoke(int(sys.argv[1])), 2)
print(peak())
"""


def memory() -> Row:
    """The peak of a process at two sizes, both far above what it takes by itself: their difference a voxel."""
    sizes = (128, 176)
    peaks = []
    for n in sizes:
        said = subprocess.run([sys.executable, "-c", MEMORY, str(n)], capture_output=True, text=True, check=True)
        peaks.append(json.loads(said.stdout))
    each = (peaks[1] - peaks[0]) / (sizes[1] ** 3 - sizes[0] ** 3)
    note = f"{each:.0f} bytes a voxel at the peak of a step (goal 80): smoke, heat, velocity, solver, obstacle"
    return Row("memory of gas", 0.0, note=note)


def detail() -> Row:
    """Smoke on 128³ voxels carried by a 64³ run, against solving it on 128³."""
    coarse, fine = smoke(64), smoke(128)
    data = coarse.study.model_dump(mode="json", by_alias=True)
    data["flows"].append({**lane("d", ("detail", {"flow": "g"})), "kind": GasKind.id, "name": "Detail"})
    plan = Plan(parse(data))
    flow = DetailFlow(plan, "d")
    base, states = _begun(coarse)[0], {}
    states[1] = base.first()
    for n in range(1, 12):
        states[n + 1] = base.next(states[n], n)
    flow._coarse = lambda frame, cancel=None: states[frame]  # type: ignore[method-assign]
    state = flow.first()
    for n in range(1, 10):
        state = flow.next(state, n)
    ours = best(lambda: flow.next(state, 10), 2)
    solved = GasFlow(fine, "g")
    s = solved.first()
    for n in range(1, 10):
        s = solved.next(s, n)
    reference = best(lambda: solved.next(s, 10), 2)
    note = f"{int(state.pace['substeps'])} substeps, solved {int(s.pace['substeps'])}; without the coarse frame"
    return Row("detail 128³ over gas 64³: a frame", ours, "solved on 128³", reference, reference / ours, note=note)


ROWS: list[tuple[str, Callable[[], Row | list[Row]]]] = [
    ("gas advection", carrying),
    ("gas frames", frames),
    ("gas window", following),
    ("gas memory", memory),
    ("gas detail", detail),
]
