"""The frame store: one folder a run, a manifest written once, one Zarr group a frame with its facts beside the arrays.

A frame is written beside its place, synced, then renamed: at any moment every frame that can be seen is whole. Frames
hold the full state, so a run continues from the last one.
"""

import json
import math
import os
import re
import shutil
import threading
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from errant_gust.core.errors import FileError, GustError
from errant_gust.core.files.room import FULL, NoRoom, check_room, has_room
from errant_gust.core.files.writing import aside_of, take_away_cut_off
from errant_gust.core.files.zarr_arrays import SUMMED, read_arrays, read_attributes, sync, write_arrays
from errant_gust.core.runs.lease import Lease, leased

Array = NDArray[Any]
FORMAT = "errant-gust-run"
FIRST = ("position", "velocity", "age", "life", "id")
FRAME = re.compile(r"^(-?\d{1,8})\.zarr$")


def write_atomically(path: Path, text: str) -> None:
    """Replace a file so that readers see the old or the new one, never a half."""
    _aside(path, text).replace(path)


def _aside(path: Path, text: str) -> Path:
    """A file of its own beside a place, written and synced; threads of one process do not share it."""
    aside = aside_of(path)
    try:
        with aside.open("w") as file:
            file.write(text)
            file.flush()
            os.fsync(file.fileno())
    except OSError:  # a full disk: not even the empty file stays
        aside.unlink(missing_ok=True)
        raise
    return aside


MEND = "have what is damaged computed again: Mend on the Runs page, or gust mend"
GO_ON = "free some space and continue the run; the frames before it are kept"


def _why(error: Exception) -> str:
    """What is wrong with a frame, in words."""
    if isinstance(error, KeyError):  # of what is in the frame, or of what its heads say
        return f"it is damaged: it does not hold {error}"
    if isinstance(error, FileNotFoundError):
        return f"it is damaged: {'/'.join(Path(str(error.filename)).parts[-2:])} is missing"
    return str(error)


class RunStore:
    """The folder of one run."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self._lease: Lease | None = None

    @property
    def place(self) -> str:
        """Where it is, for errors."""
        return str(self.folder)

    @property
    def frames_folder(self) -> Path:
        """The folder of the frames."""
        return self.folder / "frames"

    def create(self, manifest: dict[str, Any]) -> None:
        """Begin a run, or open one with the same identity; another identity in the folder is an error. Several may
        begin it at the same moment. Raises FileError."""
        if not self.manifest_path.exists():
            # what begins with a dot is somebody's who begins it too
            if self.folder.exists() and any(not p.name.startswith(".") for p in self.folder.iterdir()):
                self._refuse_if_no_run()
            self.folder.mkdir(parents=True, exist_ok=True)
            text = json.dumps({"format": FORMAT, "version": 2, **manifest})
            aside = _aside(self.manifest_path, text)
            try:
                os.link(aside, self.manifest_path)  # never over one that is there by now
            except FileExistsError:
                pass
            finally:
                aside.unlink(missing_ok=True)
        else:
            take_away_cut_off(self.manifest_path)
        found = self.manifest()
        if found.get("identity") != manifest["identity"]:
            raise FileError(
                f"holds another run ({found.get('identity')})", where=str(self.folder),
                fix="choose an empty folder, or delete the old run",
            )  # fmt: skip
        self.frames_folder.mkdir(parents=True, exist_ok=True)

    def _refuse_if_no_run(self) -> None:
        if not self.manifest_path.exists():
            raise FileError("is not empty and holds no run", where=str(self.folder), fix="choose an empty folder")

    @property
    def manifest_path(self) -> Path:
        """The file that says what the run is."""
        return self.folder / "manifest.json"

    def manifest(self) -> dict[str, Any]:
        """What the run is: study, flow, quality, clock, versions. Raises FileError where there is none, or it is
        broken."""
        try:
            data: dict[str, Any] = json.loads(self.manifest_path.read_text())
        except FileNotFoundError:
            raise FileError("is not a run (there is no manifest.json)", where=str(self.folder)) from None
        except (json.JSONDecodeError, UnicodeDecodeError):
            raise FileError("manifest.json is broken", where=str(self.folder)) from None
        if data.get("format") != FORMAT:
            raise FileError(f"the format is {data.get('format')!r}", where=str(self.manifest_path))
        return data

    def frames(self) -> list[int]:
        """Frames that are complete, in order."""
        if not self.frames_folder.is_dir():
            return []
        return sorted(int(m[1]) for name in os.listdir(self.frames_folder) if (m := FRAME.match(name)))

    def whole(self, last: int) -> bool:
        """Whether every frame from the first of the clock to `last` is there: one that was damaged is not, for a
        while. Raises FileError."""
        there = set(self.frames())
        return last in there and there.issuperset(range(int(self.manifest()["clock"]["start"]), last))

    def has(self, frame: int) -> bool:
        """Whether a frame is complete."""
        return self.path(frame).is_dir()

    def path(self, frame: int) -> Path:
        """The folder of a frame's arrays."""
        return self.frames_folder / f"{frame:06d}.zarr"

    def write(self, frame: int, channels: dict[str, Array], facts: dict[str, Any]) -> None:
        """Write a whole frame; `facts` are kept beside its arrays. Channels of any shape. Raises NoRoom where the
        disk is full, FileError."""
        check_room(self.folder, GO_ON)
        aside = self.frames_folder / f".writing-{frame:06d}-{os.getpid()}-{threading.get_ident()}"
        shutil.rmtree(aside, ignore_errors=True)
        try:
            write_arrays(aside, channels, {"frame": frame, **facts, SUMMED: True})
            if self._lease is not None:
                self._lease.check()
            shutil.rmtree(self.path(frame), ignore_errors=True)
            aside.rename(self.path(frame))
            sync(self.frames_folder)
        except GustError:
            shutil.rmtree(aside, ignore_errors=True)
            raise
        except OSError as error:
            shutil.rmtree(aside, ignore_errors=True)
            raise (NoRoom if error.errno in FULL else FileError)(
                f"frame {frame} could not be written ({error.strerror or error})", where=self.place, fix=GO_ON
            ) from None

    def read(self, frame: int, channels: tuple[str, ...] | None = None) -> dict[str, Array]:
        """Channels of a complete frame, of any shape as they were written. Raises FileError for a frame that is not
        there, or broken."""
        path = self.path(frame)
        if not path.is_dir():
            raise FileError(f"frame {frame} is not there", where=str(self.folder))
        try:
            return read_arrays(path, channels or tuple(self.names(frame)))
        except (KeyError, ValueError, OSError, RuntimeError, TypeError, AttributeError, IndexError) as error:
            raise FileError(f"frame {frame} cannot be read ({_why(error)})", where=self.place, fix=MEND) from None

    def names(self, frame: int) -> list[str]:
        """Names of the arrays of a complete frame: those that come first everywhere, then by name. Raises FileError
        for a frame that is not there."""
        try:
            found = sorted(p.name for p in self.path(frame).iterdir() if p.is_dir())
        except (FileNotFoundError, NotADirectoryError):
            raise FileError(f"frame {frame} is not there", where=str(self.folder)) from None
        return [*(n for n in FIRST if n in found), *(n for n in found if n not in FIRST)]

    def size(self, frame: int, name: str) -> int:
        """Bytes of an array of a complete frame, in memory. Raises FileError."""
        try:
            about = json.loads((self.path(frame) / name / "zarr.json").read_text())
            return int(math.prod(about["shape"]) * np.dtype(about["data_type"]).itemsize)
        except (OSError, ValueError, KeyError, TypeError) as error:
            raise FileError(f"frame {frame} cannot be read ({_why(error)})", where=self.place) from None

    def facts(self, frame: int) -> dict[str, Any]:
        """What was written beside the arrays of a complete frame. Raises FileError."""
        path = self.path(frame)
        if not path.is_dir():
            raise FileError(f"frame {frame} is not there", where=str(self.folder))
        try:
            return read_attributes(path)
        except (KeyError, ValueError, OSError, TypeError, AttributeError) as error:
            raise FileError(f"frame {frame} cannot be read ({_why(error)})", where=self.place, fix=MEND) from None

    def has_room(self) -> bool:
        """Whether another frame may be written."""
        return has_room(self.folder)

    def clean(self) -> None:
        """Remove what a killed process left half-written."""
        if self.frames_folder.is_dir():
            for path in self.frames_folder.glob(".writing-*"):
                shutil.rmtree(path, ignore_errors=True)

    def bytes(self) -> int:
        """On disk; files that go meanwhile are nothing."""
        total = 0
        for folder, _, files in os.walk(self.folder):  # passes over folders that have gone
            for name in files:
                with suppress(OSError):
                    total += os.stat(os.path.join(folder, name)).st_size
        return total

    @contextmanager
    def alone(self) -> Iterator[None]:
        """Only one process computes a run at a time: what is written meanwhile is written by who holds the lease."""
        with leased(self.folder) as self._lease:
            try:
                yield
            finally:
                self._lease = None
