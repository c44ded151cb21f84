"""The command-line application, and what its commands share."""

import signal
import threading
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer
from rich.console import Console
from rich.progress import BarColumn, Progress, TextColumn, TimeRemainingColumn

from errant_gust.core.errors import GustError

if TYPE_CHECKING:
    from errant_gust.core.fields.plan import Plan

app = typer.Typer(add_completion=False, no_args_is_help=True, pretty_exceptions_enable=False, help="Errant Gust")
err = Console(stderr=True)

StudyArg = Annotated[str, typer.Argument(metavar="STUDY", help="A .gust.json file, or the name of a demo study")]
JsonFlag = Annotated[bool, typer.Option("--json", help="Machine-readable output")]


def open_study(name: Path | str) -> "Plan":
    """A study by its file or the name of a demo. All that fields and flows need is loaded by it and not before: a
    command that only says what it can do is quick. Raises GustError."""
    from errant_gust.core.demos.by_name import open_study as opened

    return opened(name)


def bar() -> Progress:
    """Progress with remaining time, on stderr."""
    return Progress(
        TextColumn("{task.description}"), BarColumn(), TextColumn("{task.percentage:>3.0f} %"), TimeRemainingColumn(),
        console=err, transient=True,
    )  # fmt: skip


@contextmanager
def stopping(*numbers: signal.Signals) -> Iterator[Callable[[], bool]]:
    """Within this, signals (Ctrl-C and SIGTERM, if none is named) ask to stop instead of ending the process: what says
    whether one has come. Afterwards they do what they did before."""
    asked = threading.Event()
    before = {n: signal.signal(n, lambda *_: asked.set()) for n in numbers or (signal.SIGINT, signal.SIGTERM)}
    try:
        yield asked.is_set
    finally:
        for number, handler in before.items():
            signal.signal(number, handler)


@contextmanager
def shares(what: str) -> Iterator[Callable[[float], None]]:
    """A bar for work that tells its share, 0 … 1."""
    with bar() as shown:
        task = shown.add_task(what, total=1.0)
        yield lambda share: shown.update(task, completed=share)


def some_frames(text: str) -> tuple[int | None, int | None]:
    """`A-B` or `A`; nothing of both if nothing is said. Raises GustError."""
    if not text:
        return None, None
    first, _, last = text.partition("-") if not text.startswith("-") else (text, "", "")
    try:
        return int(first), int(last or first)
    except ValueError:
        raise GustError(f"'{text}' are no frames", where="--frames", fix="right would be 1-48") from None


def frame_range(text: str, start: int, end: int) -> tuple[int, int]:
    """`A-B` or `A`, within start to end; both if nothing is said. Raises GustError."""
    if not text:
        return start, end
    parts = text.split("-") if not text.startswith("-") else [text]
    try:
        numbers = [int(p) for p in parts]
    except ValueError:
        numbers = []
    if len(numbers) not in (1, 2) or numbers[-1] < numbers[0] or numbers[0] < start or numbers[-1] > end:
        raise GustError(f"'{text}' are not frames of this study", where="--frames", fix=f"right would be {start}-{end}")
    return numbers[0], numbers[-1]
