"""The hash that names a flow's run: of all the parts of the study that the flow depends on.

Looks, names and lanes that the flow does not use are not part of it: editing them keeps the run.
"""

import functools
import hashlib
import re
from pathlib import Path
from typing import Any

from errant_gust.core.flows.kind import kind_of
from errant_gust.core.geometry.shapes import Assets, file_of_frame
from errant_gust.core.study import document
from errant_gust.core.study.depends import Depends, FileUse

IDENTITY = re.compile(r"[0-9a-f]{24}")
"""What `run_identity` makes: nothing else names a run, or the folder of one."""
FIELDS = 5
"""Version of what fields compute: raised when the same study would give other values than before."""


@functools.lru_cache(maxsize=256)
def _file_hash(path: Path, size: int, changed: int) -> str:
    return hashlib.sha256(path.read_bytes()).hexdigest()[:24]


def file_hash(path: Path) -> str:
    """Of a file's content; read anew only when it was changed."""
    stat = path.stat()
    return _file_hash(path, stat.st_size, stat.st_mtime_ns)


def files_of(file: FileUse, study: document.Study, assets: Assets) -> list[str]:
    """Names of the files that stand for one that a part names: of a sequence, those of the study's frames."""
    if not file.sequence:
        return [file.name]
    frames = range(study.clock.start, study.clock.end + 1)
    return sorted({file_of_frame(file.name, n, assets, file.where) for n in frames})


def engines(kinds: list[str]) -> dict[str, int]:
    """Versions of what computes a run: another kind's change renames no run of this one."""
    return {"fields": FIELDS, **{kind: kind_of(kind).engine for kind in sorted(kinds)}}


def run_identity(study: document.Study, flow: str, quality: str, assets: Assets) -> str:
    """Hash that names the run of a flow. The last frame is not part of it, so a longer clock continues a run."""

    def stamp(file: FileUse) -> Any:
        return [file_hash(assets.path(name, file.where)) for name in files_of(file, study, assets)]

    walk = Depends(study, stamp)
    walk.flow(flow)
    clock = study.clock
    return document.content_hash(
        engines(walk.kinds), flow, quality, walk.parts, [clock.fps, clock.start, clock.slow_motion]
    )
