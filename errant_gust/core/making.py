"""Values that are worked out once on any number of threads, and the order of locks.

A *making* (`Making`) is held while something is made, and makings are nested as things depend on one another, which is
never in a circle: a thread that would close one is told so instead of waiting for ever. All other locks of the core are
inner ones: nothing is made, waited for or asked for while one is held.
"""

import os
import threading
from collections.abc import Callable
from typing import Any, Generic, TypeVar, overload

from errant_gust.core.errors import StudyError
from errant_gust.core.wanted import LOOKS, check

T = TypeVar("T")


class _Held(threading.local):
    name = ""


_held = _Held()
WATCHED = bool(os.environ.get("ERRANT_GUST_WATCH_LOCKS"))
"""Whether the order of locks is watched: tests do."""


class _Watched:
    """A lock within which no other is taken and nothing is made: who does is told."""

    def __init__(self, name: str) -> None:
        self._name, self._lock = name, threading.Lock()

    def acquire(self, blocking: bool = True, timeout: float = -1) -> bool:
        if _held.name:
            raise AssertionError(f"the lock '{self._name}' is taken while '{_held.name}' is held")
        if self._lock.acquire(blocking, timeout):
            _held.name = self._name
            return True
        return False

    def release(self) -> None:
        _held.name = ""
        self._lock.release()

    def _is_owned(self) -> bool:  # what a condition asks
        return _held.name == self._name

    def __enter__(self) -> None:
        self.acquire()

    def __exit__(self, *error: object) -> None:
        self.release()


def inner_lock(name: str) -> Any:
    """A lock that is held for a moment only: nothing is made, waited for or locked within."""
    return _Watched(name) if WATCHED else threading.Lock()


_inner = inner_lock("makings")
_waits: dict[int, "Making"] = {}
"""What each thread waits for."""


class Making:
    """Who makes something, one thread at a time; the others wait as long as it is wanted."""

    __slots__ = ("_by", "_done", "what")

    def __init__(self, what: str) -> None:
        self.what = what
        self._by = 0
        self._done = threading.Condition(_inner)

    def __enter__(self) -> None:
        me = threading.get_ident()
        with _inner:
            if not self._by:
                self._by = me
                return
        while True:
            check()
            with _inner:
                if self._by:
                    self._refuse_circle(me)
                    _waits[me] = self
                    try:
                        self._done.wait(LOOKS)
                    finally:
                        del _waits[me]
                if not self._by:
                    self._by = me
                    return

    def __exit__(self, *error: object) -> None:
        with _inner:
            self._by = 0
            self._done.notify_all()

    def _refuse_circle(self, me: int) -> None:
        """With the inner lock held: whoever makes it may wait, along others, for what this thread makes."""
        path, at = [self.what], self
        while at._by and at._by != me:
            following = _waits.get(at._by)
            if following is None or len(path) > 64:
                return
            at = following
            path.append(at.what)
        if at._by == me:
            raise StudyError(
                f"this is made from what is made from it ({' → '.join(path)})", fix="take one of the uses out"
            )


class lazy(Generic[T]):
    """A value of an object that is worked out when it is first asked for, and kept in it.

    Each value of each object has a making of its own. What the standard library of Python 3.11 has for this holds one
    lock for all objects, so two threads that want different things may wait for each other for ever.
    """

    def __init__(self, make: Callable[[Any], T]) -> None:
        self._make, self.__doc__ = make, make.__doc__

    def __set_name__(self, owner: type, name: str) -> None:
        self._name, self._what = name, f"{name} of {owner.__name__}"

    @overload
    def __get__(self, instance: None, owner: type) -> "lazy[T]": ...
    @overload
    def __get__(self, instance: object, owner: type) -> T: ...
    def __get__(self, instance: object | None, owner: type) -> "lazy[T] | T":
        if instance is None:
            return self
        kept = instance.__dict__  # in which it stands before this is asked, from then on
        key = f"making {self._name}"
        try:
            with kept.setdefault(key, Making(self._what)):
                if self._name not in kept:
                    kept[self._name] = self._make(instance)
                made: T = kept[self._name]
                return made
        finally:
            kept.pop(key, None)


class Once(Generic[T]):
    """Values by key, each made by one thread, the last `most` kept, and no more bytes than `limit` says by `size`."""

    def __init__(
        self, what: str, most: int, size: Callable[[T], int] | None = None, limit: Callable[[], int] | None = None
    ) -> None:
        self._what, self._most = what, most
        self._size, self._limit = size or (lambda made: 0), limit or (lambda: 1)
        self._items: dict[Any, T] = {}
        self._making: dict[Any, Making] = {}

    def get(self, key: Any, make: Callable[[], T]) -> T:
        """What is kept under a key, made if it is not there."""
        with _inner:
            if key in self._items:
                found = self._items[key] = self._items.pop(key)  # as the one that was asked for last
                return found
            making = self._making.setdefault(key, Making(self._what))
        with making:
            with _inner:
                if key in self._items:
                    return self._items[key]
            made, limit = make(), self._limit()
            with _inner:
                self._items[key] = made
                self._making.pop(key, None)
                while len(self._items) > 1 and self._too_much(limit):
                    self._items.pop(next(iter(self._items)))
            return made

    def _too_much(self, limit: int) -> bool:
        return len(self._items) > self._most or sum(map(self._size, self._items.values())) > limit

    def clear(self) -> None:
        """Forget everything."""
        with _inner:
            self._items.clear()
