"""Runs on a scheduler and two workers that die, go away and come back: frames are those of an undisturbed run."""

import gc
import os
import signal
import subprocess
import sys
import threading
import weakref

import numpy as np
import pytest

from errant_gust.core.errors import Cancelled, GustError
from errant_gust.core.geometry.shapes import Assets
from errant_gust.core.home import home
from errant_gust.core.runs import baking, cluster, engine, job
from errant_gust.core.runs.cluster import fitting
from errant_gust.core.runs.compute import compute
from errant_gust.core.runs.engine import Order
from errant_gust.core.runs.frame_store import RunStore
from errant_gust.core.runs.lease import holder
from errant_gust.core.runs.manifest import begin
from errant_gust.core.study.building import lane
from tests.clusters import Machines, until
from tests.core.test_gas import PUFF, gas
from tests.studies import plan

pytestmark = pytest.mark.slow("schedulers and workers are processes that are begun, killed and waited for")

FRAMES, LONG = 10, 60


def smoke(most, frames=FRAMES, h=1 / 24):
    """Gas whose frames take a while and are the same for all; how many substeps are allowed makes it a run of its
    own."""
    domain = {"follow": False, "most_substeps": most}
    return gas(PUFF, ("rise", {"lift": 0.01}), ("curl_up", {}), h=h, domain=domain, end=frames).study


@pytest.fixture(scope="session")
def straight(tmp_path_factory):
    """The frames of `smoke`, undisturbed."""
    return compute(smoke(100, LONG), "g", tmp_path_factory.mktemp("straight") / "run")


class Ordered:
    """A run that was handed in: what was told of it, and how it ended."""

    def __init__(self, study, address, memory=0):
        self.study = study
        self.folder = home() / "runs" / begin(study, "g", "full", home() / "runs", Assets())
        self.store = RunStore(self.folder)
        self.told, self.ended, self.said = [], threading.Event(), {}
        engine.submit(Order(self.folder, study.clock.end, memory), self._finished, self.told.append, address)

    def _finished(self, said):
        self.said = said
        self.ended.set()

    def has(self, frames):
        until(lambda: self.said or len(self.store.frames()) >= frames, 90, f"no {frames} frames")
        assert len(self.store.frames()) >= frames, self.said

    def worker(self):
        """Number of the process that computes it."""
        return int(until(lambda: holder(self.folder), why="nobody computes it")["pid"])

    def ends(self, state="done", seconds=120):
        assert self.ended.wait(seconds), f"it never ended: {self.told[-1:]}, {job.log_of(self.folder)}"
        assert self.said["state"] == state, (self.said, job.log_of(self.folder))
        return self.said

    def is_as(self, straight):
        assert self.store.frames() == straight.frames() == list(range(1, self.study.clock.end + 1))
        for frame in straight.frames():
            was, now = straight.read(frame), self.store.read(frame)
            assert list(was) == list(now)
            for name in was:
                np.testing.assert_array_equal(was[name], now[name], f"{name} of frame {frame}")
        assert not list(self.store.frames_folder.glob(".writing-*"))


@pytest.fixture
def machines(tmp_path):
    with Machines(home(), tmp_path) as made:
        yield made


def test_two_runs_at_once_a_worker_killed_in_a_frame_and_the_scheduler_killed_and_back(machines, straight):
    one = Ordered(smoke(101, LONG), machines.address)
    until(lambda: one.told, why="nothing was told")
    assert f"the scheduler at {machines.address} is away" in one.told[-1]["waits"], "away at the start: it waits"
    machines.scheduler()
    until(lambda: "the scheduler has none yet" in str(one.told[-1].get("waits")), why="workers were not missed")
    machines.worker("first")
    machines.worker("second")
    two = Ordered(smoke(102, LONG), machines.address)
    one.has(2), two.has(2)
    workers = {one.worker(), two.worker()}
    assert len(workers) == 2, "two at once, on two workers"

    os.kill(one.worker(), signal.SIGKILL)
    before = len(one.store.frames())
    one.has(before + 1)
    machines.kill("scheduler")
    until(lambda: "is away" in str(one.told[-1].get("waits")), why="nobody noticed that the scheduler went")
    machines.scheduler()
    one.ends(), two.ends()
    one.is_as(straight), two.is_as(straight)
    log = "\n".join(job.log_of(one.folder))
    assert log.count("takes it up") >= 2, log
    assert f"{one.said['worker']}  done" in log


def test_a_server_that_comes_back_finds_the_job_that_still_goes(machines, straight, monkeypatch):
    machines.scheduler()
    machines.worker("only")
    one = Ordered(smoke(103, LONG), machines.address)
    one.has(3)
    gone = cluster._clusters.pop(machines.address)  # as if this process had died: nobody watches, nothing is told
    monkeypatch.setattr(gone, "_step", lambda *rest: None)
    gone._client.close()
    again = Ordered(smoke(103, LONG), machines.address)
    again.ends()
    again.is_as(straight)
    log = "\n".join(job.log_of(one.folder))
    assert log.count("takes it up") == 1, "the same job: it never stopped, and no other waited for it"


def test_a_job_that_ended_while_nobody_watched_is_not_handed_in_again(machines, straight):
    """Its scheduler forgets it at its end; a server that was started again knows the folder."""
    machines.scheduler()
    order = Order(straight.folder, LONG)
    before = job.log_of(straight.folder)
    said = []
    engine.submit(order, said.append, None, machines.address)
    assert until(lambda: said, 60, "a worker is waited for, and there is none")[0]["state"] == "done"
    assert job.log_of(straight.folder) == before, "nobody took it up"
    job.ask_to_mend(straight.folder)
    try:
        assert not cluster._nothing_left(order), "its frames are to be looked at"
    finally:
        (straight.folder / job.MEND).unlink()
    assert not cluster._nothing_left(Order(straight.folder, LONG + 1)), "there is more to do"


def test_a_stop_reaches_a_run_that_goes_one_that_waits_and_one_whose_scheduler_is_away(machines):
    away = Ordered(smoke(104), "tcp://127.0.0.1:9")
    until(lambda: away.told, why="nothing was told")
    job.ask_to_stop(away.folder)
    assert away.ends("stopped", 30)["message"] == "stopped before it began"

    machines.scheduler()
    machines.worker("only")
    goes = Ordered(smoke(105, 400), machines.address)
    goes.has(2)
    until(lambda: "done" in goes.told[-1], why="it is not told how far it is")
    waits = Ordered(smoke(106), machines.address)
    until(lambda: "for one of 1 workers" in str(waits.told and waits.told[-1].get("waits")), why="it is not told")
    job.ask_to_stop(waits.folder)
    waits.ends("stopped", 30)
    assert waits.store.frames() == []
    job.ask_to_stop(goes.folder)
    goes.ends("stopped", 30)
    assert 2 <= len(goes.store.frames()) < 400
    told = goes.told[-1]
    assert told["done"] == len(goes.store.frames()), "the last that is told is how far it came"
    assert told["memory"] > 1e7, "the worker says what it takes"
    assert told["left"] > 0


def test_a_run_that_fits_no_worker_waits_for_one_that_is_large_enough(machines):
    machines.scheduler()
    machines.worker("small", memory=0.5)
    one = Ordered(smoke(107, 3), machines.address, memory=900_000_000)
    until(lambda: "for a worker with MEMORY 9e+08" in str(one.told and one.told[-1].get("waits")), why="not told")
    machines.worker("large", memory=1.5)
    one.ends()


def test_what_is_asked_of_workers_follows_from_what_they_declare():
    plain = {"a": {"memory_limit": 4e9, "resources": {}}, "b": {"memory_limit": 16e9, "resources": {}}}
    assert fitting(2_000_000_000, plain) == ({}, None, "")
    assert fitting(8_000_000_000, plain) == ({}, frozenset({"b"}), "")
    assert "for a worker with 20.0 GB: the largest of 2 has 16.0" in fitting(20_000_000_000, plain)[2]
    open_end = {"a": {"memory_limit": 0, "resources": {}}}
    assert fitting(10**15, open_end) == ({}, None, ""), "a worker without a limit takes anything"
    declared = {"a": {"memory_limit": 4e9, "resources": {"MEMORY": 4e9, "CORES": 2}}}
    assert fitting(10**9, declared) == ({"MEMORY": 10**9, "CORES": 1.0}, None, "")
    assert "none of 1 has that" in fitting(5 * 10**9, declared)[2]


def test_a_large_bake_is_split_over_workers_and_a_worker_lost_changes_no_bit(machines, monkeypatch):
    monkeypatch.setattr(baking, "PART", 8 * 8192)
    regions = [{"id": "room", "bounds": {"lower": [-2, -2, -2], "upper": [2, 2, 2]}, "voxel_size": 0.04}]
    p = plan(lane("gusts", ("curl_noise", {"octaves": 3})), regions=regions)
    here = baking.bake_field(p, "gusts", "room", 0.5)
    assert here.shape == (100, 100, 100, 3)
    monkeypatch.setenv("ERRANT_GUST_SCHEDULER", machines.address)
    with pytest.raises(GustError, match="is away"):
        baking.bake_field(p, "gusts", "room", 0.5)
    machines.scheduler()
    until(lambda: says(p, "has no worker"), why="it is not said that there is none")
    machines.worker("one")
    machines.worker("two")
    until(lambda: not says(p, "has no worker"), why="no worker came")
    seen = []

    def progress(share):
        if not seen:
            machines.kill("one")
        seen.append(share)

    there = baking.bake_field(p, "gusts", "room", 0.5, progress=progress)
    assert there.tobytes() == here.tobytes()
    assert len(seen) == 16
    with pytest.raises(Cancelled):
        baking.bake_field(p, "gusts", "room", 0.5, cancel=lambda: True)


def says(p, words):
    try:
        baking.bake_field(p, "gusts", "room", 0.5)
    except GustError as error:
        return words in str(error)
    return False


def certificate(folder):
    subprocess.run(
        ["openssl", "req", "-x509", "-newkey", "rsa:2048", "-nodes", "-days", "2", "-subj", "/CN=lantern",
         "-keyout", folder / "key.pem", "-out", folder / "cert.pem"],
        check=True, capture_output=True,
    )  # fmt: skip
    place = "DASK_DISTRIBUTED__COMM__TLS__"
    settings = {f"{place}CA_FILE": str(folder / "cert.pem")}
    for who in ("SCHEDULER", "WORKER", "CLIENT"):
        settings |= {f"{place}{who}__KEY": str(folder / "key.pem"), f"{place}{who}__CERT": str(folder / "cert.pem")}
    return settings


ENCRYPTED = """
import sys
from pathlib import Path
from errant_gust.core.runs.engine import Order, wait_for
print(wait_for(Order(Path(sys.argv[1]), 3)))
"""


def test_an_encrypted_cluster_takes_runs_by_dasks_own_settings_and_no_stranger(tmp_path):
    settings = certificate(tmp_path)
    with Machines(home(), tmp_path, "tls", **settings) as machines:
        machines.scheduler()
        machines.worker("only")
        folder = home() / "runs" / begin(smoke(108, 3), "g", "full", home() / "runs", Assets())
        command = [sys.executable, "-c", ENCRYPTED, str(folder)]
        environment = {**os.environ, "ERRANT_GUST_SCHEDULER": machines.address}
        said = subprocess.run(
            command, env={**environment, **settings}, capture_output=True, text=True, timeout=120, check=True
        )
        assert "'state': 'done'" in said.stdout
        assert RunStore(folder).frames() == [1, 2, 3]
        stranger = Ordered(smoke(109, 3), machines.address)
        until(lambda: stranger.told, why="nothing was told")
        assert "is away" in stranger.told[-1]["waits"], "without the certificate nobody gets in"
        job.ask_to_stop(stranger.folder)
        stranger.ends("stopped", 30)


def test_a_client_that_could_not_connect_has_ended_before_the_next_begins(monkeypatch):
    """Collected within the start of another it would wait for a lock that its own thread holds."""
    alive = weakref.WeakSet()

    class Lost:
        def __init__(self, *_, **__):
            self.me = self
            alive.add(self)
            raise OSError("nobody is there")

    monkeypatch.setattr("distributed.Client", Lost)
    gc.disable()
    try:
        assert cluster.Cluster("tcp://127.0.0.1:9")._connected() is None
        assert not alive
    finally:
        gc.enable()
