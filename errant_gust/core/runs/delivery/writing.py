"""One file of a delivery: written, read back, and what is said of it. The same whichever machine does it."""

from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

from errant_gust.core.files.usd import Setting
from errant_gust.core.files.vdb import write_vdb
from errant_gust.core.flows.results import Volume
from errant_gust.core.runs.delivery.holding import holds
from errant_gust.core.runs.delivery.order import Options, Part, Planned, part_of
from errant_gust.core.runs.delivery.sources import Item
from errant_gust.core.runs.export import digest_of, put

Box = list[list[float]]


@dataclass(frozen=True)
class Piece:
    """An item as another process is told of it: what to take, how it is written, and of which frames."""

    item: Item
    options: Options

    @staticmethod
    def of(part: Part, options: Options) -> "Piece":
        """The frames are named: a run that goes on may have more of them by then."""
        item = replace(part.item, run=part.item.run.resolve(), format=part.format)
        first, last = part.frames[0], part.frames[-1]
        return Piece(item, replace(options, first=first, last=last, cameras=()))

    def part(self) -> Part:
        """The item, looked up where this is called."""
        return part_of(self.item, self.options)


def write_one(part: Part, options: Options, file: Planned, path: Path) -> Box | None:
    """Write a file; the box that it fills if it is a volume, in the lengths and axes of the delivery."""
    path.parent.mkdir(parents=True, exist_ok=True)
    source, convention, channels = part.source, part.convention, part.item.channels
    found = convention.of(source.take(file.frame, part.format, channels, options.velocity))
    if part.format == "vdb":
        write_vdb(path, found.grids, options.compression, options.half)
    else:
        slow = 1.0 if convention.per_frame else float(source.clock.get("slow_motion", 1.0))
        setting = Setting(options.up, convention.metres, slow)
        put(path, file.number, source.name, source.form, part.format, found, channels=channels or None,
            setting=setting)  # fmt: skip
    if not isinstance(found, Volume):
        return None
    corners = found.region.corners
    return [corners.min(axis=0).tolist(), corners.max(axis=0).tolist()]


def said_of(path: Path, file: Planned, format: str, box: Box | None) -> dict[str, Any]:
    """What the manifest says of a file; it is read back for that."""
    return {
        "bytes": path.stat().st_size, "sha256": digest_of(path), "item": file.item, "frame": file.frame,
        "number": file.number, **({"box": box} if box else {}), "holds": holds(path, format),
    }  # fmt: skip
