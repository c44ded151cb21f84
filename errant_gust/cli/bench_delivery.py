"""Benchmark of hand over: large frames written for others, proved, and what memory that takes."""

import os
import shutil
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import numpy as np

from errant_gust.cli.bench_rows import Row, study_of
from errant_gust.core.flows.gas.kind import GasKind
from errant_gust.core.flows.particles.kind import ParticleKind
from errant_gust.core.peak import from_here, peak
from errant_gust.core.runs.compute import compute
from errant_gust.core.runs.delivery.deliver import deliver
from errant_gust.core.runs.delivery.order import Options, Order, ordered
from errant_gust.core.runs.delivery.sources import Item
from errant_gust.core.runs.delivery.verify import verify
from errant_gust.core.runs.frame_store import RunStore
from errant_gust.core.study.building import lane

BALL = {"id": "ball", "kind": "sphere", "params": {"radius": 1.0, "move": [0, 0, 1.2]}}
ROOM = {"id": "room", "bounds": {"lower": [-1.28, -1.28, 0], "upper": [1.28, 1.28, 2.56]}}


def of_particles(folder: Path, frames: int, count: int = 5_000_000) -> RunStore:
    """A run of points in a wind: two frames of it, and then these again."""
    emit = ("emit", {"shape": "ball", "where": "volume", "timing": "all at once", "count": count, "life": 900.0})
    flow = {**lane("dust", emit, ("carry", {"field": "wind"})), "kind": ParticleKind.id}
    plan = study_of([lane("wind", ("wind", {"speed": 1.0}))], flows=[flow], shapes=[BALL], clock={"end": frames})
    return _repeated(compute(plan.study, "dust", folder, quality="full", last=2), frames)


def of_gas(folder: Path, frames: int, n: int = 128) -> RunStore:
    """A ball of smoke in n³ voxels, which fills half of them."""
    steps = [
        ("domain", {"region": "room"}),
        ("source", {"shape": "ball", "density": 1, "temperature": 60}),
        ("rise", {}),
    ]
    flow = {**lane("smoke", *steps), "kind": GasKind.id}
    room = {**ROOM, "voxel_size": 2.56 / n}
    plan = study_of([lane("wind", ("wind", {}))], flows=[flow], shapes=[BALL], regions=[room], clock={"end": frames})
    return _repeated(compute(plan.study, "smoke", folder, quality="full", last=2), frames)


def _repeated(store: RunStore, frames: int) -> RunStore:
    arrays, facts = store.read(2), store.facts(2)
    for frame in range(3, frames + 1):
        store.write(frame, arrays, facts)
    return store


MADE = {"points": of_particles, "smoke": of_gas}
HIGHEST = """
import sys
from pathlib import Path
from errant_gust.cli.bench_delivery import highest
print(highest(Path(sys.argv[1]), int(sys.argv[2])))
"""


def highest(run: Path, last: int) -> int:
    """Bytes that this process takes more, at most, while it delivers and proves the first frames of a run."""
    with tempfile.TemporaryDirectory() as name:
        order = ordered([Item(run)], Options(last=last))
        before = from_here()
        deliver(order, Path(name) / "out")
        verify(Path(name) / "out")
        return peak() - before


def _by_numpy(order: Order, frames: int, place: Path) -> float:
    """Seconds in which NumPy writes as many bytes in as many files, each synced."""
    place.mkdir()
    values = np.random.default_rng(1).random(order.bytes // frames // 4, np.float32)
    began = time.perf_counter()
    for frame in range(frames):
        with (place / f"{frame}.npy").open("wb") as file:
            np.save(file, values)
            file.flush()
            os.fsync(file.fileno())
    return time.perf_counter() - began


def handing_over(name: str, frames: int, format: str = "") -> list[Row]:
    make = MADE[name]
    with tempfile.TemporaryDirectory() as folder:
        place = Path(folder)
        store = make(place / "run", frames)
        order = ordered([Item(store.folder, format=format)], Options())
        began = time.perf_counter()
        said = deliver(order, place / "out")
        written = time.perf_counter() - began
        began = time.perf_counter()
        faults = verify(place / "out")
        proved = time.perf_counter() - began
        if faults:
            raise AssertionError(faults[0])
        shutil.rmtree(place / "out")
        plain = _by_numpy(order, frames, place / "plain")
        peaks = [
            int(subprocess.run([sys.executable, "-c", HIGHEST, str(store.folder), str(last)], capture_output=True,
                               text=True, check=True).stdout)
            for last in (frames // 4, frames)
        ]  # fmt: skip
    dense = order.bytes / 1e6
    words = f"{name}, {frames} frames, {order.parts[0].format}"
    note = f"{dense / written:.0f} MB/s of arrays, {said['bytes'] / 1e6 / written:.0f} MB/s of files, sums and readback"
    memory = f"peak {peaks[0] / 1e6:.0f} MB over {frames // 4} frames, {peaks[1] / 1e6:.0f} MB over {frames}"
    return [
        Row(f"deliver {words}", 1e3 * written, "np.save, synced", 1e3 * plain, plain / written, note=note),
        Row(f"verify {words}", 1e3 * proved, note=f"{dense / proved:.0f} MB/s of arrays; {memory}"),
    ]


def shared_out(frames: int = 24, workers: int = 2) -> list[Row]:
    """The same delivery by the workers of a cluster on this machine, and by this process alone."""
    from distributed import LocalCluster

    with tempfile.TemporaryDirectory() as folder:
        place = Path(folder)
        order = ordered([Item(of_gas(place / "run", frames).folder)], Options())
        began = time.perf_counter()
        alone = deliver(order, place / "here")
        here = time.perf_counter() - began
        with LocalCluster(n_workers=workers, threads_per_worker=1, dashboard_address=None) as cluster:
            address = str(cluster.scheduler_address)
            deliver(ordered([Item(place / "run")], Options(last=4)), place / "warm", cluster=address)
            began = time.perf_counter()
            shared = deliver(order, place / "there", cluster=address)
            there = time.perf_counter() - began
        if shared["files"] != alone["files"]:
            raise AssertionError("the workers wrote something else")
    name = f"deliver smoke, {frames} frames, vdb, {workers} workers of a cluster"
    return [Row(name, 1e3 * there, "this process alone", 1e3 * here, here / there, note="the same bytes")]


ROWS = [
    ("deliver smoke", lambda: handing_over("smoke", 48)),
    ("deliver points", lambda: handing_over("points", 24)),
    ("deliver smoke shared", shared_out),
    ("deliver points usd", lambda: handing_over("points", 24, "usd")),
]
