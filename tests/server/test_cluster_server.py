"""A server on a cluster, killed and started again; a sweep by command, its worker killed; two servers, one home."""

import json
import os
import signal
import subprocess
import sys
import urllib.request

import numpy as np
import pytest

from errant_gust.core.runs.frame_store import RunStore
from errant_gust.core.study.document import dump
from tests.clusters import Machines, free_port, until
from tests.core.test_cluster import smoke

pytestmark = pytest.mark.slow("schedulers and workers are processes that are begun, killed and waited for")


class Server:
    """`gust serve` as a process of its own."""

    def __init__(self, home, log, **settings):
        self.port, self.home, self.log = free_port(), home, log
        self.environment = {**os.environ, "ERRANT_GUST_HOME": str(home), **settings}

    def command(self):
        return [sys.executable, "-m", "errant_gust.cli.main", "serve", "--no-browser", "--port", str(self.port)]

    def start(self):
        with self.log.open("ab") as log:
            self.process = subprocess.Popen(self.command(), env=self.environment, stdout=log, stderr=log)

        def answers():
            try:
                return self.ask("/studies") is not None
            except OSError:
                return False

        until(answers, 90, "the server does not answer")

    def ask(self, path, body=None, method=None):
        request = urllib.request.Request(
            f"http://127.0.0.1:{self.port}/api{path}", method=method or ("POST" if body is not None else "GET"),
            data=None if body is None else json.dumps(body).encode(),
            headers={"Content-Type": "application/json", "X-Errant-Gust": "1"},
        )  # fmt: skip
        with urllib.request.urlopen(request, timeout=30) as answer:
            return json.loads(answer.read())

    def kill(self):
        self.process.send_signal(signal.SIGKILL)
        self.process.wait()

    def run(self, identity, study):
        return next(r for r in self.ask(f"/runs?study={study}") if r["identity"] == identity)


def gust(home, *given, **settings):
    """A command of ours; what it printed."""
    environment = {**os.environ, "ERRANT_GUST_HOME": str(home), **settings}
    made = subprocess.run(
        [sys.executable, "-m", "errant_gust.cli.main", *map(str, given)], env=environment, capture_output=True,
        text=True, timeout=240, check=False,
    )  # fmt: skip
    assert made.returncode == 0, made.stderr
    return made.stdout


def same(one, other, frames):
    assert one.frames() == other.frames() == frames
    for frame in frames:
        was, now = one.read(frame), other.read(frame)
        assert list(was) == list(now)
        for name in was:
            np.testing.assert_array_equal(was[name], now[name], f"{name} of frame {frame}")


@pytest.fixture
def site(tmp_path):
    """A home of its own with a cluster, and a file of a study."""
    home = tmp_path / "home"
    home.mkdir()
    document = dump(smoke(111, 12))
    (tmp_path / "smoke.gust.json").write_text(json.dumps(document))
    with Machines(home, tmp_path) as machines:
        yield tmp_path, home, document, machines


def test_a_server_killed_and_started_again_takes_up_what_goes_on_a_cluster(site):
    place, home, document, machines = site
    machines.scheduler()
    machines.worker("only")
    server = Server(home, place / "server.log", ERRANT_GUST_SCHEDULER=machines.address)
    server.start()
    try:
        study = server.ask("/studies", {"document": document})["key"]
        run = server.ask("/runs", {"study": study, "flow": "g", "quality": "full"})["identity"]

        def going():
            """Frames stand in the folder a moment before the server hears that the job was taken up."""
            now = server.run(run, study)
            return now if now["state"] == "running" and len(now["frames"]) >= 2 else None

        told = until(going, 90, "nothing is computed")
        assert told["memory"] > 1e7
        assert told["needs"] > 1e5
        server.process.send_signal(signal.SIGUSR1)
        until(lambda: "Thread" in (home / "stacks.txt").read_text(), 20, "what its threads do is not told")
        server.kill()
        server.start()
        until(lambda: server.run(run, study)["state"] == "done", 120, f"{server.run(run, study)}")
        log = server.ask(f"/runs/{run}/log")
        assert sum("takes it up" in line for line in log) == 1, f"the worker never stopped: {log}"
        gust(home, "run", place / "smoke.gust.json", "--flow", "g", "--out", place / "straight")
        same(RunStore(home / "runs" / run), RunStore(place / "straight"), list(range(1, 13)))

        refused = subprocess.run(server.command(), env=server.environment, capture_output=True, text=True, timeout=60)
        assert refused.returncode == 2
        assert f"is served already, by the process {os.uname().nodename} {server.process.pid}" in refused.stderr
    finally:
        server.kill()


def test_a_sweep_by_command_on_a_cluster_outlives_a_worker(site):
    place, home, _, machines = site
    machines.scheduler()
    machines.worker("one")
    machines.worker("two")
    machines.ready(2)
    out = place / "sweep"
    command = [
        sys.executable, "-m", "errant_gust.cli.main", "sweep", str(place / "smoke.gust.json"), "--flow", "g",
        "--vary", "flows.g.s1.density=0.5,1,2", "--quality", "full", "--out", str(out),
    ]  # fmt: skip
    environment = {**os.environ, "ERRANT_GUST_HOME": str(home), "ERRANT_GUST_SCHEDULER": machines.address}
    sweep = subprocess.Popen(command, env=environment, stdout=subprocess.PIPE, text=True)

    def computed_by():
        lines = [line for log in out.glob("*/log.txt") for line in log.read_text().splitlines()]
        return {line.split("  ")[1] for line in lines}

    until(lambda: len(computed_by()) == 2 and list(out.glob("*/frames/0*.zarr")), 90, "both compute")
    machines.kill("one")
    said, _ = sweep.communicate(timeout=180)
    assert sweep.returncode == 0, said
    told = json.loads((out / "sweep.json").read_text())["runs"]
    assert [r["state"] for r in told] == ["done"] * 3
    assert len(computed_by()) == 2
    study = json.loads((place / "smoke.gust.json").read_text())
    study["flows"][0]["steps"][1]["params"]["density"] = 2
    (place / "two.gust.json").write_text(json.dumps(study))
    gust(home, "run", place / "two.gust.json", "--flow", "g", "--out", place / "straight")
    same(RunStore(out / told[2]["run"]), RunStore(place / "straight"), list(range(1, 13)))
    assert "takes it up" in gust(home, "log", out / told[0]["run"])
    assert "nobody computes it now" in gust(home, "stop", out / told[0]["run"])
