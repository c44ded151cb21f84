"""Errors a person can act on: what is wrong, where, and what would be right."""

import difflib
from collections.abc import Iterable


class GustError(Exception):
    """Bad input or a state the user can mend.

    `where` is a path inside the study (`fields.gusts.a.feature_size`), a file name, or empty.
    """

    def __init__(self, what: str, *, where: str = "", fix: str = "") -> None:
        self.what, self.where, self.fix = what, where, fix
        super().__init__(str(self))

    def __str__(self) -> str:
        text = f"{self.where}: {self.what}" if self.where else self.what
        return f"{text}; {self.fix}" if self.fix else text

    def under(self, place: str) -> "GustError":
        """The same finding with its place put below `place`."""
        return type(self)(self.what, where=f"{place}.{self.where}".rstrip("."), fix=self.fix)


EXTRAS = {"pxr": "usd", "av": "film", "dask": "cluster", "distributed": "cluster"}
"""Packages that the wheel asks for only with one of its extras."""


def absent(error: BaseException) -> GustError | None:
    """The words for a package that an extra of the wheel would have brought; None for any other error."""
    name = (error.name or "").partition(".")[0] if isinstance(error, ModuleNotFoundError) else ""
    if name not in EXTRAS:
        return None
    extra = EXTRAS[name]
    return GustError(f"the part '{extra}' is not installed ({name})", fix=f"pip install 'errant-gust[{extra}]'")


class StudyError(GustError):
    """The study document cannot be used as it is."""


class BudgetError(GustError):
    """More memory than the budget allows; `fits` is a voxel size that would do, in metres."""

    def __init__(self, what: str, *, where: str = "", fix: str = "", fits: float | None = None) -> None:
        self.fits = fits
        super().__init__(what, where=where, fix=fix)


class SolverError(GustError):
    """What a solver found is no answer: too much remains."""


class FileError(GustError):
    """A file cannot be read or written."""


class Cancelled(Exception):
    """Work was asked to stop; not a failure."""


def nearest(name: str, known: Iterable[str]) -> str:
    """A hint that names the closest known name, or lists a few."""
    names = sorted(known)
    close = difflib.get_close_matches(name, names, n=1, cutoff=0.5)
    if close:
        return f"did you mean '{close[0]}'?"
    return f"known: {', '.join(names[:24])}" if names else "there is none yet"
