"""Take frames of a run out of the store into open formats."""

import hashlib
from collections.abc import Callable
from pathlib import Path
from typing import Any

from errant_gust.core.errors import FileError, nearest
from errant_gust.core.fields.blocks import Cancel
from errant_gust.core.files.points import write_ply
from errant_gust.core.runs.store import RunStore

FORMATS: dict[str, tuple[str, Callable[[Path, dict[str, Any]], None]]] = {"ply": (".ply", write_ply)}
ALWAYS = ("position",)


def export_run(
    store: RunStore,
    to: Path,
    *,
    format: str = "ply",
    frames: tuple[int, int] | None = None,
    channels: tuple[str, ...] | None = None,
    cancel: Cancel | None = None,
    report: Callable[[int, int], None] | None = None,
) -> list[tuple[Path, str]]:
    """Write one file a frame into the folder `to`: (path, sha256) of each. Existing files are not overwritten."""
    if format not in FORMATS:
        raise FileError(f"'{format}' is not a format for particles", where="format", fix=nearest(format, FORMATS))
    suffix, write = FORMATS[format]
    ready = store.frames()
    wanted = [f for f in ready if frames is None or frames[0] <= f <= frames[1]]
    if not wanted:
        have = f"it has {ready[0]} to {ready[-1]}" if ready else "it has none yet"
        raise FileError("the run has none of these frames", where=str(store.folder), fix=have)
    flow = store.manifest()["flow"]
    paths = [to / f"{flow}.{frame:04d}{suffix}" for frame in wanted]
    taken = [p for p in paths if p.exists()]
    if taken:
        raise FileError("is there already", where=str(taken[0]), fix="choose another folder or delete it")
    to.mkdir(parents=True, exist_ok=True)
    made = []
    for i, (frame, path) in enumerate(zip(wanted, paths, strict=True)):
        if cancel is not None and cancel():
            break
        data = store.read(frame)
        if channels is not None:
            unknown = [c for c in channels if c not in data]
            if unknown:
                raise FileError(
                    f"the run has no channel '{unknown[0]}'", where="channels", fix=nearest(unknown[0], data)
                )
            data = {name: data[name] for name in (*ALWAYS, *(c for c in channels if c not in ALWAYS))}
        write(path, data)
        made.append((path, hashlib.sha256(path.read_bytes()).hexdigest()))
        if report is not None:
            report(i + 1, len(wanted))
    return made
