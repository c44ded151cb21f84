"""The command-line application, and what its commands share."""

from collections.abc import Callable, Iterator
from contextlib import contextmanager
from typing import Annotated

import typer
from rich.console import Console
from rich.progress import BarColumn, Progress, TextColumn, TimeRemainingColumn

app = typer.Typer(add_completion=False, no_args_is_help=True, pretty_exceptions_enable=False, help="Errant Gust")
err = Console(stderr=True)

StudyArg = Annotated[str, typer.Argument(metavar="STUDY", help="A .gust.json file, or the name of a demo study")]
JsonFlag = Annotated[bool, typer.Option("--json", help="Machine-readable output")]


def bar() -> Progress:
    """Progress with remaining time, on stderr."""
    return Progress(
        TextColumn("{task.description}"), BarColumn(), TextColumn("{task.percentage:>3.0f} %"), TimeRemainingColumn(),
        console=err, transient=True,
    )  # fmt: skip


@contextmanager
def shares(what: str) -> Iterator[Callable[[float], None]]:
    """A bar for work that tells its share, 0 … 1."""
    with bar() as shown:
        task = shown.add_task(what, total=1.0)
        yield lambda share: shown.update(task, completed=share)
