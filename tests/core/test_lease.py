"""Leases: one writer at a time, also when a holder dies, sleeps or sits on another machine."""

import json
import multiprocessing
import os
import signal
import threading
import time

import numpy as np
import pytest

from errant_gust.core.runs import lease
from errant_gust.core.runs.frame_store import RunStore
from errant_gust.core.runs.lease import Elsewhere, Lost, holder, leased


def hold_for_ever(folder, ready):
    with leased(folder):
        ready.set()
        time.sleep(600)


def pretend_another_machine(folder, age):
    """The lease that is held now, as a machine far away would have left it."""
    (path,) = folder.glob(".lease-*")
    path.write_text(json.dumps({**json.loads(path.read_text()), "machine": "far away", "worker": "far 7"}))
    then = time.time() - age
    os.utime(path, (then, then))
    return path


def test_only_one_holds_it_and_it_is_free_again_afterwards(tmp_path):
    with leased(tmp_path):
        assert holder(tmp_path)["pid"] == os.getpid()
        with pytest.raises(Elsewhere, match=f"is being computed by .* {os.getpid()}"), leased(tmp_path):
            pass
    assert holder(tmp_path) == {}
    with leased(tmp_path):
        pass
    assert [p.name for p in tmp_path.iterdir()] == [".lease-2"], "one small file stays behind, that says it is free"


def test_many_threads_at_once_are_never_two_inside(tmp_path):
    inside, most, refused = [], [], []

    def one():
        for _ in range(30):
            try:
                with leased(tmp_path):
                    inside.append(1)
                    most.append(len(inside))
                    time.sleep(0.002)
                    inside.pop()
            except Elsewhere:
                refused.append(1)

    threads = [threading.Thread(target=one) for _ in range(8)]
    [t.start() for t in threads]
    [t.join() for t in threads]
    assert max(most) == 1
    assert refused


def test_a_holder_that_was_killed_here_is_known_at_once(tmp_path):
    context = multiprocessing.get_context("spawn")
    ready = context.Event()
    process = context.Process(target=hold_for_ever, args=(tmp_path, ready))
    process.start()
    assert ready.wait(60)
    with pytest.raises(Elsewhere), leased(tmp_path):
        pass
    os.kill(process.pid, signal.SIGKILL)
    process.join()
    started = time.monotonic()
    with leased(tmp_path) as taken:
        assert taken.number == 2
    assert time.monotonic() - started < lease.LASTS / 3


def test_one_from_another_machine_holds_until_it_has_run_out(tmp_path):
    first = leased(tmp_path)
    mine = first.__enter__()
    pretend_another_machine(tmp_path, lease.LASTS / 2)
    with pytest.raises(Elsewhere, match="far 7"), leased(tmp_path):
        pass
    pretend_another_machine(tmp_path, lease.LASTS * 2)
    with leased(tmp_path) as taken:
        assert not mine.held(), "the one that slept finds that out"
        with pytest.raises(Lost, match="another worker has taken this run over"):
            mine.check()
        first.__exit__(None, None, None)
        assert taken.held(), "and takes nothing away when it ends"


def test_a_holder_touches_its_lease_while_it_computes(tmp_path, monkeypatch):
    monkeypatch.setattr(lease, "LASTS", 0.5)
    with leased(tmp_path) as held:
        before = held.path.stat().st_mtime_ns
        time.sleep(0.7)
        assert held.path.stat().st_mtime_ns > before


def test_a_frame_is_not_put_in_its_place_by_who_has_lost_the_run(tmp_path):
    slow, quick = RunStore(tmp_path), RunStore(tmp_path)
    slow.create({"identity": "x"})
    frame = {"position": np.ones((4, 3), np.float32)}
    was = slow.alone()
    was.__enter__()
    slow.write(1, frame, {"by": "slow"})
    pretend_another_machine(tmp_path, lease.LASTS * 2)
    with quick.alone():
        quick.write(2, frame, {"by": "quick"})
        with pytest.raises(Lost):
            slow.write(2, frame, {"by": "slow"})
        with pytest.raises(Lost):
            slow.write(3, frame, {"by": "slow"})
    was.__exit__(None, None, None)
    assert quick.frames() == [1, 2]
    assert quick.facts(2)["by"] == "quick"
    assert not list(quick.frames_folder.glob(".writing-*"))


@pytest.mark.parametrize("text", ["", "{", "[]", '{"pid": 5}', '{"machine": 3}'])
def test_a_lease_that_cannot_be_read_ends_when_it_has_run_out(tmp_path, text):
    path = tmp_path / ".lease-1"
    path.write_text(text)
    with pytest.raises(Elsewhere), leased(tmp_path):
        pass
    os.utime(path, (1, 1))
    with leased(tmp_path) as taken:
        assert taken.number == 2
