"""What is to be delivered, and under which names: read from what a user wrote, with words where it cannot be."""

import re
from collections.abc import Sequence
from dataclasses import asdict, dataclass, field
from pathlib import Path
from typing import Any, Literal, get_args

from errant_gust.core.errors import FileError, GustError, nearest
from errant_gust.core.files.vdb import Compression
from errant_gust.core.runs.delivery.convention import LENGTHS, Convention
from errant_gust.core.runs.delivery.sources import Item, Source, StudySource, source_of
from errant_gust.core.runs.export import ENDINGS, Velocity
from errant_gust.core.runs.frame_store import RunStore
from errant_gust.core.study.viewpoints import is_viewpoint

PARTS = ("flow", "result", "quality", "frame")
PATTERN = "{flow}/{flow}_{result}.{frame}"
SAFE = re.compile(r"[A-Za-z0-9._/\- ]*")
HALVES = ("vdb",)
"""Formats that hold half floats."""


@dataclass(frozen=True)
class Options:
    """Of a whole delivery. `first`, `last`, `step`: frames of the clock, all there are if none are named; `number`:
    what the first of them is called, itself if nothing is said; `stage`: one USD stage of all that USD and OpenVDB
    hold; `cameras`: viewpoints in it (name, position and target in metres with z up, parallel)."""

    first: int | None = None
    last: int | None = None
    step: int = 1
    number: int | None = None
    pattern: str = PATTERN
    padding: int = 4
    up: Literal["Z", "Y"] = "Z"
    unit: str = "m"
    per: Literal["second", "frame"] = "second"
    velocity: Velocity = "motion"
    half: bool = False
    compression: Compression = "blosc"
    stage: bool = True
    cameras: tuple[dict[str, Any], ...] = ()

    def check(self) -> None:
        """A GustError for what cannot be meant."""
        known: list[tuple[str, Any, tuple[Any, ...]]] = [
            ("up", self.up, ("Z", "Y")), ("unit", self.unit, tuple(LENGTHS)), ("per", self.per, ("second", "frame")),
            ("velocity", self.velocity, get_args(Velocity)), ("compression", self.compression, get_args(Compression)),
        ]  # fmt: skip
        for name, value, right in known:
            if value not in right:
                raise GustError(f"'{value}' is not known", where=name, fix=f"one of: {', '.join(right)}")
        if not 1 <= self.step <= 10_000:
            raise GustError(f"every {self.step}th frame", where="step", fix="right would be 1 or more")
        if not 1 <= self.padding <= 9:
            raise GustError(f"{self.padding} digits", where="padding", fix="right would be 4")
        if self.number is not None and not -1_000_000 <= self.number <= 100_000_000:
            raise GustError(f"{self.number} as the first frame number", where="number", fix="right would be 1001")
        self._check_pattern()
        for n, camera in enumerate(self.cameras):
            if not is_viewpoint(camera):
                raise GustError(
                    "is no viewpoint", where=f"cameras[{n}]", fix="right would be a name, a position and a target"
                )

    def _check_pattern(self) -> None:
        named = re.findall(r"\{([^{}]*)\}", self.pattern)
        for name in named:
            if name not in PARTS:
                raise GustError(f"'{{{name}}}' is no part of a name", where="pattern", fix=nearest(name, PARTS))
        rest = re.sub(r"\{[^{}]*\}", "", self.pattern)
        if not SAFE.fullmatch(rest):
            raise GustError(f"'{self.pattern}' has characters that names do not have", where="pattern", fix=PATTERN)
        if "frame" not in named:
            raise GustError("would make all frames one file", where="pattern", fix=f"{{frame}} in it: {PATTERN}")
        parts = self.pattern.split("/")
        if any(p.strip() in ("", ".", "..") or p.startswith((".", " ")) for p in parts) or "frame" not in parts[-1]:
            raise GustError(f"'{self.pattern}' leaves the folder, or hides files", where="pattern", fix=PATTERN)


@dataclass(frozen=True)
class Planned:
    """A file: its name within the delivery, and what goes into it."""

    name: str
    item: int
    frame: int
    number: int


@dataclass(frozen=True)
class Part:
    """An item that was looked up: its source, its format, its frames, and the convention of its files."""

    item: Item
    source: Source
    format: str
    frames: tuple[int, ...]
    convention: Convention
    bytes: int
    """Of its arrays as they are in memory, over all frames."""


@dataclass(frozen=True)
class Order:
    """What is to be delivered, checked against what there is."""

    parts: tuple[Part, ...]
    options: Options
    files: tuple[Planned, ...] = field(default=())
    beside: tuple[tuple[str, Path], ...] = field(default=())
    """Files that are copied as they are: names within the delivery, and where they stand."""

    @property
    def bytes(self) -> int:
        """About as many as will be written, before compression."""
        return sum(part.bytes for part in self.parts) + sum(path.stat().st_size for _, path in self.beside)

    def as_dict(self) -> dict[str, Any]:
        """For the manifest: no path of this machine."""
        told = [
            {
                "run": p.source.identity, "result": p.item.result or p.source.result, "format": p.format,
                "channels": list(p.item.channels),
            }
            for p in self.parts
        ]  # fmt: skip
        beside = [[name, path.stat().st_size] for name, path in self.beside]
        return {"items": told, "options": asdict(self.options), **({"beside": beside} if beside else {})}


def ordered(items: list[Item], options: Options, beside: Sequence[tuple[str, Path]] = ()) -> Order:
    """Look everything up before anything is written. Raises GustError for what is not there, or would be one file."""
    options.check()
    if not items:
        raise GustError("nothing is chosen", where="items", fix="choose a run and a result of it")
    parts = [part_of(item, options) for item in items]
    files: list[Planned] = []
    seen: dict[str, int] = {}
    for n, part in enumerate(parts):
        shift = 0 if options.number is None else options.number - part.frames[0]
        for frame in part.frames:
            name = _name(part, options, frame + shift)
            if name in seen:
                other = parts[seen[name]]
                same = "two frames" if seen[name] == n else f"{other.source.label} and {part.source.label}"
                raise GustError(
                    f"{same} would be one file, {name}", where="pattern", fix="{flow}, {result} or {quality} in it"
                )
            seen[name] = n
            before = files[-1].name if files and files[-1].item == n else name
            if part.format == "usd" and Path(name).parent != Path(before).parent:
                raise GustError(
                    "frames of one stage would be in several folders", where="pattern", fix="{frame} in the name only"
                )
            files.append(Planned(name, n, frame, frame + shift))
    for name, _ in beside:
        if name in seen:
            raise GustError(f"a frame and a file beside it would be one file, {name}", where="pattern", fix=PATTERN)
    return Order(tuple(parts), options, tuple(files), tuple(beside))


def again(manifest: dict[str, Any], runs: list[Path]) -> tuple[list[Item], Options]:
    """The order that a delivery's manifest tells of, from folders of runs, and that of a study's files; a FileError
    for a run that is not among them."""
    there, files = {}, Path()
    for folder in runs:
        if (folder / "manifest.json").is_file():
            there[str(RunStore(folder).manifest()["identity"])] = folder
        else:
            files = folder if folder.is_dir() else folder.parent
    items = []
    for told in manifest["items"]:
        made = manifest["runs"].get(told["run"], {})
        study = made.get("study") if made.get("quality") == StudySource.quality else None
        if study is None and told["run"] not in there:
            raise FileError(
                f"the run {told['run']} is not among the folders", where="RUN_DIR", fix="name its folder too"
            )
        folder = files if study is not None else there[told["run"]]
        items.append(Item(folder, told["result"], told["format"], tuple(told["channels"]), study))
    try:
        return items, Options(**manifest["options"])
    except TypeError as error:
        raise FileError(f"has options that are not known ({error})", where="the manifest") from None


def part_of(item: Item, options: Options) -> Part:
    """An item that is looked up. Raises FileError for a format that does not hold it, frames that are not there, and a
    run that is none; StudyError for what the study has not."""
    source = source_of(item)
    format = item.format or source.formats[0]
    if format not in source.formats:
        raise FileError(
            f"'{format}' does not hold {source.label}", where="format", fix=f"one of: {', '.join(source.formats)}"
        )
    ready = source.frames()
    first = ready[0] if options.first is None else options.first
    last = ready[-1] if options.last is None else options.last
    wanted, there = range(first, last + 1, options.step), set(ready)
    missing = next((f for f in wanted if f not in there), None)  # the first: what is asked for may be without end
    if not wanted or missing is not None:
        what = f"frames {first} to {last} are none" if missing is None else f"frame {missing} is not there"
        raise FileError(what, where=f"{source.name}, {source.quality}", fix=f"it has {ready[0]} to {ready[-1]}")
    frames = tuple(wanted[:1] if source.still else wanted)
    source.known(frames[0], item.channels)
    rate = source.fps * source.clock["slow_motion"]
    convention = Convention(options.up, options.unit, options.per == "frame", rate)
    return Part(item, source, format, frames, convention, source.size(frames, format, item.channels))


def _name(part: Part, options: Options, number: int) -> str:
    source = part.source
    digits = f"{abs(number):0{options.padding}d}"
    parts = {
        "flow": source.name, "result": source.result, "quality": source.quality,
        "frame": f"-{digits}" if number < 0 else digits,
    }  # fmt: skip
    made = re.sub(r"\{([^{}]*)\}", lambda m: parts[m[1]], options.pattern)
    return f"{made}.{ENDINGS.get(part.format, part.format)}"
