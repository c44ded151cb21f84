"""Every writer is killed before and after its moves in the file system; the same command then makes all of it."""

import json
import os
import signal
import subprocess
import sys

import pytest

from errant_gust.core.runs.compute import compute
from errant_gust.core.study import document
from tests.clusters import until
from tests.conftest import ROOT
from tests.robust.servers import served
from tests.robust.test_apart import study

MOST = int(os.environ.get("GUST_CUTS", "4"))
"""Places at which each writer is killed, besides the first and last three; GUST_CUTS=1000 is all of them."""
ROOM = {"id": "room", "name": "Room", "voxel_size": 0.25, "bounds": {"lower": [-1, -1, -1], "upper": [1, 1, 1]}}
WRITERS = {
    "run": "run {study} --flow p --out {to}/run",
    "ply": "export {run} --format ply --to {to}/out",
    "usd": "export {run} --format usd --to {to}/out",
    "bake": "bake {study} --field wind --region room --out {to}/wind.vdb",
    "delivery": "deliver {run} --result particles:npz --to {to}/out",
    "flipbook": "flipbook {run} --size 64x64 --to {to}/film",
    "backup": "backup {to}/home.zip --runs all",
    "restore": "restore {backup} --home {to}/home",
    "sweep": "sweep {study} --flow p --vary fields.wind.a.speed=1,2 --out {to}/sweep",
}


@pytest.fixture(scope="module")
def made(tmp_path_factory):
    place = tmp_path_factory.mktemp("cut")
    text = {**study("Cut", end=3, rate=2000), "regions": [ROOM]}
    (place / "study.gust.json").write_text(json.dumps(text))
    compute(document.parse(text), "p", place / "run", last=3)
    with served(place / "home", demo=False) as server:  # a home with that study and its run
        key = server.ask("POST", "/studies", {"document": text})[1]["key"]
        server.ask("POST", "/runs", {"study": key, "flow": "p"})
        until(lambda: [r["state"] for r in server.ask("GET", f"/runs?study={key}")[1]] == ["done"], 60)
    subprocess.run(
        [sys.executable, "-m", "errant_gust.cli.main", "backup", place / "home.zip", "--runs", "all"],
        cwd=ROOT, check=True, env={**os.environ, "ERRANT_GUST_HOME": str(place / "home")},
    )  # fmt: skip
    return {
        "{study}": str(place / "study.gust.json"), "{run}": str(place / "run"), "{home}": str(place / "home"),
        "{backup}": str(place / "home.zip"),
    }  # fmt: skip


@pytest.mark.parametrize("writer", WRITERS)
def test_a_writer_that_is_killed_anywhere_leaves_what_the_same_command_completes(tmp_path, made, writer):
    words = WRITERS[writer].split()
    for name, path in made.items():
        words = [w.replace(name, path) for w in words]
    done = subprocess.run(
        [sys.executable, "-m", "tests.robust.cut", str(tmp_path), str(MOST), *words], cwd=ROOT, capture_output=True,
        text=True, timeout=max(500, 30 * MOST),
        env={**os.environ, "ERRANT_GUST_HOME": made["{home}"] if writer == "backup" else str(tmp_path / "home")},
    )  # fmt: skip
    assert done.returncode == 0, done.stderr[-3000:]
    told = json.loads(done.stdout.splitlines()[-1])
    assert told["moves"] >= 2
    assert told["files"] >= 1
    for row in told["rows"]:
        assert row["ended"] == -signal.SIGKILL, row
        # an export writes nothing over, and says so: what is there is whole
        there = row["again"] == 2 and any(
            words in told["said"] for words in ("is there already", "is there and is not")
        )
        assert row["again"] == 0 or there, (row, told["said"])
        assert (row["more"], row["other"]) == ([], []), (row, told["said"])
        assert there or not row["less"], (row, told["said"])
