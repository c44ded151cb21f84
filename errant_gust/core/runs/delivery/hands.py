"""Who writes the files of a delivery: this process, or the workers of a cluster that see the same folders.

A worker writes a file under a name that nobody else uses, reads it back, and only then gives it its own name; what it
says of the file goes to who asked, who alone keeps the account. So a worker that dies costs the files it was at, and
one that was forgotten by its scheduler does no harm: its files are the same bytes, and it stops when the delivery is
finished, stopped or asked for again.
"""

import shutil
import time
import uuid
from collections import deque
from collections.abc import Callable, Sequence
from concurrent.futures import CancelledError, Future, ThreadPoolExecutor
from contextlib import suppress
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from errant_gust.core.blocks import Cancel
from errant_gust.core.errors import Cancelled, FileError, GustError
from errant_gust.core.runs.cluster import AGAIN, CONNECT, LOOKS, fitting
from errant_gust.core.runs.delivery.order import Order, Planned
from errant_gust.core.runs.delivery.writing import Piece, said_of, write_one
from errant_gust.core.runs.job import worker_name

Told = Callable[[Planned, dict[str, Any]], None]
"""A file that is written and was read back, and what is said of it."""
Waits = Callable[[str], None]
"""Why nothing can be written for now; empty when it goes on."""

SHARE = 256 << 20
"""Bytes of arrays that a worker is given at a time, about: a second or two of work."""
MOST_FILES = 32
"""Files that it is given at a time at most."""
OWN = 256 << 20
"""Bytes that a worker needs whatever it writes; beside them a few times the largest frame."""
RANK = 5
"""Before runs at full quality, behind previews: a file is written in seconds."""
QUIET = 1.0
"""Seconds after which it is looked whether anybody writes."""
TAKEN = ".asked"
"""Holds the mark of who asks; without it a worker writes nothing."""
ASIDE = ".hands"


def write_here(order: Order, files: Sequence[Planned], aside: Path, told: Told, cancel: Cancel | None) -> None:
    """Write files in this process: while one is written, the one before it is read back. Raises Cancelled."""
    proof: tuple[Planned, Future[dict[str, Any]]] | None = None

    def settled() -> None:
        nonlocal proof
        if proof is not None:
            (file, said), proof = proof, None
            told(file, said.result())

    with ThreadPoolExecutor(1) as prover:
        try:
            for file in files:
                if cancel is not None and cancel():
                    raise Cancelled
                part = order.parts[file.item]
                box = write_one(part, order.options, file, aside / file.name)
                settled()
                proof = file, prover.submit(said_of, aside / file.name, file, part.format, box)
        finally:
            settled()


@dataclass(frozen=True)
class Share:
    """Files of one item that one worker writes."""

    piece: Piece
    files: tuple[Planned, ...]
    aside: Path
    mark: str
    memory: int = field(compare=False)
    """Bytes that it may take at most."""


def shares_of(order: Order, files: Sequence[Planned], aside: Path, mark: str) -> list[Share]:
    """Files in their order, cut into shares of about `SHARE` bytes of arrays."""
    made = []
    for n, part in enumerate(order.parts):
        own = [f for f in files if f.item == n]
        a_frame = max(1, part.bytes // len(part.frames))
        many = max(1, min(MOST_FILES, SHARE // a_frame))
        piece = Piece.of(part, order.options)
        made += [
            Share(piece, tuple(own[a : a + many]), aside, mark, OWN + 4 * a_frame) for a in range(0, len(own), many)
        ]
    return made


def write_share(share: Share) -> list[dict[str, Any]]:
    """What a worker does: what is said of every file, in their order. Raises FileError where the delivery's folder is
    not seen, or is not asked for any more."""
    asked = share.aside / TAKEN
    part = share.piece.part()
    said = []
    for file in share.files:
        try:
            mark = asked.read_text()
        except OSError:
            raise FileError(
                f"is not seen by the worker {worker_name()}, or the delivery has ended", where=str(share.aside),
                fix="deliver to a folder that all workers share, or write on this machine",
            ) from None  # fmt: skip
        if mark != share.mark:
            raise FileError("was asked for again", where=str(share.aside))
        own = share.aside / ASIDE / uuid.uuid4().hex
        try:
            path = own / Path(file.name).name
            box = write_one(part, share.piece.options, file, path)
            said.append(said_of(path, file, part.format, box))
            (share.aside / file.name).parent.mkdir(parents=True, exist_ok=True)
            path.replace(share.aside / file.name)
        finally:
            shutil.rmtree(own, ignore_errors=True)
    return said


def write_there(
    address: str, order: Order, files: Sequence[Planned], aside: Path, told: Told, cancel: Cancel | None,
    waits: Waits | None,
) -> None:  # fmt: skip
    """Write files by the workers of the scheduler at `address`; while it is away, or has no worker that fits, it is
    waited for. Raises Cancelled, or what a worker found in the way."""
    mark = uuid.uuid4().hex
    (aside / TAKEN).write_text(mark)
    try:
        _Shared(address, shares_of(order, files, aside, mark), told, waits).all(cancel)
    finally:
        (aside / TAKEN).unlink(missing_ok=True)
        shutil.rmtree(aside / ASIDE, ignore_errors=True)


class _Shared:
    """Shares that wait, and those that workers have."""

    def __init__(self, address: str, shares: list[Share], told: Told, waits: Waits | None) -> None:
        self.address, self.told = address, told
        self.waiting = deque(shares)
        self.going: dict[Any, Share] = {}
        self.done: deque[tuple[Planned, dict[str, Any]]] = deque()
        self.client: Any = None
        self.why = ""
        self.waits = waits
        self.moved = time.monotonic()

    def all(self, cancel: Cancel | None) -> None:
        try:
            while self.waiting or self.going:
                if cancel is not None and cancel():
                    raise Cancelled
                try:
                    pause = self._step()
                except (OSError, TimeoutError, ValueError, RuntimeError, CancelledError) as error:
                    pause = self._lost(error)  # whatever a network may do
                while self.done:
                    self.told(*self.done.popleft())
                time.sleep(pause)
        finally:
            self._drop()

    def _step(self) -> float:
        """Hand in, and take what is done; seconds to wait until the next."""
        from distributed import Client

        if self.client is None:
            self.client = Client(self.address, set_as_default=False, timeout=CONNECT)
        if self.client.status != "running":
            raise OSError("the connection was lost")
        workers = self.client.scheduler_info(n_workers=-1)["workers"]
        why = ""
        if self.waiting:
            asked, among, why = fitting(max(s.memory for s in self.waiting), workers)
            room = 0 if why else 2 * sum(int(w["nthreads"]) for w in workers.values()) - len(self.going)
            for _ in range(min(room, len(self.waiting))):
                share = self.waiting.popleft()
                future = self.client.submit(
                    write_share, share, pure=False, priority=RANK, resources=asked or None,
                    workers=sorted(among) if among else None, retries=0,
                )  # fmt: skip
                self.going[future] = share
        ended = [f for f in self.going if f.status != "pending"]
        for future in ended:
            self._take(future)
        self._wait(why or self._busy(bool(ended), len(workers)))
        return 0.0 if ended else LOOKS / 5

    def _busy(self, moved: bool, workers: int) -> str:
        """Words for workers that have shares and do something else: none has begun a file, and none came back."""
        now = time.monotonic()
        if moved or not self.going:
            self.moved = now
        elif now - self.moved > QUIET:
            aside = next(iter(self.going.values())).aside / ASIDE
            if not aside.is_dir() or not any(aside.iterdir()):
                return f"for one of {workers} workers to be free"
            self.moved = now
        return ""

    def _take(self, future: Any) -> None:
        share = self.going[future]
        if future.status in ("cancelled", "lost"):
            raise OSError("the scheduler was started again")
        error = future.exception(timeout=10)
        if error is None:
            self.done.extend(zip(share.files, future.result(timeout=10), strict=True))
        del self.going[future]
        if error is not None:
            if isinstance(error, GustError):
                raise error
            if type(error).__name__ == "KilledWorker":
                raise GustError("its workers died, one after the other", where=share.files[0].name,
                                fix="is there memory enough? Fewer channels or half floats need less")  # fmt: skip
            raise GustError(f"{type(error).__name__}: {error}", where=share.files[0].name)
        future.release()

    def _lost(self, error: Exception) -> float:
        self.waiting.extendleft(reversed(self.going.values()))
        self._drop()
        first = (str(error).splitlines() or [type(error).__name__])[0][:120]
        self._wait(f"the scheduler at {self.address} is away ({first}); it is tried again every few seconds")
        return AGAIN

    def _wait(self, why: str) -> None:
        if why != self.why and self.waits is not None:
            self.waits(why)
        self.why = why

    def _drop(self) -> None:
        client, self.client = self.client, None
        if client is None:
            return
        with suppress(Exception):
            client.cancel(list(self.going), force=True)
        self.going.clear()
        with suppress(Exception):
            client.close(timeout=1)
