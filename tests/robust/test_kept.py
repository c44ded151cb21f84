"""What is kept: a flipped bit, a missing chunk, a changed account, a cut start are told and mended."""

import json
import shutil
import subprocess
import sys
import threading
from pathlib import Path

import numpy as np
import pytest

from errant_gust.cli.main import main
from errant_gust.core.errors import FileError
from errant_gust.core.files.writing import written_whole
from errant_gust.core.runs.compute import compute
from errant_gust.core.runs.delivery.deliver import MANIFEST, SUMS, deliver
from errant_gust.core.runs.delivery.order import Options, ordered
from errant_gust.core.runs.delivery.sources import Item
from errant_gust.core.runs.delivery.verify import manifest_of, verify
from errant_gust.core.runs.mending import damaged
from errant_gust.core.study.document import parse
from tests.robust.test_apart import study


@pytest.fixture
def run(tmp_path):
    return compute(parse(study("Kept", end=6, rate=3000)), "p", tmp_path / "run", quality="preview")


def files_of(store, frame):
    return sorted(p for p in store.path(frame).rglob("*") if p.is_file())


def read_all(store, frame):
    return store.facts(frame), store.read(frame)


def test_whatever_bit_is_flipped_in_whatever_file_of_a_frame_it_is_told(run, rng):
    for path in files_of(run, 3):
        whole = path.read_bytes()
        for _ in range(60):
            at = int(rng.integers(len(whole)))
            changed = bytearray(whole)
            changed[at] ^= 1 << int(rng.integers(8))
            path.write_bytes(changed)
            try:
                meaning = json.loads(bytes(changed)) if path.suffix == ".json" else None
            except ValueError:
                meaning = None
            if meaning is not None and meaning == json.loads(whole):
                continue  # a blank in the text: it says the same
            with pytest.raises(FileError, match="frame 3 cannot be read"):
                read_all(run, 3)
        path.write_bytes(whole)
    read_all(run, 3)


def test_whatever_file_of_a_frame_is_missing_or_cut_it_is_told(run):
    for path in files_of(run, 4):
        whole = path.read_bytes()
        for left in (None, b"", whole[: len(whole) // 2]):
            path.unlink()
            if left is not None:
                path.write_bytes(left)
            with pytest.raises(FileError, match="frame 4 "):
                read_all(run, 4)
            path.write_bytes(whole)
    shutil.rmtree(run.path(4) / "velocity")
    with pytest.raises(FileError, match="an array is gone"):
        run.facts(4)


def test_damaged_frames_are_found_and_only_they_are_computed_again(run, capsys, monkeypatch):
    before = {f: (run.facts(f), run.read(f)) for f in run.frames()}
    kept = {f: run.path(f).stat().st_mtime_ns for f in run.frames()}
    chunk = next(p for p in files_of(run, 3) if p.parent.name == "c" or p.parent.parent.name == "c")
    chunk.unlink()
    assert list(damaged(run)) == [3]
    monkeypatch.setattr(sys, "argv", ["gust", "mend", str(run.folder), "--look"])
    with pytest.raises(SystemExit) as ended:
        main()
    assert ended.value.code == 1
    assert "frame 3" in capsys.readouterr().out
    monkeypatch.setattr(sys, "argv", ["gust", "mend", str(run.folder)])
    with pytest.raises(SystemExit) as ended:
        main()
    assert ended.value.code == 0
    assert not damaged(run)
    assert [f for f in run.frames() if run.path(f).stat().st_mtime_ns != kept[f]] == [3]
    for name, values in before[3][1].items():
        np.testing.assert_array_equal(run.read(3)[name], values)
    assert {k: v for k, v in run.facts(3).items() if k != "seconds"} == {
        k: v for k, v in before[3][0].items() if k != "seconds"
    }


def test_frames_of_earlier_versions_are_read_without_sums(run):
    for path in run.path(2).glob("*/zarr.json"):
        head = json.loads(path.read_text())
        path.write_text(json.dumps({**head, "attributes": {}}))
    group = json.loads((run.path(2) / "zarr.json").read_text())
    del group["attributes"]["summed"]
    (run.path(2) / "zarr.json").write_text(json.dumps(group))
    assert read_all(run, 2)[1]["position"].shape[1] == 3
    assert not damaged(run)


def delivered(run, to):
    return deliver(ordered([Item(run.folder, format="ply")], Options(stage=False)), to)


def test_a_delivery_is_proved_with_its_accounts(run, tmp_path, capsys, monkeypatch):
    to = tmp_path / "given"
    manifest = delivered(run, to)
    assert not verify(to)
    said, sums = (to / MANIFEST).read_text(), (to / SUMS).read_text()
    for path, text, words in [
        (SUMS, sums.replace(sums[:8], "0" * 8, 1), "does not say"), (SUMS, "", "is missing"),
        (MANIFEST, said.replace('"Kept"', '"Cept"'), "its sum is another"),
    ]:  # fmt: skip
        (to / path).write_text(text)
        assert [f.name for f in verify(to)] == [path]
        assert words in verify(to)[0].what
        (to / MANIFEST).write_text(said)
        (to / SUMS).write_text(sums)
    for cmd in (["verify", str(to)],):
        monkeypatch.setattr(sys, "argv", ["gust", *cmd])
        with pytest.raises(SystemExit) as ended:
            main()
        assert ended.value.code == 0
    assert manifest["seal"] in capsys.readouterr().out
    (to / "more.ply").symlink_to("/etc/hostname")
    assert [f.name for f in verify(to)] == ["more.ply"]


BROKEN = ["[]", "{}", "null", '{"format": 3}', "7", '"x"', "{", "\0", "[" * 100_000]


@pytest.mark.parametrize("text", BROKEN, ids=range(len(BROKEN)))
def test_a_broken_manifest_is_told(run, tmp_path, text):
    to = tmp_path / "given"
    said = delivered(run, to)
    (to / MANIFEST).write_text(text)
    with pytest.raises(FileError):
        manifest_of(to)
    for key in ("files", "runs", "items", "bytes"):
        (to / MANIFEST).write_text(json.dumps({**said, key: "none"}))
        with pytest.raises(FileError):
            manifest_of(to)


def test_threads_that_write_one_file_at_once_leave_a_whole_one(tmp_path):
    path, faults = tmp_path / "picture.png", []

    def write(n):
        try:
            for _ in range(30):
                with written_whole(path) as file:
                    file.write(bytes([n]) * 20_000)
                    file.write(bytes([n]) * 20_000)
                data = path.read_bytes()
                assert len(data) == 40_000
                assert len(set(data)) == 1
        except Exception as error:
            faults.append(error)

    threads = [threading.Thread(target=write, args=(n,)) for n in range(6)]
    [t.start() for t in threads]
    [t.join(60) for t in threads]
    assert not faults
    assert [p.name for p in tmp_path.iterdir()] == ["picture.png"]


def test_a_start_that_was_cut_off_is_made_good_by_the_next(tmp_path):
    """Killed within the first start: each demo is whole or not there, and all of them are there after the next."""
    script = (
        "import os, sys, django; django.setup()\n"
        "from django.core.management import call_command; call_command('migrate', verbosity=0)\n"
        "from errant_gust.server import study_files\n"
        "from errant_gust.server.models import Study\n"
        "cut = int(sys.argv[1]); made = study_files.shutil.copy; count = [0]\n"
        "def copy(*a):\n"
        "    count[0] += 1\n"
        "    if count[0] == cut: os._exit(9)\n"
        "    return made(*a)\n"
        "study_files.shutil.copy = copy\n"
        "study_files.put_in_demos()\n"
        "print(sorted(Study.objects.values_list('key', flat=True)))\n"
    )
    env = {
        **__import__("os").environ, "ERRANT_GUST_HOME": str(tmp_path),
        "DJANGO_SETTINGS_MODULE": "errant_gust.server.settings",
    }  # fmt: skip

    def start(cut):
        return subprocess.run([sys.executable, "-c", script, str(cut)], env=env, capture_output=True, text=True)

    assert start(4).returncode == 9
    assert start(2).returncode == 9
    done = start(-1)
    assert done.returncode == 0, done.stderr
    demos = sorted(p.name.removesuffix(".gust.json") for p in Path("demo").glob("*.gust.json"))
    assert json.loads(done.stdout.replace("'", '"')) == demos
    assert json.loads(start(-1).stdout.replace("'", '"')) == demos
    for name in demos:
        for file in json.loads(Path(f"demo/{name}.gust.json").read_text())["shapes"]:
            if named := file["params"].get("file"):
                assert (tmp_path / "studies" / name / "assets" / named).is_file()
