"""Is a delivery what was delivered? Every file by its sum, and by reading it back."""

import json
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from errant_gust.core.blocks import Cancel
from errant_gust.core.errors import Cancelled, FileError
from errant_gust.core.runs.delivery.deliver import FORMAT, MANIFEST, SUMS, seal_of, sums_of
from errant_gust.core.runs.delivery.holding import holds
from errant_gust.core.runs.export import digest_of

PARTS = {"format": str, "files": list, "runs": dict, "items": list, "bytes": int}
LARGEST = 512 << 20
"""Bytes of a manifest at most."""


@dataclass(frozen=True)
class Fault:
    """A file that is not as it was delivered, and how."""

    name: str
    what: str


def manifest_of(folder: Path) -> dict[str, Any]:
    """The manifest of a delivery, or a FileError for what is none."""
    path = folder / MANIFEST
    if not path.is_file():
        raise FileError(f"is no delivery (there is no {MANIFEST})", where=str(folder))
    if path.stat().st_size > LARGEST:
        raise FileError("is too large for a manifest", where=str(path))
    try:
        said = json.loads(path.read_text())
        if not isinstance(said, dict) or not all(isinstance(said[k], t) for k, t in PARTS.items()):
            raise FileError("is broken (it lacks what a manifest has)", where=str(path), fix="take the folder away")
        if said["format"] != FORMAT or said["version"] != 1:
            raise FileError(f"is of another version ({said['format']} {said['version']})", where=str(path))
        for file in said["files"]:
            parts = Path(file["name"]).parts
            sound = isinstance(file["sha256"], str) and isinstance(file["bytes"], int)
            if ".." in parts or Path(file["name"]).is_absolute() or not sound:
                raise FileError(f"names '{file['name'][:80]}'", where=str(path), fix="the manifest was changed")
        for run in said["runs"].values():
            if not isinstance(run["flow"], str) or not isinstance(run["quality"], str):
                raise FileError("names a run of no flow", where=str(path), fix="the manifest was changed")
    except (ValueError, KeyError, TypeError, AttributeError, RecursionError, OSError) as error:
        raise FileError(f"is broken ({error})", where=str(path)) from None
    return dict(said)


def verify(
    folder: Path, report: Callable[[int, int], None] | None = None, cancel: Cancel | None = None
) -> list[Fault]:  # fmt: skip
    """What is not as it was delivered: missing, of another size, changed, unreadable, or too much. None if all is.
    Raises Cancelled when stopped."""
    said = manifest_of(folder)
    faults: list[Fault] = []
    formats = [item["format"] for item in said["items"]]
    faults += _of_accounts(folder, said)
    for n, file in enumerate(said["files"]):
        if cancel is not None and cancel():
            raise Cancelled
        fault = _fault(folder / file["name"], file, formats)
        if fault:
            faults.append(Fault(file["name"], fault))
        if report is not None:
            report(n + 1, len(said["files"]))
    known = {MANIFEST, SUMS, *(f["name"] for f in said["files"])}
    there = sorted(str(p.relative_to(folder)) for p in folder.rglob("*") if p.is_file() or p.is_symlink())
    return [*faults, *(Fault(name, "was not delivered") for name in there if name not in known)]


def _of_accounts(folder: Path, said: dict[str, Any]) -> list[Fault]:
    """What is wrong with the manifest and the list of sums themselves. Deliveries of earlier versions have no seal."""
    faults = []
    try:
        sums = (folder / SUMS).read_text() if not (folder / SUMS).is_symlink() else ""
    except (OSError, UnicodeDecodeError):
        sums = ""
    if not sums and said["files"]:
        faults.append(Fault(SUMS, "is missing, or cannot be read"))
    elif sums != sums_of(said):
        faults.append(Fault(SUMS, f"does not say what {MANIFEST} says"))
    if "seal" in said and said["seal"] != seal_of(said):
        faults.append(Fault(MANIFEST, "was changed: its sum is another"))
    return faults


def _fault(path: Path, file: dict[str, Any], formats: list[str]) -> str:
    if path.is_symlink():
        return "is a link, which was not delivered"
    if not path.is_file():
        return "is missing"
    size = path.stat().st_size
    if size != file["bytes"]:
        return f"has {size:,} bytes in place of {file['bytes']:,}"
    if digest_of(path) != file["sha256"]:
        return "was changed: its sum is another"
    if "item" not in file:
        return ""
    try:
        found = json.loads(json.dumps(holds(path, formats[file["item"]])))
    except FileError as error:
        return error.what
    return "" if found == file["holds"] else "does not hold what was delivered"
