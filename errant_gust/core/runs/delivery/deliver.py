"""Write a delivery: aside, file by file, and only when all of it is there under its own name.

What is written is noted in the folder aside, so that the same order goes on after a kill; another order does not.
"""

import hashlib
import json
import os
import shutil
from collections.abc import Callable
from pathlib import Path
from typing import Any

from errant_gust.core.blocks import Cancel
from errant_gust.core.errors import FileError
from errant_gust.core.files.room import NoRoom, free_at, in_words, kept_free
from errant_gust.core.files.writing import written_whole
from errant_gust.core.files.zarr_arrays import sync
from errant_gust.core.runs.delivery.hands import Waits, write_here, write_there
from errant_gust.core.runs.delivery.order import PATTERN, Order, Planned
from errant_gust.core.runs.delivery.stages import stages_of
from errant_gust.core.runs.export import digest_of
from errant_gust.core.runs.lease import leased

FORMAT = "errant-gust-delivery"
MANIFEST = "delivery.json"
SUMS = "SHA256SUMS"
Report = Callable[[int, int, str], None]
"""Files done, of how many, and the name of the last."""


def check_target(order: Order, to: Path) -> None:
    """Whether a delivery can be written there: nothing is in the way, and there is room. Raises FileError, NoRoom."""
    if to.is_symlink():
        raise FileError("is a link", where=str(to), fix="name the folder itself")
    own = next((f.name for f in order.files if f.name in (MANIFEST, SUMS)), None)
    own = own or next((name for f in order.files for name in (MANIFEST, SUMS) if f.name.startswith(f"{name}/")), None)
    if own:
        raise FileError(f"'{own}' is what the delivery itself writes", where="pattern", fix=PATTERN)
    if to.exists() and (not to.is_dir() or any(to.iterdir())):
        raise FileError("is there already", where=str(to), fix="name a new folder")
    parent = _existing(to.parent)
    if not os.access(parent, os.W_OK):
        raise FileError("cannot be written in", where=str(parent), fix="choose another folder")
    free = free_at(parent)
    if order.bytes + kept_free() > free:
        raise NoRoom(
            f"about {in_words(order.bytes)} are needed and {in_words(free)} are free",
            where=str(to), fix="free some space, or choose fewer frames or half floats",
        )  # fmt: skip


def _existing(folder: Path) -> Path:
    while not folder.exists():
        folder = folder.parent
    return folder


def deliver(
    order: Order,
    to: Path,
    *,
    command: str = "",
    cancel: Cancel | None = None,
    report: Report | None = None,
    cluster: str = "",
    waits: Waits | None = None,
) -> dict[str, Any]:
    """Write everything into the new folder `to`, with a manifest and checksums; the manifest. Raises Cancelled when
    stopped: what was written stays aside, and the same order goes on with it, here or elsewhere.

    `cluster`: address of a scheduler whose workers write the files, and share the folders of the runs and of `to`;
    `waits` is told why nothing goes on there."""
    to = to.expanduser().resolve()
    check_target(order, to)
    aside = to.with_name(f".{to.name}.delivering")
    with leased(aside, "is being delivered by"):
        told = _begun(aside, order)
        todo = [f for f in order.files if f.name not in told]

        def written(file: Planned, said: dict[str, Any]) -> None:
            told[file.name] = said
            _note(aside, file.name, said)
            if report is not None:
                report(len(told), len(order.files), file.name)

        if cluster:
            write_there(cluster, order, todo, aside, written, cancel, waits)
        else:
            write_here(order, todo, aside, written, cancel)
        stages = [*stages_of(order, aside, told), *_beside(order, aside)]
        manifest = _manifest(order, told, stages, aside, command)
        _settle(aside, manifest)
    for left in [*aside.glob(".lease-*"), aside / ".done.jsonl", aside / ".order.json"]:
        left.unlink(missing_ok=True)
    if to.exists():
        to.rmdir()
    aside.rename(to)
    sync(to.parent)
    return manifest


def _beside(order: Order, aside: Path) -> list[Path]:
    """Files that are handed over as they are."""
    made = []
    for name, path in order.beside:
        made.append(aside / name)
        made[-1].parent.mkdir(parents=True, exist_ok=True)
        with path.open("rb") as source, written_whole(made[-1]) as file:
            shutil.copyfileobj(source, file, 1 << 20)
    return made


def _begun(aside: Path, order: Order) -> dict[str, dict[str, Any]]:
    """What an earlier go of the same order wrote; of another nothing is kept."""
    path, noted = aside / ".order.json", aside / ".done.jsonl"
    mark = hashlib.sha256(json.dumps(order.as_dict(), sort_keys=True).encode()).hexdigest()
    if path.exists() and path.read_text() == mark:
        found = {}
        for part in [*aside.rglob(".*.part"), *aside.rglob("*.part")]:  # what a kill cut off
            part.unlink(missing_ok=True)
        for line in noted.read_text().splitlines() if noted.exists() else []:
            try:
                said = json.loads(line)
            except ValueError:  # the last line, cut off by the kill
                continue
            file = aside / said["name"]
            if file.is_file() and file.stat().st_size == said["bytes"]:
                found[said["name"]] = said
        return found
    for rest in aside.iterdir():
        if not rest.name.startswith(".lease-"):
            shutil.rmtree(rest) if rest.is_dir() else rest.unlink()
    path.write_text(mark)
    return {}


def _note(aside: Path, name: str, said: dict[str, Any]) -> None:
    with (aside / ".done.jsonl").open("a") as file:
        file.write(json.dumps({"name": name, **said}) + "\n")
        file.flush()
        os.fsync(file.fileno())


def _manifest(
    order: Order, told: dict[str, dict[str, Any]], stages: list[Path], aside: Path, command: str
) -> dict[str, Any]:  # fmt: skip
    files = [{"name": f.name, **{k: v for k, v in told[f.name].items() if k != "name"}} for f in order.files]
    files += [
        {"name": str(path.relative_to(aside)), "bytes": path.stat().st_size, "sha256": digest_of(path), "holds": {}}
        for path in stages
    ]
    runs: dict[str, dict[str, Any]] = {}
    for part in order.parts:
        origin = part.source.origin()
        known = runs.get(part.source.identity)
        if known is not None and known["flow"] != origin["flow"]:  # several fields and shapes of one study
            origin["flow"] = f"{known['flow']}, {origin['flow']}"
        runs[part.source.identity] = origin
    return {
        "format": FORMAT, "version": 1, **order.as_dict(), "command": command, "runs": runs,
        "bytes": sum(f["bytes"] for f in files), "files": files,
    }  # fmt: skip


def sums_of(manifest: dict[str, Any]) -> str:
    """What SHA256SUMS of a delivery holds."""
    return "".join(f"{f['sha256']}  {f['name']}\n" for f in manifest["files"])


def seal_of(manifest: dict[str, Any]) -> str:
    """A sum of all that a manifest says, the sums of all files among it: whoever keeps it elsewhere can tell that
    nothing of the delivery was changed."""
    rest = {key: value for key, value in manifest.items() if key != "seal"}
    return hashlib.sha256(json.dumps(rest, sort_keys=True).encode()).hexdigest()


def _settle(aside: Path, manifest: dict[str, Any]) -> None:
    sums = sums_of(manifest)
    manifest["sums"] = hashlib.sha256(sums.encode()).hexdigest()
    manifest.update(json.loads(json.dumps(manifest)))  # as it will be read
    manifest["seal"] = seal_of(manifest)
    for name, text in ((SUMS, sums), (MANIFEST, json.dumps(manifest, indent=1))):
        with (aside / name).open("w") as file:
            file.write(text)
            file.flush()
            os.fsync(file.fileno())
    for at, _, _ in os.walk(aside):
        sync(Path(at))
