"""Who is computed for next, of those that look: the order of the line, and identical requests answered once.

As many are computed at once as there are cores; the others wait. Who drags comes before who reads numbers; of equals,
whoever took least lately; and every second of waiting counts, so nobody waits for ever.
"""

import threading
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from typing import Generic, TypeVar

from errant_gust.core.blocks import Cancel, threads
from errant_gust.core.errors import Cancelled

T = TypeVar("T")
PATIENCE = 1.0
"""Seconds of waiting that make up for a rank."""
FORGETS = 2.0
"""Seconds after which half of what somebody took is forgotten."""
LONGEST = 30.0
"""Seconds after which a look is given up, with words."""
LOOKS = 0.05
"""Seconds between two looks of one that waits whether it is still wanted."""


class Place:
    """Somebody's place in the line, before they are called and while they hold it."""

    def __init__(self, line: "Line", rank: int, client: str, unwanted: Cancel) -> None:
        self._line, self.rank, self.client, self._unwanted = line, rank, client, unwanted
        self.since = self.began = time.monotonic()
        self.called = threading.Event()

    def take(self) -> None:
        """Wait until called. Raises Cancelled as soon as it is no longer wanted."""
        self.since = time.monotonic()
        self._line.join(self)
        while not self.called.wait(LOOKS):
            if self._unwanted() and self._line.gives_up(self):
                raise Cancelled
            self._line.call()  # somebody's time may be over meanwhile

    def leave(self) -> None:
        """Let the next one in."""
        self._line.left_by(self)
        self.called.clear()

    @contextmanager
    def aside(self) -> Iterator[None]:
        """Long work within holds up nobody: the place is free meanwhile, and taken again afterwards."""
        if not self.called.is_set():  # it is aside already, or a helper's thread came here
            yield
            return
        self.leave()
        try:
            yield
        finally:
            self._line.comes_back(self)


class Line:
    """A line before so many places."""

    def __init__(self, places: Callable[[], int], longest: float = LONGEST + 5) -> None:
        """`longest`: seconds after which who still holds a place no longer keeps others out, whatever is the matter."""
        self._places, self._longest = places, longest
        self._lock = threading.Lock()
        self._waiting: list[Place] = []
        self._holding: dict[int, Place] = {}
        self._took: dict[str, tuple[float, float]] = {}

    @property
    def _busy(self) -> int:
        late = time.monotonic() - self._longest
        return sum(place.began > late for place in self._holding.values())

    @contextmanager
    def place(self, rank: int, client: str, unwanted: Cancel) -> Iterator[Place]:
        """Wait for a place and hold it. Raises Cancelled as soon as it is no longer wanted."""
        mine = Place(self, rank, client, unwanted)
        mine.take()
        try:
            yield mine
        finally:
            mine.leave()

    def join(self, place: Place) -> None:
        with self._lock:
            self._waiting.append(place)
            self._call()

    def gives_up(self, place: Place) -> bool:
        """Whether it went before it was called."""
        with self._lock:
            if place.called.is_set():
                return False
            self._waiting.remove(place)
            return True

    def call(self) -> None:
        with self._lock:
            self._call()

    def comes_back(self, place: Place) -> None:
        """What is left to do after long work is little: it is done beside the others."""
        with self._lock:
            place.began = time.monotonic()
            self._holding[id(place)] = place
            place.called.set()

    def left_by(self, place: Place) -> None:
        with self._lock:
            if self._holding.pop(id(place), None) is None:
                return
            now = time.monotonic()
            self._took[place.client] = (self._share(place.client, now) + now - place.began, now)
            if len(self._took) > 1024:
                self._took.clear()
            self._call()

    def _share(self, client: str, now: float) -> float:
        """Seconds that somebody took lately."""
        took, when = self._took.get(client, (0.0, now))
        return float(took * 0.5 ** ((now - when) / FORGETS))

    def _call(self) -> None:
        """Call those whose turn it is; with the lock held."""
        now = time.monotonic()
        while self._waiting and self._busy < self._places():
            following = min(
                self._waiting,
                key=lambda w: (w.rank - int((now - w.since) / PATIENCE), self._share(w.client, now), w.since),
            )
            self._waiting.remove(following)
            following.began = now
            self._holding[id(following)] = following
            following.called.set()


class _Made(Generic[T]):
    def __init__(self) -> None:
        self.led, self.over = True, False
        self.waiting = 0
        self.result: list[T] = []
        self.error: Exception | None = None


class Once(Generic[T]):
    """What several ask for at the same time is made once."""

    def __init__(self) -> None:
        self._news = threading.Condition()
        self._flying: dict[str, _Made[T]] = {}

    def make(self, key: str, unwanted: Cancel, work: Callable[[], T]) -> T:
        """The result of `work`, or of whoever makes the same already. If that one gives up, one of those who wait makes
        it for the others. Raises Cancelled as soon as it is no longer wanted."""
        with self._news:
            there = self._flying.get(key)
            if there is None:
                there = self._flying[key] = _Made()
            else:
                self._wait(key, there, unwanted)
                if there.error is not None:
                    raise there.error
                if there.over:
                    return there.result[0]
                there.led = True
        return self._lead(key, there, work)

    def _wait(self, key: str, there: _Made[T], unwanted: Cancel) -> None:
        """Until it is made, or whoever made it gave up; with the lock held."""
        there.waiting += 1
        try:
            while there.led and not there.over:
                if unwanted():
                    raise Cancelled
                self._news.wait(LOOKS)
        except Cancelled:
            if there.waiting == 1 and not there.led:  # it was the last who would have led
                self._flying.pop(key, None)
            raise
        finally:
            there.waiting -= 1

    def _lead(self, key: str, there: _Made[T], work: Callable[[], T]) -> T:
        try:
            there.result.append(work())
            there.over = True
        except Cancelled:
            raise
        except Exception as error:
            there.error, there.over = error, True
            raise
        finally:
            with self._news:
                there.led = False
                if there.over or not there.waiting:
                    self._flying.pop(key, None)
                self._news.notify_all()
        return there.result[0]


line = Line(lambda: max(2, threads()))
"""The one before everything that is looked at."""
