"""Benchmark rows of pictures without a screen: CPU seconds of what our studies look like, and what whites clip."""

import os
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path
from unittest import mock

import numpy as np

from errant_gust.cli.bench_rows import Row
from errant_gust.core.demos.by_name import open_study
from errant_gust.core.errors import GustError
from errant_gust.core.fields.samples import Array
from errant_gust.core.looking.contact_sheet import Tile, contact_sheet
from errant_gust.core.pictures.camera import Camera, View
from errant_gust.core.pictures.cloud import Cloud
from errant_gust.core.pictures.quality import GOOD, STILL, Quality
from errant_gust.core.pictures.render import Staged, render
from errant_gust.core.pictures.setting import SMOKE
from errant_gust.core.pictures.stage import Stage
from errant_gust.core.pictures.taking import picture, stages_of
from errant_gust.core.runs.compute import compute

KINDS = {
    "smoke": ("chimney_downdraught", 48, 0.8),
    "sand": ("silica_runnel", 60, 0.8),
    "frost": ("frost_on_glass", 48, 0.8),
    "sparks": ("flue_embers", 60, 0.8),
    "fire": ("bench_flash", 40, 1.3),
    "glass": ("slow_gather", 60, 1.3),
}
"""Which study, on which frame, and the goal in CPU seconds at 960 × 600."""
WHITE = 254


def spent(work: Callable[[], object], times: int = 3) -> tuple[float, float]:
    """Milliseconds of CPU and of the clock, the least of several goes after one that warms."""
    work()
    found = []
    for _ in range(times):
        cpu, clock = time.process_time(), time.perf_counter()
        work()
        found.append((1e3 * (time.process_time() - cpu), 1e3 * (time.perf_counter() - clock)))
    return min(f[0] for f in found), min(f[1] for f in found)


def _stage(study: str, frame: int, folder: Path) -> Stage:
    """A study's first flow that draws such a thing, from the home or computed for this."""
    plan = open_study(study)
    try:
        found, _ = stages_of(plan)
        if frame in found[0].store.frames():
            return found[0]
    except GustError:
        pass
    flow = plan.study.flows[0].id
    made = compute(plan.study, flow, folder / study, quality="preview", assets=plan.assets, last=frame)
    return Stage(made, plan.assets)


def _clipped(pixels: Array) -> float:
    return float((pixels >= WHITE).all(axis=2).mean())


def kinds() -> list[Row]:
    """A picture of each kind of thing, at three sizes."""
    rows = []
    with tempfile.TemporaryDirectory() as name:
        for what, (study, frame, goal) in KINDS.items():
            stage = _stage(study, frame, Path(name))

            def taken(
                size: tuple[int, int] = (960, 600), quality: Quality = GOOD, stage: Stage = stage, frame: int = frame
            ) -> Array:
                return picture(stage, frame, size, quality=quality)

            cpu, clock = spent(taken)
            with mock.patch.dict(os.environ, {"ERRANT_GUST_THREADS": "1"}):
                alone = spent(taken)[1]
            small = spent(lambda taken=taken: taken((160, 100)))[0]  # type: ignore[misc]
            still = spent(lambda taken=taken: taken((1920, 1080), STILL), 1)[0]  # type: ignore[misc]
            note = (
                f"{clock / 1e3:.2f} s by the clock, {alone / clock:.2f}× quicker than on one thread; 160 × 100: "
                f"{small / 1e3:.2f} s (goal 0.2); 1920 × 1080 still: {still / 1e3:.1f} s (goal 10); "
                f"{100 * _clipped(taken()):.2f} % of it is white"
            )
            rows.append(Row(f"picture of {what}, 960 × 600, CPU", cpu, goal=f"≤ {1e3 * goal:.0f} ms", note=note))
        tiles = [Tile(stage, stage.kind.result(), what, "") for _ in range(20)]
        took = spent(lambda: contact_sheet(tiles, frame, (320, 200)), 1)[0]
        rows.append(Row("sheet of 20, 320 × 200 each, CPU", took, goal="≤ 6000 ms"))
    return rows


def puffs() -> list[Row]:
    """Smoke in as many voxels as it takes."""
    rows = []
    for n, goal in ((128, 1300), (256, 2800)):
        x = np.linspace(-1, 1, n, dtype=np.float32)
        r = np.sqrt(x[:, None, None] ** 2 + x[None, :, None] ** 2 + x[None, None, :] ** 2)
        ripple = np.sin(9 * x)[:, None, None] * np.sin(11 * x)[None, :, None] * np.sin(7 * x)[None, None, :]
        thick = np.maximum(0.8 + 0.3 * ripple - r, 0) * 12
        facts = (None, np.full(3, 0.8), None, 0, 200, 1200, 1, 0.3)
        cloud = Cloud(np.full(3, -1.0), np.eye(3), 2 / n, thick.astype(np.float32), *facts)  # type: ignore[arg-type]
        box = np.full(3, -1.0), np.full(3, 1.0)
        camera = Camera.around(box, View(), (960, 600))
        cpu, clock = spent(lambda: render(Staged(box, -1.0, clouds=[cloud]), camera, SMOKE, (960, 600)))  # noqa: B023
        note = f"{clock / 1e3:.2f} s by the clock"
        rows.append(Row(f"smoke of {n}³, 960 × 600, CPU", cpu, goal=f"≤ {goal} ms", note=note))
    return rows


FIRST = """
import sys, time
sys.path.insert(0, "")
from pathlib import Path
from errant_gust.core.pictures.stage import Stage
from errant_gust.core.pictures.taking import picture
from errant_gust.core.runs.frame_store import RunStore
stage = Stage(RunStore(Path(sys.argv[1])))
picture(stage, int(sys.argv[2]))
"""


def first() -> Row:
    """A process's first picture, from its beginning."""
    study, frame, _ = KINDS["smoke"]
    with tempfile.TemporaryDirectory() as name:
        stage = _stage(study, frame, Path(name))
        began = time.perf_counter()
        subprocess.run([sys.executable, "-c", FIRST, str(stage.store.folder), str(frame)], check=True)
        return Row("a process's first picture, with its start", 1e3 * (time.perf_counter() - began), goal="≤ 3000 ms")


ROWS: list[tuple[str, Callable[[], Row | list[Row]]]] = [("kinds", kinds), ("puffs", puffs), ("first", first)]
