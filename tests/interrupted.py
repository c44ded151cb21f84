"""Runs that are interrupted: by a full disk, by a kill. What they leave has to go on to the bits of a straight run."""

import errno
import json
import subprocess
import sys
import time
from pathlib import Path
from typing import Any

import numpy as np
import pytest

from errant_gust.core.errors import Cancelled, FileError
from errant_gust.core.flows.kind import open_flow
from errant_gust.core.runs import frame_store
from errant_gust.core.runs.carried import plan_of
from errant_gust.core.runs.compute import compute
from errant_gust.core.runs.frame_store import RunStore
from errant_gust.core.study.document import dump

KILLED = """
import sys, json, pathlib
from errant_gust.core.runs.compute import compute
from errant_gust.core.study.document import parse
compute(parse(json.loads(pathlib.Path(sys.argv[1]).read_text())), sys.argv[3], pathlib.Path(sys.argv[2]))
"""


def _ends_alike(study: Any, flow: str, folder: Path) -> None:
    """Going on gives every array of the last frame as a straight run does, to the bit."""
    compute(study, flow, folder)
    last = study.clock.end
    assert RunStore(folder).frames() == list(range(study.clock.start, last + 1))
    straight, again = compute(study, flow, folder.with_name("straight")).read(last), RunStore(folder).read(last)
    assert set(again) == set(straight)
    for name, values in straight.items():
        np.testing.assert_array_equal(again[name], values, name)


def has_the_same_bits(study: Any, flow: str, folder: Path, monkeypatch: Any) -> None:
    """On one thread, and on two after a stop within the fourth frame: every array and every fact of the last frame's
    state."""
    last = study.clock.end
    monkeypatch.setenv("ERRANT_GUST_THREADS", "1")
    one = compute(study, flow, folder / "one")
    monkeypatch.setenv("ERRANT_GUST_THREADS", "2")
    store, calls = RunStore(folder / "two"), iter(range(10**6))
    with pytest.raises(Cancelled):
        compute(study, flow, store.folder, cancel=lambda: len(store.frames()) >= 3 and next(calls) > 1)
    assert 3 <= len(store.frames()) < last
    two = compute(study, flow, folder / "two")
    first, second = one.read(last), two.read(last)
    assert set(first) == set(second)
    for name, values in first.items():
        np.testing.assert_array_equal(values, second[name], name)
    opened = open_flow(plan_of(study), flow)
    assert opened.load(second, two.facts(last)).facts() == opened.load(first, one.facts(last)).facts()


def survives_a_full_disk(study: Any, flow: str, folder: Path, monkeypatch: Any) -> None:
    """The fourth frame cannot be written: said with what to do, three are kept, nothing half-written is left."""
    real, written = frame_store.write_arrays, []

    def full(place: Any, *given: Any) -> None:
        written.append(place)
        real(place, *given)
        if len(written) == 4:
            raise OSError(errno.ENOSPC, "No space left on device")

    monkeypatch.setattr(frame_store, "write_arrays", full)
    with pytest.raises(FileError, match=r"frame 4 could not be written.*No space") as found:
        compute(study, flow, folder)
    assert "continue" in found.value.fix
    store = RunStore(folder)
    assert store.frames() == [1, 2, 3]
    assert not list(store.frames_folder.glob(".writing-*")), "nothing half-written is left"
    monkeypatch.setattr(frame_store, "write_arrays", real)
    _ends_alike(study, flow, folder)


def survives_a_kill(study: Any, flow: str, folder: Path) -> None:
    """Killed within a frame: what is there is whole."""
    text = folder.with_suffix(".json")
    text.write_text(json.dumps(dump(study)))
    process = subprocess.Popen([sys.executable, "-c", KILLED, str(text), str(folder), flow])
    deadline = time.monotonic() + 120
    while len(RunStore(folder).frames()) < 3 and time.monotonic() < deadline and process.poll() is None:
        time.sleep(0.01)
    process.kill()
    process.wait()
    done = RunStore(folder).frames()
    assert done[:3] == [1, 2, 3]
    for frame in done:
        for name, values in RunStore(folder).read(frame).items():
            assert np.isfinite(values).all(), (frame, name)
    _ends_alike(study, flow, folder)
    left = [p.name for p in RunStore(folder).frames_folder.iterdir() if p.suffix != ".zarr"]
    assert not left, "what the killed one had half-written is gone"
