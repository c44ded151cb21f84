"""The wheel: built from this tree, installed into an empty environment elsewhere, and used there as anybody would."""

import json
import os
import re
import shutil
import subprocess
import sys
import urllib.request
import zipfile
from importlib.metadata import distribution
from pathlib import Path

import numpy as np

import errant_gust
from tests.conftest import ROOT


def installed(place):
    """An environment in that folder that holds the wheel and what it asks for, and nothing else: links to what is
    unpacked already, more than a gigabyte. That it is what the wheel asks for, `pip check` says."""
    subprocess.run([ROOT / "gust", "wheel", place], check=True, timeout=300)
    (wheel,) = place.glob("*.whl")
    subprocess.run([sys.executable, "-m", "venv", place / "env"], check=True, timeout=120)
    (packages,) = (place / "env/lib").glob("python*/site-packages")
    for line in (ROOT / "requirements/run.lock").read_text().splitlines():
        if name := re.match(r"[A-Za-z0-9._-]+(?===)", line):
            found = distribution(name.group())
            for top in {file.parts[0] for file in found.files} - {"..", "__pycache__"}:
                if not (packages / top).exists():
                    (packages / top).symlink_to(found.locate_file(top))
    pip = [place / "env/bin/python", "-m", "pip", "--disable-pip-version-check"]
    subprocess.run(
        [*pip, "install", "--quiet", "--no-compile", "--no-deps", "--no-index", wheel], check=True, timeout=60
    )
    subprocess.run([*pip, "check"], check=True, timeout=60)


def environment(place, **more):
    """What a user's shell has: no trace of this tree, but for kernels that are compiled already."""
    kept = {k: v for k, v in os.environ.items() if not k.startswith(("ERRANT_GUST", "PYTHON", "DJANGO", "VIRTUAL"))}
    data = {"XDG_DATA_HOME": str(place / "data"), "ERRANT_GUST_KERNELS": str(ROOT / "var/kernels")}
    return {**kept, **data, **more}


def ran(place, *command):
    done = subprocess.run(
        [str(c) for c in command], cwd=place, env=environment(place), capture_output=True, text=True, timeout=240
    )
    assert done.returncode == 0, done.stderr[-3000:]
    return done.stdout


def it_holds_the_interface_the_font_and_the_demos_and_no_tests(elsewhere):
    (wheel,) = elsewhere.glob("*.whl")
    names = set(zipfile.ZipFile(wheel).namelist())
    assert f"errant_gust-{errant_gust.__version__}.dist-info/METADATA" in names
    assert "errant_gust/shipped/web/index.html" in names
    assert "errant_gust/core/geometry/fonts/plex_sans_600.woff" in names
    ours = {p.name for p in (ROOT / "demo").glob("*.gust.json")}
    assert {n.rsplit("/", 1)[1] for n in names if n.startswith("errant_gust/shipped/demo") and "gust.json" in n} == ours
    metadata = zipfile.ZipFile(wheel).read(f"errant_gust-{errant_gust.__version__}.dist-info/METADATA").decode()
    assert "Requires-Python: >=3.11" in metadata, "pip refuses it elsewhere, in words"
    assert {n.split("/")[0] for n in names} == {"errant_gust", f"errant_gust-{errant_gust.__version__}.dist-info"}


def its_commands_do_what_those_of_the_clone_do(elsewhere):
    python = elsewhere / "env/bin/python"
    where = ran(elsewhere, python, "-c", "import errant_gust; print(errant_gust.__file__)")
    assert where.startswith(str(elsewhere / "env"))
    ours = subprocess.run(
        [sys.executable, "-m", "errant_gust.cli.main", "ops", "--json"], capture_output=True, text=True, check=True
    )
    assert json.loads(ran(elsewhere, elsewhere / "env/bin/gust", "ops", "--json")) == json.loads(ours.stdout)
    np.save(elsewhere / "places.npy", np.random.default_rng(3).uniform(-2, 2, (50, 3)))
    values = {}
    for gust in (elsewhere / "env/bin/gust", ROOT / "gust"):
        out = elsewhere / f"{gust.parent.name}.npy"
        ran(
            elsewhere, gust, "sample", "harbour_gust", "--field", "wind", "--points", elsewhere / "places.npy",
            "--time", "0.5", "--out", out,
        )  # fmt: skip
        values[gust.parent.name] = np.load(out)
    bits = [v.tobytes() for v in values.values()]
    assert bits[0] == bits[1]


NOTEBOOK = """
import json, sys
names = {}
for number, cell in enumerate(json.load(open(sys.argv[1]))["cells"]):
    if cell["cell_type"] == "code":
        exec(compile("".join(cell["source"]), f"cell {number}", "exec"), names)
assert names["density"].shape == (24, 16, 16), names["density"].shape
assert 0.2 < names["middle"].max() <= 1
"""


def the_examples_and_the_notebook_run_as_they_stand(elsewhere):
    shutil.copytree(ROOT / "examples", elsewhere / "examples")
    tried = set()

    def example(name, *given):
        tried.add(name)
        return ran(elsewhere, elsewhere / "env/bin/python", f"examples/{name}", *given)

    said = example("field_to_arrays.py")
    assert "1000 places" in said
    assert "m/s" in said
    assert "float.gust.json" in example("study_in_code.py", "float.gust.json")
    said = example("run_and_read.py", "float.gust.json", "dust", "run")
    assert "frame 12" in said
    assert "'leaks': 0.0" in said
    assert "12 files, 0 faults" in example("hand_over.py", "run", "out")
    assert "rms" in example("compare_two_versions.py", "versions")
    (elsewhere / "by_cells.py").write_text(NOTEBOOK)
    (notebook,) = (elsewhere / "examples").glob("*.ipynb")
    said = ran(elsewhere, elsewhere / "env/bin/python", "by_cells.py", notebook)
    assert float(said.split("swirls at most ")[1].split()[0]) < 1e-4
    assert tried == {p.name for p in (elsewhere / "examples").glob("*.py")}


def gust_demo_serves_the_interface_with_the_demos_from_the_users_own_folder(elsewhere):
    command = [elsewhere / "env/bin/gust", "demo", "--no-browser", "--port", "0"]
    server = subprocess.Popen(
        command, cwd=elsewhere, stdout=subprocess.PIPE, text=True, env=environment(elsewhere, ERRANT_GUST_DEMO_RUNS="0")
    )
    try:
        address = server.stdout.readline().split()[-1]
        page = urllib.request.urlopen(address).read().decode()
        script = page.split('src="')[1].split('"')[0]
        assert len(urllib.request.urlopen(address + script).read()) > 10_000
        studies = json.load(urllib.request.urlopen(f"{address}/api/studies"))
        assert len(studies) == len(list((ROOT / "demo").glob("*.gust.json")))
    finally:
        server.terminate()
        server.wait(20)
    assert (elsewhere / "data/errant-gust/errant_gust.sqlite3").is_file()
    assert not list(Path(elsewhere / "env").rglob("*.sqlite3")), "nothing is written beside the package"


def test_the_wheel_is_installed_and_used_elsewhere(tmp_path):
    installed(tmp_path)
    it_holds_the_interface_the_font_and_the_demos_and_no_tests(tmp_path)
    its_commands_do_what_those_of_the_clone_do(tmp_path)
    the_examples_and_the_notebook_run_as_they_stand(tmp_path)
    gust_demo_serves_the_interface_with_the_demos_from_the_users_own_folder(tmp_path)
