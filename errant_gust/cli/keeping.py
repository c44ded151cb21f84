"""What is kept in the home folder: runs on the shelf, and freeing what is not used."""

import os

from errant_gust.core.files.room import in_words
from errant_gust.core.home import home


def _server() -> None:
    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "errant_gust.server.settings")
    import django

    django.setup()
    from django.core.management import call_command

    home().mkdir(parents=True, exist_ok=True)
    call_command("migrate", verbosity=0)


def list_runs(study: str) -> list[str]:
    """A line for every run, the newest first, and what all of them take."""
    _server()
    from errant_gust.server import shelf

    found = shelf.shelf(study, 20_000)
    lines = []
    for r in found["runs"]:
        called = f"{r['study_name']} · {r['flow']}" + (f" “{r['name']}”" if r["name"] else "")
        changed = "; ".join(r["changes"]) or ("the same version" if r["same"] else "first version")
        pin = "pinned " if r["pinned"] else ""
        lines.append(
            f"{r['identity']}  {r['state']:8} {r['quality']:8} {len(r['frames']):4} frames {in_words(r['bytes']):>10}  "
            f"{pin}{called}: {changed}"
        )
    lines.append(
        f"{len(found['runs'])} runs, {in_words(found['used'])} of {in_words(found['budget'])} that they may take"
    )
    return [*lines, *([found["warning"]] if found["warning"] else [])]


def tidy(study: str, yes: bool, days: int) -> list[str]:
    """What nobody pinned and nothing computes, and revisions older than so many days but the last of each: named, and
    with `yes` freed."""
    _server()
    from errant_gust.server import shelf, thinning

    old: list[str] = []
    if days > 0:
        found = thinning.thin(days, really=yes)
        went = "are gone" if yes else "would go"
        old = [f"{found.gone:,} revisions {went} ({in_words(found.bytes)}), {found.kept:,} stay"]
    shelf.sweep()
    told = [shelf.describe(run) for run in shelf.to_free(study)]
    lines = [f"{r['study_name']} · {r['flow']}, {r['quality']}: {in_words(r['bytes'])}" for r in told]
    total = sum(r["bytes"] for r in told)
    if not yes:
        return [
            *old,
            *lines,
            f"{in_words(total)} in {len(told)} runs would come free; --yes frees it, a pinned run is never taken",
        ]
    return [*old, *lines, f"{in_words(shelf.free([r['identity'] for r in told]))} are free"]
