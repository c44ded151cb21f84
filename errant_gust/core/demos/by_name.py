"""A study that scripts and commands name: a file, or a demo study or beginning that is shipped."""

from pathlib import Path

from errant_gust.core.api import open_study as opened
from errant_gust.core.demos.beginnings import BEGINNINGS
from errant_gust.core.errors import FileError, nearest
from errant_gust.core.fields.plan import Plan
from errant_gust.core.home import shipped
from errant_gust.core.runs.carried import plan_of
from errant_gust.core.study.document import parse


def open_study(name: Path | str) -> Plan:
    """A study, ready to be evaluated.

    Parameters
    ----------
    name : path or str
        A `.gust.json` file, whose mesh files lie beside it; or a demo study or beginning (`harbour_gust`,
        `Harbour gust`, `fire`). A file goes before a demo of that name.

    Raises
    ------
    GustError
        If there is no such study, or the file is none: with its path and what would be right.
    """
    if Path(name).is_file():
        return opened(name)
    demos = {p.name.removesuffix(".gust.json"): p for p in sorted(shipped("demo").glob("*.gust.json"))}
    key = str(name).lower().replace(" ", "_")
    if key in demos:
        return opened(demos[key])
    if key in BEGINNINGS:
        return plan_of(parse(BEGINNINGS[key]()))
    fix = nearest(key, {**demos, **BEGINNINGS})
    raise FileError("there is no such study file or demo study", where=str(name), fix=fix)
