"""The command contract, as scripts outside the project use it."""

import io
import json
import os
import signal
import subprocess
import sys
import time
from contextlib import chdir, redirect_stderr, redirect_stdout
from unittest import mock

import numpy as np
import pytest
import trimesh

from errant_gust.cli.main import main
from tests.conftest import ROOT
from tests.studies import DEMO, data, lane


def gust_apart(*args, **more):
    """Run `./gust` as a script would, in a process of its own."""
    return subprocess.run([str(ROOT / "gust"), *map(str, args)], capture_output=True, text=True, **more)


def gust(*args, check=True, cwd="."):
    """Run a command as `./gust` does, within this process: to begin one takes longer than most commands."""
    words, out, err = ["gust", *map(str, args)], io.StringIO(), io.StringIO()
    with mock.patch.object(sys, "argv", words), redirect_stdout(out), redirect_stderr(err), chdir(cwd):
        try:
            main()
            code = 0
        except SystemExit as end:
            code = end.code
    done = subprocess.CompletedProcess(words, code, out.getvalue(), err.getvalue())
    if check:
        assert done.returncode == 0, done.stderr
    return done


def test_ops_lists_every_step_with_units_ranges_and_help():
    steps = {s["id"]: s for s in json.loads(gust_apart("ops", "--json").stdout)["steps"]}
    assert set(steps) >= {
        "constant", "wind", "noise", "curl_noise", "distance", "mask_shape", "use_field", "gain", "axes", "limit",
        "remap", "mask", "curl", "gradient", "add", "multiply", "steer_around", "bake", "emit", "carry", "speed_limit",
    }  # fmt: skip
    for step in steps.values():
        assert step["yields"]
        assert step["doc"]
        assert all(p["help"] for p in step["params"])
    size = next(p for p in steps["curl_noise"]["params"] if p["name"] == "feature_size")
    assert (size["unit"], size["default"], size["open_below"], size["range"][0]) == ("m", 1.0, True, 0)


def test_a_script_gets_the_exit_code_and_one_line(tmp_path):
    done = gust_apart("export", "nowhere", "--to", "x", cwd=tmp_path)
    assert done.returncode == 2
    assert done.stderr.startswith("gust: ")
    assert done.stderr.count("\n") == 1
    assert not list(tmp_path.iterdir())


def test_the_whole_job_from_the_command_line(tmp_path):
    trimesh.creation.icosphere(3, 0.5).export(tmp_path / "float.obj")
    study = data(
        lane("noise", ("curl_noise", {"evolve": 0.2, "strength": 0.4})),
        lane(
            "wind", ("wind", {"speed": 1.5}), ("add", {"field": "noise"}),
            ("steer_around", {"shape": "float", "reach": 0.4}),
        ),
        shapes=[
            {"id": "float", "kind": "mesh", "params": {"file": "float.obj"}},
            {"id": "source", "kind": "box", "params": {"size": [0.1, 1, 1], "move": [-1.2, 0, 0]}},
        ],
        regions=[{"id": "room", "bounds": {"fit": ["float"], "padding": 1}, "voxel_size": 0.1}],
        flows=[
            {
                **lane(
                    "spray", ("emit", {"shape": "source", "where": "volume", "rate": 6000}),
                    ("carry", {"field": "wind"}),
                ),
                "kind": "particles",
            }
        ],
        clock={"fps": 24, "start": 1, "end": 40},
    )  # fmt: skip
    path = tmp_path / "job.gust.json"
    path.write_text(json.dumps(study))
    assert gust("check", path).stdout.strip() == "nothing found"

    points = np.random.default_rng(1).uniform(-1.4, 1.4, (300, 3)).astype(np.float32)
    np.save(tmp_path / "p.npy", points)
    gust(
        "sample",
        path,
        "--field",
        "wind",
        "--points",
        tmp_path / "p.npy",
        "--time",
        0.5,
        "--gradient",
        "--out",
        tmp_path / "v.npz",
    )
    with np.load(tmp_path / "v.npz") as z:
        assert z["value"].shape == (300, 3)
        outside = np.linalg.norm(points, axis=1) > 0.6
        assert np.abs(np.trace(z["gradient"], axis1=1, axis2=2))[outside].mean() < 0.02 * np.abs(z["gradient"]).mean()

    said = gust("bake", path, "--field", "wind", "--region", "room", "--out", tmp_path / "wind.vdb").stdout
    assert "30 × 30 × 30 voxels" in said
    printed = subprocess.run(
        ["vdb_print", str(tmp_path / "wind.vdb")], capture_output=True, text=True, check=True
    ).stdout
    assert "30x30x30" in printed.replace(" ", "")

    gust("run", path, "--flow", "spray", "--out", tmp_path / "run")
    sums = gust("export", tmp_path / "run", "--to", tmp_path / "ply").stdout.splitlines()
    assert len(sums) == 40
    cloud = trimesh.load(tmp_path / "ply" / "spray.0040.ply")
    assert len(cloud.vertices) > 5000
    assert np.linalg.norm(cloud.vertices, axis=1).min() > 0.49, "no particle in the imported mesh"
    assert (
        "field 'wnd'"
        in gust(
            "sample", path, "--field", "wnd", "--points", tmp_path / "p.npy", "--out", tmp_path / "x.npy", check=False
        ).stderr
    )


@pytest.mark.parametrize(
    ("args", "words"),
    [
        (["check", "nope"], "no such study file or demo study; known: bench_flash"),
        (["bake", "harbour_gust", "--field", "wind", "--region", "quai", "--out", "x.vdb"], "did you mean 'quay'?"),
        (["bake", "harbour_gust", "--field", "wind", "--region", "quay", "--out", "x.foo"], "no volume format"),
        (
            ["bake", "harbour_gust", "--field", "wind", "--region", "quay", "--time", "nan", "--out", "x.vdb"],
            "not a time",
        ),
        (["run", "harbour_gust", "--flow", "spry", "--out", "r"], "did you mean 'spray'?"),
        (["run", "harbour_gust", "--flow", "spray", "--frames", "9-3", "--out", "r"], "right would be 1-120"),
        (["run", "harbour_gust", "--flow", "spray", "--quality", "best", "--out", "r"], "preview or full"),
        (["export", "nowhere", "--to", "x"], "is not a run"),
        (["sample", "harbour_gust", "--field", "wind", "--points", "none.npy", "--out", "v.npy"], "cannot be read"),
        (["bake", "harbour_gust"], "Missing option"),
    ],
)
def test_bad_input_is_one_clear_line_and_exit_code_2(args, words, tmp_path):
    done = gust(*args, check=False, cwd=tmp_path)
    assert done.returncode == 2
    assert words in done.stderr
    assert "Traceback" not in done.stderr
    assert not list(tmp_path.iterdir()), "nothing is written"


def test_check_exits_1_on_an_error_and_bake_keeps_what_was_there(tmp_path):
    path = tmp_path / "bad.gust.json"
    path.write_text(
        json.dumps(data(lane("a", ("use_field", {"field": "b"})), lane("b", ("use_field", {"field": "a"}))))
    )
    done = gust("check", path, "--json", check=False)
    assert done.returncode == 1
    assert "a → b → a" in json.loads(done.stdout)[0]["what"]
    out = tmp_path / "old.vdb"
    out.write_bytes(b"precious")
    assert gust("bake", path, "--field", "a", "--region", "room", "--out", out, check=False).returncode == 2
    assert out.read_bytes() == b"precious"


def test_ctrl_c_keeps_what_is_done_and_the_same_command_continues(tmp_path):
    args = ["run", "harbour_gust", "--flow", "spray", "--frames", "1-12", "--out", str(tmp_path / "run")]
    run = subprocess.Popen(
        [str(ROOT / "gust"), *args], stderr=subprocess.PIPE, text=True, env=os.environ, start_new_session=True
    )
    for _ in range(1200):
        if list((tmp_path / "run" / "frames").glob("0*.zarr")):
            break
        time.sleep(0.05)
    run.send_signal(signal.SIGINT)
    _, said = run.communicate(timeout=60)
    assert run.returncode == 130
    assert "kept" in said
    assert "12 frames" in gust(*args).stdout
    assert (DEMO / "harbour_gust.gust.json").is_file()


def test_gas_and_instances_are_run_and_written_from_the_command_line(tmp_path):
    gust(
        "run",
        "chimney_downdraught",
        "--flow",
        "smoke",
        "--quality",
        "preview",
        "--frames",
        "1-3",
        "--out",
        tmp_path / "s",
    )
    said = gust("export", tmp_path / "s", "--to", tmp_path / "vdb", "--frames", "2-3")
    assert [line.split()[1] for line in said.stdout.splitlines()] == ["smoke.0002.vdb", "smoke.0003.vdb"]
    listed = subprocess.run(
        ["vdb_print", tmp_path / "vdb" / "smoke.0003.vdb"], capture_output=True, text=True, check=True
    )
    assert {line.split()[0] for line in listed.stdout.splitlines() if line} >= {"density", "temperature", "glow", "vel"}
    wrong = gust("export", tmp_path / "s", "--to", tmp_path / "x", "--format", "ply", check=False)
    assert wrong.returncode == 2
    assert "not a format for volumes" in wrong.stderr
    gust("run", "globe_skin", "--flow", "charms", "--quality", "preview", "--frames", "1-2", "--out", tmp_path / "c")
    gust(
        "export", tmp_path / "c", "--to", tmp_path / "csv", "--format", "csv", "--what", "instances", "--frames", "2-2"
    )
    head, *rows = (tmp_path / "csv" / "charms.instances.0002.csv").read_text().splitlines()
    assert head.split(",")[:3] == ["x", "y", "z"]
    assert {"turn_w", "size", "which"} <= set(head.split(","))
    assert len(rows) > 200


def test_a_finer_gas_is_run_estimated_compared_and_written_from_the_command_line(tmp_path):
    for flow in ("wisps", "fine"):
        gust(
            "run", "kiln_wisps", "--flow", flow, "--quality", "preview", "--frames", "1-4", "--out", tmp_path / flow
        )  # fmt: skip
    found = json.loads(gust("estimate", "kiln_wisps", "--flow", "wisps", "--run", tmp_path / "wisps", "--json").stdout)
    assert (found["basis"], found["frames"], found["unit"]) == ("the preview run", 72, "voxels")
    assert found["seconds"] > 0
    assert found["disk"] > 1e6
    assert "of the preview run" in gust("estimate", "kiln_wisps", "--flow", "fine", "--run", tmp_path / "fine").stdout
    assert "voxels of gas that moves by" in gust("halves", tmp_path / "wisps", "--frame", 3).stdout
    assert "carried by another run" in gust("halves", tmp_path / "fine", "--frame", 3).stdout
    rows = json.loads(gust("compare", tmp_path / "wisps", tmp_path / "fine", "--json").stdout)
    assert [r["frame"] for r in rows] == [1, 2, 3, 4]
    assert rows[-1]["b"]["voxel_size"] == pytest.approx(rows[-1]["a"]["voxel_size"] / 2)
    assert rows[-1]["b"]["total"] == pytest.approx(rows[-1]["a"]["total"], rel=0.15), "the same smoke, finer"
    heat = json.loads(
        gust("compare", tmp_path / "wisps", tmp_path / "wisps", "--channel", "temperature", "--to", "ember",
             "--frames", "4-4", "--json").stdout
    )  # fmt: skip
    assert heat[0]["a"]["high"] > 400
    assert heat[0]["b"]["high"] <= 1
    assert "the same" in gust("compare", tmp_path / "wisps", tmp_path / "wisps").stdout
    wrong = gust("compare", tmp_path / "wisps", tmp_path / "fine", "--channel", "embers", check=False)
    assert wrong.returncode == 2
    assert "did you mean 'ember'?" in wrong.stderr
    said = gust("export", tmp_path / "fine", "--to", tmp_path / "z", "--format", "zarr", "--frames", "3-4")
    assert [line.split()[1] for line in said.stdout.splitlines()] == ["fine.0003.zarr.zip", "fine.0004.zarr.zip"]


def test_liquid_is_run_checked_compared_and_written_from_the_command_line(tmp_path):
    """The same job as in the browser, by command: uneven glass with and without the push."""
    for flow in ("glass", "still"):
        gust(
            "run", "slow_gather", "--flow", flow, "--quality", "preview", "--frames", "1-5", "--out", tmp_path / flow
        )  # fmt: skip
    assert "nothing found" in gust("check", "slow_gather").stdout
    found = json.loads(gust("estimate", "slow_gather", "--flow", "glass", "--run", tmp_path / "glass", "--json").stdout)
    assert (found["unit"], found["frames"]) == ("particles", 120)
    assert "particles by" in gust("halves", tmp_path / "glass", "--frame", 4).stdout
    rows = json.loads(gust("compare", tmp_path / "glass", tmp_path / "still", "--json").stdout)
    assert rows[0]["both"] == rows[0]["a"] == rows[0]["b"]
    assert rows[-1]["greatest"] > rows[0]["greatest"]
    grids = json.loads(
        gust("compare", tmp_path / "glass", tmp_path / "still", "--channel", "fill", "--frames", "5-5", "--json").stdout
    )
    assert grids[0]["a"]["high"] > 0.5
    for what, format, ending in (
        ("", "ply", "glass.0005.ply"), ("", "usd", "glass.0005.usdc"), ("surface", "obj", "glass.surface.0005.obj"),
        ("surface", "usd", "glass.surface.0005.usdc"), ("volume", "vdb", "glass.volume.0005.vdb"),
    ):  # fmt: skip
        words = ["--what", what] if what else []
        to = tmp_path / f"{what}{format}"
        said = gust("export", tmp_path / "glass", "--to", to, "--format", format, "--frames", "5-5", *words).stdout
        assert ending in said
        assert (to / ending).stat().st_size > 1000
    wrong = gust(
        "export", tmp_path / "glass", "--to", tmp_path / "no", "--what", "foam", "--format", "vdb", check=False
    )
    assert wrong.returncode == 2
    assert "not a format for foam" in wrong.stderr
    names = [op["id"] for op in json.loads(gust("ops", "--json").stdout)["steps"] if op.get("lane") == "liquid"]
    assert {"domain", "source", "push", "viscosity", "surface_tension", "collide", "foam_points", "surface"} <= set(
        names
    )


def test_grains_are_run_checked_and_written_from_the_command_line(tmp_path):
    """The same job as in the browser, by command: sand that is drawn up a runnel."""
    out = tmp_path / "sand"
    gust("run", "silica_runnel", "--flow", "silica", "--quality", "preview", "--frames", "1-6", "--out", out)
    assert "nothing found" in gust("check", "silica_runnel").stdout
    found = json.loads(gust("estimate", "silica_runnel", "--flow", "silica", "--run", out, "--json").stdout)
    assert (found["unit"], found["frames"]) == ("grains", 120)
    for what, format, ending in (
        ("", "ply", "silica.0006.ply"), ("", "usd", "silica.0006.usdc"), ("", "npz", "silica.0006.npz"),
        ("", "csv", "silica.0006.csv"), ("packing", "vdb", "silica.packing.0006.vdb"),
    ):  # fmt: skip
        words = ["--what", what] if what else []
        to = tmp_path / f"{what}{format}"
        made = gust("export", out, "--to", to, "--format", format, "--frames", "6-6", *words).stdout
        assert ending in made
        assert (to / ending).stat().st_size > 1000
    said = subprocess.run(
        ["vdb_print", tmp_path / "packingvdb" / "silica.packing.0006.vdb"], capture_output=True, text=True, check=True
    ).stdout  # fmt: skip
    assert "packing" in said
    assert "float" in said
    rows = (tmp_path / "csv" / "silica.0006.csv").read_text().splitlines()
    assert len(rows) == 1 + len(np.load(tmp_path / "npz" / "silica.0006.npz")["position"])
    assert {"pressure", "packing"} <= set(rows[0].split(","))
    names = [op["id"] for op in json.loads(gust("ops", "--json").stdout)["steps"] if op.get("lane") == "grains"]
    assert {
        "domain",
        "source",
        "push",
        "friction",
        "cohesion",
        "collide",
        "speed_limit",
        "thin_out",
        "surface",
        "channel",
        "hold",
    } <= set(names)


def test_a_shape_that_a_lane_makes_is_written_a_file_a_frame(tmp_path):
    for format, ending in (("obj", "obj"), ("vdb", "vdb"), ("usd", "usdc")):
        to = tmp_path / format
        made = gust("shape", "blown_bubbles", "--shape", "bubbles", "--frames", "3-4", "--format", format, "--to", to)
        assert f"bubbles.0004.{ending}" in made.stdout
        assert (to / f"bubbles.0003.{ending}").stat().st_size > 10_000
    assert (tmp_path / "obj" / "bubbles.0003.obj").read_text().count("\nf ") > 4000
    said = gust("shape", "blown_bubbles", "--shape", "bubble", "--to", tmp_path / "x", check=False)
    assert said.returncode == 2
    assert "did you mean 'bubbles'" in said.stderr
    said = gust("shape", "blown_bubbles", "--shape", "globe", "--to", tmp_path / "x", "--voxel", "-1", check=False)
    assert said.returncode == 2
    assert "no voxel size" in said.stderr


def swept(folder):
    return {json.dumps(r["values"]): r for r in json.loads((folder / "sweep.json").read_text())["runs"]}


def test_a_sweep_is_told_before_run_read_and_continued(tmp_path):
    out, file = tmp_path / "out", tmp_path / "s.gust.json"
    flow = {
        **lane("dust", ("emit", {"shape": "ball", "rate": 3000}), ("carry", {"field": "wind"})),
        "kind": "particles",
    }
    made = data(lane("wind", ("wind", {"speed": 1})), flows=[flow], clock={"fps": 24, "start": 1, "end": 5})
    file.write_text(json.dumps(made))
    vary = ("--flow", "dust", "--vary", "fields.wind.s0.speed=1:3:3", "--vary", "shapes.ball.radius=0.2,0.4")
    told = gust("sweep", file, *vary, "--out", out, "--dry").stdout
    assert told.startswith("6 runs")
    assert "speed 3 m/s, radius 0.4 m" in told
    assert not out.exists(), "it is only told"
    said = gust("sweep", file, *vary, "--out", out, "--workers", "2").stdout
    assert "6 of 6" in said
    found = swept(out)
    assert len(found) == 6
    fast = next(r for r in found.values() if r["values"] == {"fields.wind.s0.speed": 3.0, "shapes.ball.radius": 0.2})
    assert fast["fastest"] == pytest.approx(3.0, rel=1e-3)
    assert (out / "contact.png").read_bytes().startswith(b"\x89PNG")

    # one more value: what is there is not computed again
    before = {p: p.stat().st_mtime_ns for p in out.rglob("*") if p.is_file() and "frames" in p.parts}
    gust("sweep", file, *vary[:4], "--vary", "shapes.ball.radius=0.2,0.4,0.5", "--out", out)
    assert len(swept(out)) == 9
    assert all(p.stat().st_mtime_ns == t for p, t in before.items())
    first, second = (out / r["run"] for r in list(swept(out).values())[:2])
    assert "Radius 0.2 m → 0.4 m" in gust("diff", first, second).stdout


def test_a_run_of_a_sweep_that_fails_is_kept_apart(tmp_path):
    flow = {
        **lane("dust", ("emit", {"shape": "ball", "rate": 3000}), ("carry", {"field": "wind"})),
        "kind": "particles",
    }
    made = data(lane("wind", ("wind", {"speed": 1})), flows=[flow], clock={"fps": 24, "start": 1, "end": 3})
    (tmp_path / "s.gust.json").write_text(json.dumps(made))
    rates = ("--flow", "dust", "--vary", "flows.dust.s0.rate=1000,1e12", "--out", tmp_path / "out")
    done = gust("sweep", tmp_path / "s.gust.json", *rates, check=False)
    assert done.returncode == 1
    assert "failed: " in done.stdout
    states = [r["state"] for r in swept(tmp_path / "out").values()]
    assert states == ["done", "failed"]


def test_runs_of_the_home_folder_are_listed_and_tidied(tmp_path):
    env = {**os.environ, "ERRANT_GUST_HOME": str(tmp_path / "home")}

    def ours(*args):
        done = subprocess.run([str(ROOT / "gust"), *args], capture_output=True, text=True, env=env)
        assert done.returncode == 0, done.stderr
        return done.stdout

    assert ours("runs").startswith("0 runs, 0.0 MB of")
    assert "0.0 MB in 0 runs would come free" in ours("tidy")
    assert "0.0 MB are free" in ours("tidy", "--yes")


def test_a_delivery_is_told_written_gone_on_with_and_proved(tmp_path):
    out, file = tmp_path / "out", tmp_path / "s.gust.json"
    flow = {
        **lane("dust", ("emit", {"shape": "ball", "rate": 3000}), ("carry", {"field": "wind"})),
        "kind": "particles",
    }
    file.write_text(json.dumps(data(lane("wind", ("wind", {"speed": 1})), flows=[flow], clock={"end": 5})))
    gust("run", file, "--flow", "dust", "--out", tmp_path / "run")
    order = ("deliver", tmp_path / "run", "--to", out, "--result", "particles:npz", "--frames", "2-5", "--step", "3",
             "--up", "Y", "--unit", "cm", "--number", "1001")  # fmt: skip
    told = gust(*order, "--dry").stdout
    assert told.startswith("2 files")
    assert "dust/dust_particles.1001.npz … dust/dust_particles.1004.npz" in told
    assert not out.exists()
    assert "2 files" in gust(*order).stdout
    manifest = json.loads((out / "delivery.json").read_text())
    assert manifest["command"].startswith("gust deliver ")
    assert (out / "SHA256SUMS").read_text().count("  dust/") == 2
    sums = subprocess.run(["sha256sum", "-c", "SHA256SUMS"], cwd=out, capture_output=True, text=True, check=True)
    assert sums.stdout.count("OK") == 2
    assert "all 2 files are as they were delivered" in gust("verify", out).stdout
    one = out / "dust" / "dust_particles.1001.npz"
    one.write_bytes(one.read_bytes()[:-1] + b"x")
    found = gust("verify", out, check=False)
    assert found.returncode == 1
    assert "dust_particles.1001.npz: was changed" in found.stdout
    for more, words in (
        ((), "is there already"),
        (("--pattern", "{flow}"), "all frames one file"),
        (("--result", "smoke"), "no run or study offers 'smoke'"),
        (("--up", "X"), "one of: Z, Y"),
    ):
        refused = gust(*order, *more, check=False)
        assert refused.returncode == 2
        assert words in refused.stderr

    room = {"id": "room", "bounds": {"lower": [0, 0, 0], "upper": [1, 1, 1]}, "voxel_size": 0.25}
    moves = {"id": "prop", "kind": "box", "params": {"move": {"keys": [[0, [0, 0, 0]], [1, [1, 0, 0]]]}}}
    blows = lane("wind", ("wind", {"speed": 2}))
    file.write_text(json.dumps(data(blows, shapes=[moves], regions=[room], clock={"end": 5})))
    things = ("deliver", file, "--result", "wind@room:npz", "--result", "prop:obj", "--frames", "1-3")
    assert "prop_shape.0003.obj" in gust(*things, "--to", tmp_path / "things", "--dry").stdout
    gust(*things, "--to", tmp_path / "things")
    names = sorted(f["name"] for f in json.loads((tmp_path / "things" / "delivery.json").read_text())["files"])
    assert names == [*(f"prop/prop_shape.{n:04d}.obj" for n in (1, 2, 3)), "wind/wind_room.0001.npz"]
    with np.load(tmp_path / "things" / "wind" / "wind_room.0001.npz") as stored:
        np.testing.assert_allclose(np.linalg.norm(stored["wind"], axis=-1), np.full((4, 4, 4), 2.0), rtol=1e-6)
    gust("deliver", tmp_path, "--again", tmp_path / "things", "--to", tmp_path / "twice")
    assert (tmp_path / "twice" / "SHA256SUMS").read_text() == (tmp_path / "things" / "SHA256SUMS").read_text()
    refused = gust("deliver", file, "--to", tmp_path / "none", check=False)
    assert refused.returncode == 2
    assert "nothing of the study is named" in refused.stderr


@pytest.mark.parametrize(
    ("module", "extra", "words"),
    [("pxr", "usd", ("export", "run", "--format", "usd")), ("av", "film", ("flipbook", "run"))],
)
def test_a_part_that_is_not_installed_is_told_with_what_installs_it(module, extra, words, monkeypatch, tmp_path):
    """The wheel brings heavy parts with its extras only."""
    flow = {**lane("p", ("emit", {"shape": "ball", "rate": 50})), "kind": "particles"}
    clock = {"fps": 24, "start": 1, "end": 2}
    (tmp_path / "s.gust.json").write_text(json.dumps(data(flows=[flow], clock=clock)))
    gust("run", "s.gust.json", "--flow", "p", "--out", "run", cwd=tmp_path)
    for name in [n for n in sys.modules if n.partition(".")[0] == module]:
        monkeypatch.delitem(sys.modules, name)
    monkeypatch.setitem(sys.modules, module, None)
    done = gust(*words, "--to", "out", cwd=tmp_path, check=False)
    assert done.returncode == 2, done.stderr
    assert f"pip install 'errant-gust[{extra}]'" in done.stderr
