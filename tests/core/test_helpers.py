"""Threads that help: results in order, errors that are heard, nobody who waits for ever, work inside work."""

import gc
import threading
import time
import weakref

import pytest

from errant_gust.core import helpers
from errant_gust.core.blocks import share_out
from errant_gust.core.errors import Cancelled
from errant_gust.core.grids.slabs import each_slab


def test_results_come_in_order_and_calls_go_at_the_same_time():
    together = threading.Barrier(3, timeout=10)

    def call(n):
        together.wait()  # passes only if three are under way at once
        return n * n

    assert helpers.at_once([lambda n=n: call(n) for n in range(3)]) == [0, 1, 4]


@pytest.mark.parametrize("bad", [0, 1, 2])
def test_an_error_is_heard_when_all_that_was_begun_has_ended(bad):
    ended = []

    def call(n):
        time.sleep(0.02)
        ended.append(n)
        if n == bad:
            raise ValueError(f"call {n}")
        return n

    with pytest.raises(ValueError, match=f"call {bad}"):
        helpers.at_once([lambda n=n: call(n) for n in range(3)])
    before = list(ended)
    time.sleep(0.1)
    assert ended == before, "nothing goes on behind the caller's back"


def test_work_inside_work_ends_though_no_helper_is_free():
    """Each call asks for help in turn, more than there are threads for."""

    def inner(a, b):
        time.sleep(0.001)

    def outer(first, last):
        each_slab(8, inner, 8)

    for _ in range(3):
        share_out(outer, 80, block=1)
    assert len(helpers._threads) <= helpers.MOST


def test_many_callers_at_once_each_get_their_own(monkeypatch):
    monkeypatch.setenv("ERRANT_GUST_THREADS", "3")
    found = {}

    def caller(n):
        seen = []
        share_out(lambda a, b: seen.append((n, a, b)), 1000, block=10)
        found[n] = sorted(seen)

    threads = [threading.Thread(target=caller, args=(n,)) for n in range(20)]
    for t in threads:
        t.start()
    for t in threads:
        t.join(20)
    assert found == {n: [(n, a, a + 10) for a in range(0, 1000, 10)] for n in range(20)}


def test_a_cancel_stops_the_others_soon(monkeypatch):
    monkeypatch.setenv("ERRANT_GUST_THREADS", "2")
    made = []

    def work(first, last):
        made.append(first)
        time.sleep(0.001)

    with pytest.raises(Cancelled):
        share_out(work, 10_000, block=1, cancel=lambda: len(made) > 20)
    count = len(made)
    assert count < 30
    time.sleep(0.05)
    assert len(made) == count


def test_nothing_to_do_is_done_at_once():
    share_out(lambda a, b: pytest.fail("called"), 0)
    assert each_slab(0, lambda a, b: pytest.fail("called"), 2) == []


def test_a_call_that_was_made_holds_nothing_though_it_is_still_in_the_line():
    class Large:
        pass

    thing = Large()
    seen = weakref.ref(thing)
    job = helpers._Job(lambda t=thing: id(t))
    del thing
    assert seen() is not None
    job.make()
    gc.collect()
    assert seen() is None
    assert len(job.result) == 1
