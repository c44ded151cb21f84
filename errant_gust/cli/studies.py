"""Finding a study named on the command line."""

from pathlib import Path

from errant_gust.core.api import open_study
from errant_gust.core.demos.beginnings import BEGINNINGS
from errant_gust.core.errors import FileError, nearest
from errant_gust.core.fields.plan import Plan
from errant_gust.core.runs.carried import plan_of
from errant_gust.core.study.document import parse

DEMO = Path(__file__).resolve().parents[2] / "demo"


def open_plan(name: str) -> Plan:
    """A study file, or a demo study or beginning by name (`harbour_gust`, `Harbour gust`, `fire`)."""
    path = Path(name)
    if path.is_file():
        return open_study(path)
    demos = {p.name.removesuffix(".gust.json"): p for p in DEMO.glob("*.gust.json")}
    key = name.lower().replace(" ", "_")
    if key in demos:
        return open_study(demos[key])
    if key in BEGINNINGS:
        return plan_of(parse(BEGINNINGS[key]()))
    raise FileError("there is no such study file or demo study", where=name, fix=nearest(key, {**demos, **BEGINNINGS}))
