"""Files and archives that are not what they should be, paths beside the process, and what a kill leaves behind."""

import os
import signal
import socket
import sqlite3
import subprocess
import sys
import threading
import time
import zipfile
from contextlib import closing
from http.client import HTTPConnection
from pathlib import Path
from urllib.parse import urlsplit

import numpy as np
import pytest

from errant_gust.cli.clustering import reached
from errant_gust.core import child
from errant_gust.core.errors import Cancelled, FileError, GustError
from errant_gust.core.files.removing import remove
from errant_gust.core.files.volume_files import read_volume
from errant_gust.core.geometry.scene_files import read_scene
from errant_gust.core.home import home
from errant_gust.core.wanted import while_wanted
from errant_gust.server import backup, runs
from tests.clusters import Machines, until
from tests.robust.servers import served
from tests.robust.test_apart import children, command_of, seconds_of, study


@pytest.mark.parametrize("identity", ["../../victim", "/etc", "..", ".", "", "a" * 23, "A" * 24, "a" * 24 + "/x", "\0"])
def test_an_identity_is_what_we_make_and_nothing_else(identity):
    with pytest.raises(GustError, match="there is no run"):
        runs.folder_of(identity)
    with pytest.raises(GustError, match="there is no run"):
        runs.get(identity)


def test_nothing_is_removed_that_does_not_lie_in_the_home_folder(tmp_path):
    victim = tmp_path / "victim"
    victim.mkdir()
    (victim / "work.txt").write_text("mine")
    place = home() / "runs"
    place.mkdir(parents=True, exist_ok=True)
    outside = (place / ".." / ".." / tmp_path.relative_to("/") / "victim", victim, home(), place / "..", Path("/"))
    for path in outside:
        with pytest.raises(FileError, match="left alone"):
            remove(path)
    link = place / "link"
    link.symlink_to(victim)
    remove(link)
    assert not link.is_symlink()
    (place / "linked").symlink_to(tmp_path)
    with pytest.raises(FileError, match="left alone"):
        remove(place / "linked" / "victim")
    (place / "linked").unlink()
    assert (victim / "work.txt").read_text() == "mine"


@pytest.mark.parametrize(("table", "column"), [("gust_run", "identity"), ("gust_study", "key")])
def test_a_backup_whose_database_names_another_place_makes_no_home(tmp_path, table, column):
    database = tmp_path / "db.sqlite3"
    with closing(sqlite3.connect(database)) as made:
        made.execute("CREATE TABLE gust_run (identity TEXT, last INTEGER, state TEXT, bytes INTEGER, message TEXT)")
        made.execute("CREATE TABLE gust_study (key TEXT)")
        made.execute(f"INSERT INTO {table} ({column}) VALUES ('../../victim')")
        made.commit()
    file = tmp_path / "bad.zip"
    with zipfile.ZipFile(file, "w") as archive:
        archive.writestr("backup.json", '{"format": "errant-gust-backup", "version": "0001", "frames": "none"}')
        archive.write(database, backup.DATABASE)
    with pytest.raises(FileError, match="which no backup does"):
        backup.put_back(file, tmp_path / "home")
    assert not (tmp_path / "home").exists()


def test_archives_that_are_damaged_in_any_byte_are_refused_in_words(tmp_path, rng):
    file, to = tmp_path / "b.zip", tmp_path / "home"
    for how in (zipfile.ZIP_DEFLATED, zipfile.ZIP_LZMA, zipfile.ZIP_BZIP2):
        with zipfile.ZipFile(file, "w", how) as archive:
            archive.writestr("backup.json", '{"format": "errant-gust-backup", "version": "0001"}')
            archive.writestr(backup.DATABASE, b"SQLite format 3\0" + bytes(rng.integers(0, 256, 4000, dtype=np.uint8)))
        whole = file.read_bytes()
        for _ in range(60):
            changed = bytearray(whole)
            for _ in range(3):
                changed[int(rng.integers(len(whole)))] ^= 1 << int(rng.integers(8))
            file.write_bytes(changed)
            with pytest.raises(FileError):
                backup.put_back(file, to)
            assert not to.exists()


PYRAMID = "v 0 0 0\nv 1 0 0\nv 0 1 0\nv 0 0 1\nf 1 3 2\nf 1 2 4\nf 2 3 4\nf 1 4 3\n"


def test_a_path_beside_this_process_is_read(tmp_path, monkeypatch):
    from pxr import Usd, UsdGeom

    monkeypatch.chdir(tmp_path)
    stage = Usd.Stage.CreateNew("prop.usda")
    UsdGeom.SetStageUpAxis(stage, "Z")
    mesh = UsdGeom.Mesh.Define(stage, "/Prop")
    mesh.CreatePointsAttr([(0, 0, 0), (1, 0, 0), (0, 1, 0)])
    mesh.CreateFaceVertexCountsAttr([3])
    mesh.CreateFaceVertexIndicesAttr([0, 1, 2])
    stage.GetRootLayer().Save()
    assert read_scene(Path("prop.usda"), 24.0).points.shape[1] == 3
    (tmp_path / "a.svg").write_text('<svg xmlns="http://www.w3.org/2000/svg"><path d="M0 0 L1 1"/></svg>')
    from errant_gust.core.geometry.curve_files import read_curves

    assert len(read_curves(Path("a.svg"))) == 1


def test_parsers_are_as_many_as_cores_and_end_when_nobody_wants_them(tmp_path, monkeypatch):
    (tmp_path / "slow.py").write_text("import sys, time\nopen(sys.argv[1], 'a').write('x')\ntime.sleep(30)\n")
    monkeypatch.setattr(child, "PARSERS", tmp_path)
    going, ended = [tmp_path / f"{n}.usd" for n in range(6)], []
    stop = threading.Event()

    def ask(path):
        try:
            with while_wanted(stop.is_set):
                child.parsed_apart("slow", path, "here")
        except Cancelled:
            ended.append(path)

    for path in going:
        path.touch()
    threads = [threading.Thread(target=ask, args=(path,), daemon=True) for path in going]
    [t.start() for t in threads]
    cores = len(os.sched_getaffinity(0))
    until(lambda: sum(p.stat().st_size for p in going) == min(cores, 6), 20)
    time.sleep(0.5)
    assert sum(p.stat().st_size for p in going) == min(cores, 6), "the others wait"
    stop.set()
    [t.join(10) for t in threads]
    assert len(ended) == 6


def nested(levels):
    """A scene of eight to the power of so many meshes, in a few lines."""
    mesh = (
        'def Mesh "m" {\npoint3f[] points = [(0,0,0),(1,0,0),(0,1,0)]\n'
        "int[] faceVertexCounts = [3]\nint[] faceVertexIndices = [0,1,2]\n}"
    )
    parts = [f'class Xform "L0" {{\n{mesh}\n}}']
    for n in range(levels):
        eight = "\n".join(f'def Xform "c{k}" (references = </L{n}>) {{}}' for k in range(8))
        parts.append(f'class Xform "L{n + 1}" {{\n{eight}\n}}')
    parts.append(f'def Xform "Root" (references = </L{levels}>) {{}}')
    return '#usda 1.0\n(upAxis = "Z")\n' + "\n".join(parts)


def test_the_parser_of_an_upload_ends_when_its_client_goes(tmp_path):
    edge = "gust-edge"
    form = (
        f'--{edge}\r\nContent-Disposition: form-data; name="file"; filename="a.usda"\r\n'
        f"Content-Type: application/octet-stream\r\n\r\n{nested(6)}\r\n--{edge}--\r\n"
    ).encode()
    with served(tmp_path, demo=False) as server:
        key = server.ask("POST", "/studies", {"document": study("Uploads")})[1]["key"]
        place = urlsplit(server.address)

        def parsers():
            return [p for p in children(server.process.pid) if any(b"usd_scene" in w for w in command_of(p))]

        client = HTTPConnection(place.hostname, place.port)
        told = {"X-Errant-Gust": "1", "Content-Type": f"multipart/form-data; boundary={edge}"}
        client.request("POST", f"/api/studies/{key}/scenes", form, told)
        until(lambda: any(seconds_of(p) > 1 for p in parsers()), 30, "it computes")
        client.close()
        until(lambda: not parsers(), 5, "the parser ends")
        assert server.ask("GET", f"/studies/{key}/files")[1] == [], "nothing half-written is kept"


def test_what_a_small_archive_expands_to_is_bounded_before_it_is_made(tmp_path):
    path = tmp_path / "zeros.npz"
    with (
        zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED) as archive,
        archive.open("d.npy", "w", force_zip64=True) as out,
    ):
        np.lib.format.write_array_header_2_0(out, {"descr": "<f4", "fortran_order": False, "shape": (512, 512, 512)})
        for _ in range(512):
            out.write(bytes(1 << 20))
    assert path.stat().st_size < 2 << 20
    with pytest.raises(FileError, match=r"MB expand to 0\.54 GB"):
        read_volume(path)


def test_other_addresses_than_loopback_ask_for_words():
    for host in ("", "127.0.0.1", "localhost", "::1", "127.8.0.1"):
        assert reached(host, False, False) == (host or "127.0.0.1")
    for host in ("0.0.0.0", "10.0.0.5", "::", "site.invalid"):
        with pytest.raises(GustError, match="could run code"):
            reached(host, False, False)
        assert reached(host, True, False) == reached(host, False, True) == host


def listening(pids):
    """Addresses at which these processes listen."""
    own = set()
    for pid in pids:
        for fd in Path(f"/proc/{pid}/fd").iterdir():
            try:
                own.add(os.readlink(fd))
            except OSError:
                continue
    found = set()
    for table in ("/proc/net/tcp", "/proc/net/tcp6"):
        for line in Path(table).read_text().splitlines()[1:]:
            parts = line.split()
            if parts[3] == "0A" and f"socket:[{parts[9]}]" in own:
                found.add(parts[1].split(":")[0])
    return found


def test_every_port_of_a_clusters_parts_is_on_loopback(tmp_path):
    with Machines(tmp_path / "home", tmp_path) as machines:
        machines.scheduler()
        machines.worker("w")
        machines.ready(1)
        groups = {os.getpgid(p.pid) for p in machines.going.values()}
        pids = [
            int(p.name) for p in Path("/proc").glob("[0-9]*")
            if (p / "stat").exists() and _group(int(p.name)) in groups
        ]  # fmt: skip
        found = listening(pids)
        assert found
        loopback = {socket.inet_aton("127.0.0.1")[::-1].hex().upper()}
        assert found <= loopback, found


def _group(pid):
    try:
        return os.getpgid(pid)
    except ProcessLookupError:
        return 0


def test_a_killed_flipbook_goes_on_in_its_folder(tmp_path):
    env = {**os.environ, "ERRANT_GUST_HOME": str(tmp_path / "home")}
    gust = [sys.executable, "-m", "errant_gust.cli.main"]
    made = [*gust, "run", "harbour_gust", "--flow", "spray", "--frames", "1-8", "--quality", "preview", "--out"]
    subprocess.run([*made, str(tmp_path / "run")], env=env, check=True, capture_output=True, timeout=200)
    film = [*gust, "flipbook", str(tmp_path / "run"), "--to", str(tmp_path / "film"), "--size", "320x200"]
    going = subprocess.Popen(film, env=env, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    until(lambda: len(list((tmp_path / "film").glob("flipbook.*.png"))) > 1, 60)
    going.send_signal(signal.SIGKILL)
    going.wait(10)
    assert not (tmp_path / "film" / "flipbook.mp4").exists()
    first = tmp_path / "film" / "flipbook.0001.png"
    stamp = first.stat().st_mtime_ns
    subprocess.run(film, env=env, check=True, capture_output=True, timeout=200)
    assert first.stat().st_mtime_ns == stamp, "what was drawn is not drawn again"
    names = sorted(p.name for p in (tmp_path / "film").iterdir())
    assert names == [*(f"flipbook.{n:04d}.png" for n in range(1, 9)), "flipbook.json", "flipbook.mp4"]
    assert not [p for p in tmp_path.iterdir() if p.name.startswith(".film")]
