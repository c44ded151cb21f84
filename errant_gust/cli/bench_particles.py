"""Benchmark rows of particle flows: carrying, births, the frame store, a run of delivery size."""

import json
import os
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
from scipy import ndimage

from errant_gust.cli.bench_rows import Row, best, numpy_curl
from errant_gust.core.demos.geometry import light_tower, write_obj
from errant_gust.core.fields.plan import Plan
from errant_gust.core.flows.particles.flow import ParticleFlow
from errant_gust.core.flows.particles.kind import ParticleKind
from errant_gust.core.flows.particles.state import Particles, sorted_by_place
from errant_gust.core.geometry.shapes import Assets
from errant_gust.core.runs.frame_store import RunStore
from errant_gust.core.study.building import lane, study
from errant_gust.core.study.document import parse

Array = Any
MILLION = 1_000_000
GRID = [{"id": "r", "bounds": {"lower": [0, 0, 0], "upper": [6.4, 6.4, 6.4]}, "voxel_size": 0.05}]
NOISE = lane("n", ("curl_noise", {}))
BAKED = lane("n", ("curl_noise", {}), ("bake", {"region": "r", "outside": "clamp"}))


def _plan(field: dict[str, Any], emit: dict[str, Any], *steps: tuple[str, dict[str, Any]], **more: Any) -> Plan:
    emitting = {"shape": "b", "timing": "all at once", "count": 0, **emit}
    motion = steps or (("carry", {"field": "n"}),)
    flow = {**lane("p", ("emit", emitting), *motion), "kind": ParticleKind.id}
    shapes = [{"id": "b", "kind": "box", "params": {"size": [6, 6, 6], "move": [3.2, 3.2, 3.2]}}]
    return Plan(parse(study("Bench", field, **{"regions": GRID, "shapes": shapes, "flows": [flow], **more})))


def _state(n: int) -> Particles:
    rng, f = np.random.default_rng(2), np.float32
    made = Particles(
        rng.uniform(0.2, 6.2, (3, n)).astype(f), np.zeros((3, n), f), np.zeros(n, f), np.full(n, 100, f),
        np.arange(n, dtype=np.uint32),
    )  # fmt: skip
    return sorted_by_place(made)


def _bound(n: int) -> float:
    """Milliseconds to read and write once what a step in time must: the state of n particles (44 bytes each)."""
    a = np.ones(n * 11, np.float32)
    b = np.empty_like(a)
    return best(lambda: np.copyto(b, a), 9)


def carrying() -> list[Row]:
    """Carried by a grid and by an exact field, each against whole-array NumPy and SciPy."""
    plan = _plan(BAKED, {})
    flow, state = ParticleFlow(plan, "p"), _state(MILLION)
    ours = best(lambda: flow.next(state, 1))
    values = plan.at(0.0).lane("n").step.grid(plan.at(0.0).lane("n")).values  # type: ignore[attr-defined]
    channels = [np.ascontiguousarray(values[..., c]) for c in range(3)]
    few = state.position[:, :100_000]

    def scipy_midpoint() -> Any:
        def u(p: Array) -> Array:
            q = p / 0.05 - 0.5
            return np.stack([ndimage.map_coordinates(c, q, order=1) for c in channels])

        return few + u(few + u(few) / 48) / 24

    reference = best(scipy_midpoint, 2) * 10
    bound = _bound(MILLION)
    note = (
        f"{ours:.0f} ns a particle and step; {ours / bound:.0f} times what copying the state once costs here "
        f"({bound:.1f} ms); reference measured on 100,000 particles; sorted by place, as every 8th frame does"
    )
    rows = [
        Row("1 M particles, midpoint, 128³ grid", ours, "NumPy + SciPy", reference, reference / ours, "≤ 100 ms", note)
    ]
    exact = ParticleFlow(_plan(NOISE, {}), "p")
    ours = best(lambda: exact.next(state, 1), 3)

    def numpy_midpoint() -> Any:
        return few + numpy_curl(few + numpy_curl(few, 3) / 48, 3) / 24

    reference = best(numpy_midpoint, 1) * 10
    note = f"{ours:.0f} ns a particle and step (two evaluations of three octaves); reference on 100,000"
    name = "1 M particles, midpoint, exact curl noise"
    return [*rows, Row(name, ours, "vectorised NumPy", reference, reference / ours, "≥ 20×", note)]


def births() -> list[Row]:
    """A million births on a mesh, and a million born again, against trimesh's own scattering."""
    import trimesh

    with tempfile.TemporaryDirectory() as name:
        path = Path(name) / "light_tower.obj"
        write_obj(path, *light_tower(), "bench")
        shapes = [{"id": "b", "kind": "mesh", "params": {"file": path.name}}]
        made = {"timing": "all at once", "count": MILLION, "life": 100}
        data = _plan(NOISE, made, ("gravity", {}), ("respawn", {"farther": 0.006}), shapes=shapes).study
        plan = Plan(data, Assets(Path(name)))
        flow = ParticleFlow(plan, "p")
        ours = best(lambda: flow.first(), 3)
        mesh = trimesh.load(path, process=False)
        reference = best(lambda: trimesh.sample.sample_surface(mesh, MILLION), 2)
        rows = [
            Row(
                "1 M births on a mesh", ours, "trimesh scattering, places only", reference, reference / ours,
                note=f"{ours:.0f} ns each, with life and id, the same in any order",
            )
        ]  # fmt: skip
        state = flow.next(flow.first(), 1)
        never = _plan(NOISE, made, ("gravity", {}), ("respawn", {"farther": 1e6}), shapes=shapes).study
        none = ParticleFlow(Plan(never, Assets(Path(name))), "p")
        plain = best(lambda: none.next(state, 1), 3)
        again = best(lambda: flow.next(state, 1), 3)
        assert int(flow.next(state, 1).more["again"].min()) > int(state.more["again"].min())
        return [*rows, Row("1 M particles all born again in a frame", again, "the frame without", plain, again / plain)]


def storing() -> list[Row]:
    """The frame store on a million particles, against NumPy's own file of the same arrays."""
    rng = np.random.default_rng(4)
    channels = {
        "position": rng.normal(size=(MILLION, 3)).astype(np.float32),
        "velocity": rng.normal(size=(MILLION, 3)).astype(np.float32),
        "age": rng.random(MILLION).astype(np.float32), "life": np.full(MILLION, 4, np.float32),
        "id": np.arange(MILLION, dtype=np.uint32),
    }  # fmt: skip
    size = sum(a.nbytes for a in channels.values()) / 1e6
    with tempfile.TemporaryDirectory() as name:
        store = RunStore(Path(name) / "run")
        store.create({"identity": "bench"})
        write = best(lambda: store.write(1, channels, {}), 4)
        read = best(lambda: store.read(1), 4)
        path = Path(name) / "plain.npz"

        def plain() -> None:
            with path.open("wb") as file:
                np.savez(file, **channels)  # type: ignore[arg-type]
                file.flush()
                os.fsync(file.fileno())

        reference = best(plain, 4)

        def plain_read() -> None:
            with np.load(path) as z:
                for k in channels:
                    z[k]

        back = best(plain_read, 4)
        kept = store.bytes() / 1e6
    note = f"{1e3 * size / write:.0f} MB/s of {size:.0f} MB, synced; {kept:.0f} MB on disk (random numbers)"
    return [
        Row("frame of 1 M particles written", write, "NumPy npz, synced", reference, reference / write, note=note),
        Row(
            "frame of 1 M particles read", read, "NumPy npz", back, back / read, note=f"{1e3 * size / read:.0f} MB/s"
        ),
    ]  # fmt: skip


RUN = """
import json, sys
from pathlib import Path
from errant_gust.core.peak import peak
from errant_gust.core.runs.compute import compute
from errant_gust.core.study import document
peaks = []
def report(done):
    peaks.append(peak())
import shutil
folder = Path(sys.argv[1])
study = document.parse(json.loads((folder / "study.json").read_text()))
compute(study, "p", folder / "run", quality="full", report=report)
print(json.dumps(peaks))
"""


def delivering() -> Row:
    """Five million particles for 48 frames to disk in a process of their own, and how much memory that took."""
    made = {"timing": "all at once", "count": 5 * MILLION, "where": "volume", "life": 100, "preview_share": 1}
    plan = _plan(BAKED, made)
    data = plan.study.model_dump(mode="json", by_alias=True)
    data["clock"] = {"fps": 24, "start": 1, "end": 48, "slow_motion": 1.0}
    with tempfile.TemporaryDirectory() as name:
        (Path(name) / "study.json").write_text(json.dumps(data))
        began = time.perf_counter()
        done = subprocess.run([sys.executable, "-c", RUN, name], capture_output=True, text=True, check=True)
        took = 1e3 * (time.perf_counter() - began)
        peaks = json.loads(done.stdout.splitlines()[-1])
        size = RunStore(Path(name) / "run").bytes() / 1e9
    note = (
        f"peak memory {peaks[7] / 1e9:.2f} GB after 8 frames, {peaks[-1] / 1e9:.2f} GB after 48; "
        f"{size:.1f} GB written, {took / 48e3:.1f} s a frame"
    )
    return Row("5 M particles, 48 frames to disk", took, note=note)


ROWS: list[tuple[str, Callable[[], Row | list[Row]]]] = [
    ("carrying particles", carrying),
    ("births", births),
    ("frame store", storing),
    ("delivery", delivering),
]
