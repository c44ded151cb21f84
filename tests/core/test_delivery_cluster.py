"""Deliveries by the workers of a cluster: the same bytes as by one process, whoever dies meanwhile."""

import threading

import pytest

from errant_gust.core.errors import Cancelled, FileError, GustError
from errant_gust.core.home import home
from errant_gust.core.runs import job
from errant_gust.core.runs.delivery import hands
from errant_gust.core.runs.delivery.deliver import deliver
from errant_gust.core.runs.delivery.hands import TAKEN, shares_of, write_share
from errant_gust.core.runs.delivery.verify import manifest_of, verify
from tests.clusters import Machines, until
from tests.core.test_cluster import Ordered
from tests.core.test_cluster import smoke as long_smoke
from tests.core.test_delivery import dust, dusty, order, smoke

pytestmark = pytest.mark.slow("schedulers and workers are processes that are begun, killed and waited for")

assert dust
assert smoke


class Writing(threading.Thread):
    """A delivery that goes on in another thread, and what it said."""

    def __init__(self, of, to, address):
        super().__init__(daemon=True)
        self.of, self.to, self.address = of, to, address
        self.why, self.done, self.error, self.unwanted = [], 0, None, threading.Event()
        self.start()

    def run(self):
        def report(done, total, name):
            self.done = done

        try:
            deliver(
                self.of, self.to, cluster=self.address, waits=self.why.append, report=report,
                cancel=self.unwanted.is_set,
            )  # fmt: skip
        except (GustError, Cancelled) as error:
            self.error = error

    def ends(self):
        self.join(120)
        assert not self.is_alive()
        return self.error


@pytest.fixture
def small_shares(monkeypatch):
    """One file at a time, so that there is always more to do."""
    monkeypatch.setattr(hands, "MOST_FILES", 1)


def names_and_sums(folder):
    return sorted((f["name"], f["sha256"]) for f in manifest_of(folder)["files"])


def test_the_same_bytes_though_the_scheduler_is_away_and_a_worker_dies(dust, smoke, small_shares, tmp_path):
    slow = dusty(tmp_path / "slow", 40_000)
    of = order(slow, results=(":csv", ":ply")), order(dust, results=(":usd", "lines")), order(smoke)
    for n, one in enumerate(of):
        deliver(one, tmp_path / f"here-{n}")
    with Machines(home(), tmp_path) as machines:
        first = Writing(of[0], tmp_path / "there-0", machines.address)
        until(lambda: first.why, why="nothing was told")
        assert f"the scheduler at {machines.address} is away" in first.why[-1]
        machines.scheduler()
        until(lambda: "the scheduler has none yet" in first.why[-1], why="workers were not missed")
        machines.worker("first")
        machines.worker("second")
        until(lambda: first.why[-1] == "", why="it does not go on")
        until(lambda: first.done >= 1, why="nothing was written")
        machines.kill("first")
        until(lambda: first.done >= 3, why="the other does not go on")
        machines.kill("scheduler")
        assert first.done < 10
        until(lambda: "is away" in first.why[-1], why="nobody noticed that the scheduler went")
        machines.scheduler()
        assert first.ends() is None
        second, third = (Writing(of[n], tmp_path / f"there-{n}", machines.address) for n in (1, 2))
        assert second.ends() is None
        assert third.ends() is None
    for n in range(3):
        assert names_and_sums(tmp_path / f"there-{n}") == names_and_sums(tmp_path / f"here-{n}")
        assert verify(tmp_path / f"there-{n}") == []
        kept = {p.name for p in (tmp_path / f"there-{n}").rglob(".*")}
        assert not kept, "nothing of who wrote it stays"


def test_a_stop_is_heard_and_the_same_order_goes_on_here(dust, small_shares, tmp_path):
    of = order(dust)
    with Machines(home(), tmp_path) as machines:
        machines.scheduler()
        machines.worker("only")
        stopped = Writing(of, tmp_path / "out", machines.address)
        until(lambda: stopped.done >= 1, why="nothing was written")
        stopped.unwanted.set()
        assert isinstance(stopped.ends(), Cancelled)
        machines.kill("only")
    assert not (tmp_path / "out").exists()
    seen = []
    deliver(of, tmp_path / "out", report=lambda done, total, name: seen.append(done))
    assert 1 < seen[0] <= 5, "what was written is kept"
    assert verify(tmp_path / "out") == []


def test_workers_that_compute_something_else_are_waited_for_with_words(dust, tmp_path):
    with Machines(home(), tmp_path) as machines:
        machines.scheduler()
        machines.worker("only")
        run = Ordered(long_smoke(131, 400), machines.address)
        run.has(2)
        writing = Writing(order(dust), tmp_path / "out", machines.address)
        until(lambda: writing.why and writing.why[-1] == "for one of 1 workers to be free", why="nothing is told")
        job.ask_to_stop(run.folder)
        run.ends("stopped", 30)
        assert writing.ends() is None
    assert writing.why[-1] == ""
    assert verify(tmp_path / "out") == []


def test_what_a_worker_finds_in_the_way_is_said_in_words(dust, tmp_path):
    of = order(dust)
    (share,) = shares_of(of, of.files, tmp_path / "aside", "mine")
    with pytest.raises(FileError, match=r"is not seen by the worker .*; deliver to a folder that all workers share"):
        write_share(share)
    assert not (tmp_path / "aside").exists(), "a worker that was forgotten makes no folder"
    (tmp_path / "aside").mkdir()
    (tmp_path / "aside" / TAKEN).write_text("another's")
    with pytest.raises(FileError, match="was asked for again"):
        write_share(share)
    (tmp_path / "aside" / TAKEN).write_text("mine")
    assert [s["number"] for s in write_share(share)] == [1, 2, 3, 4, 5]
    assert (tmp_path / "aside" / of.files[0].name).is_file()

    with Machines(home(), tmp_path) as machines:
        machines.scheduler()
        machines.worker("only")
        frame = dust.frames_folder / "000004.zarr"
        hidden = frame.rename(tmp_path / "hidden")
        try:
            error = Writing(of, tmp_path / "out", machines.address).ends()
        finally:
            hidden.rename(frame)
        assert isinstance(error, GustError)
        assert "frame 4" in str(error), error


def test_a_share_is_a_second_or_two_of_work_and_asks_for_its_memory(dust, smoke, tmp_path, monkeypatch):
    of = order(dust, smoke)
    monkeypatch.setattr(hands, "SHARE", 2 * of.parts[1].bytes // len(of.parts[1].frames))
    shares = shares_of(of, of.files, tmp_path, "mine")
    assert [f for s in shares for f in s.files] == list(of.files)
    smokes = [s for s in shares if s.files[0].item == 1]
    assert [len(s.files) for s in smokes] == [2, 2]
    assert all(s.memory > 4 * of.parts[1].bytes // 4 for s in smokes)
    assert all(s.piece.options.first == of.parts[s.files[0].item].frames[0] for s in shares)
