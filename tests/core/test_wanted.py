"""What is made once on any number of threads, without a circle; work that ends when nobody wants it."""

import threading
import time
from pathlib import Path

import pytest

import errant_gust
from errant_gust.core import blocks, making, wanted
from errant_gust.core.errors import Cancelled, StudyError
from errant_gust.core.making import Making, Once, lazy
from errant_gust.core.wanted import while_wanted

PACKAGE = Path(errant_gust.__file__).parent


class Thing:
    def __init__(self, other=None):
        self.other, self.made = other, 0

    @lazy
    def value(self):
        """What it is."""
        self.made += 1
        time.sleep(0.05)
        return self.other.value + 1 if self.other else 1


def on_threads(count, work):
    errors = []

    def safely(n):
        try:
            work(n)
        except Exception as error:
            errors.append(error)

    threads = [threading.Thread(target=safely, args=(n,), daemon=True) for n in range(count)]
    [t.start() for t in threads]
    [t.join(20) for t in threads]
    assert not any(t.is_alive() for t in threads), "a thread waits for ever"
    return errors


def test_a_value_is_made_once_by_many_threads_and_stands_in_its_object():
    thing = Thing()
    assert not on_threads(8, lambda n: thing.value)
    assert thing.made == 1
    assert [k for k in vars(thing) if k not in ("other", "made")] == ["value"]
    assert Thing.value.__doc__ == "What it is."


def test_two_objects_of_a_class_never_wait_for_each_other():
    """What `functools.cached_property` of Python 3.11 does: this thread makes one, which waits for another thread that
    makes the other."""
    begun, free = threading.Event(), threading.Event()

    class Slow:
        @lazy
        def value(self):
            begun.set()
            return free.wait(10)

    first, second = Slow(), Thing()
    thread = threading.Thread(target=lambda: first.value, daemon=True)
    thread.start()
    assert begun.wait(5)
    assert second.value == 1
    free.set()
    thread.join(5)
    assert first.value is True


def test_a_value_that_failed_is_tried_again():
    class Fails:
        times = 0

        @lazy
        def value(self):
            self.times += 1
            if self.times == 1:
                raise ValueError("not yet")
            return self.times

    one = Fails()
    with pytest.raises(ValueError, match="not yet"):
        _ = one.value
    assert one.value == 2


def test_what_would_be_made_from_itself_is_told_whoever_makes_the_parts():
    one = Thing()
    one.other = one
    with pytest.raises(StudyError, match="made from what is made from it"):
        _ = one.value
    a, b = Making("the first"), Making("the second")
    both = threading.Barrier(2)

    def close(n):
        first, second = ((a, b), (b, a))[n]
        with first:
            both.wait(5)
            with second:
                pass

    errors = on_threads(2, close)
    assert len(errors) == 1, "one is told, and the other goes on"
    assert "the first" in str(errors[0])
    assert "the second" in str(errors[0])


def test_who_waits_for_what_another_makes_gives_up_when_it_is_no_longer_wanted():
    held, free = threading.Event(), threading.Event()
    made = Once("something", 4)

    def slow():
        held.set()
        free.wait(20)
        return 7

    thread = threading.Thread(target=lambda: made.get("key", slow), daemon=True)
    thread.start()
    assert held.wait(5)
    began = time.monotonic()
    with pytest.raises(Cancelled), while_wanted(lambda: time.monotonic() - began > 0.2):
        made.get("key", lambda: 1)
    assert time.monotonic() - began < 5
    free.set()
    thread.join(5)
    assert made.get("key", lambda: 1) == 7


def test_blocks_and_blocks_within_them_end_when_the_outermost_is_no_longer_wanted(monkeypatch):
    monkeypatch.setenv("ERRANT_GUST_THREADS", "2")
    began, seen = time.monotonic(), []

    def inner(start, stop):
        seen.append(start)
        time.sleep(0.01)

    def outer(start, stop):
        blocks.share_out(inner, 10_000, block=1)

    with pytest.raises(Cancelled), while_wanted(lambda: time.monotonic() - began > 0.3):
        blocks.share_out(outer, 4, block=1)
    assert time.monotonic() - began < 5
    assert len(seen) > 2
    assert wanted.unwanted() is None


def test_no_cached_property_of_the_library_is_left():
    found = [
        f"{path.relative_to(PACKAGE)}: {line.strip()}"
        for path in PACKAGE.rglob("*.py")
        for line in path.read_text().splitlines()
        if "cached_property" in line
    ]
    assert not found, "one lock for all objects: two threads deadlock with any other lock; take `making.lazy`"


def test_a_lock_within_an_inner_lock_is_told(monkeypatch):
    monkeypatch.setattr(making, "WATCHED", True)
    one, two = making.inner_lock("one"), making.inner_lock("two")
    with one, pytest.raises(AssertionError, match="'two' is taken while 'one' is held"), two:
        pass
    with two, pytest.raises(AssertionError), one:
        pass
