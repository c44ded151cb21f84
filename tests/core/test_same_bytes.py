"""Every writer gives the same bytes for the same run, whatever the hash seed, the threads and the time of day."""

import hashlib
import json
import os
import subprocess
import sys
from pathlib import Path

SCRIPT = """
import json, sys
from pathlib import Path
import numpy as np
from errant_gust.core.fields.sampling import bake
from errant_gust.core.files.volume_files import WRITERS, write_zarr, writer_for
from errant_gust.core.grids.grid import Grid
from errant_gust.core.runs.compute import compute
from errant_gust.core.runs.export import export_run
from tests.core.test_gas import BALL, PUFF, gas
from tests.core.test_particles import flow
from tests.studies import lane

to = Path(sys.argv[1])
wind = (lane("v", ("curl_noise", {"evolve": 0.3})), lane("far", ("distance", {"shape": "ball"})))
clock = {"fps": 12, "start": 1, "end": 4}
made = [
    ("carry", {"field": "v"}), ("channel", {"what": "field", "name": "heat", "field": "far"}),
    ("channel", {"what": "formula", "name": "also", "expression": "speed * 2"}), ("channel", {"what": "way"}),
    ("respawn", {"farther": 0.5}), ("trail", {"length": 0.4}), ("spread_along", {}), ("instances", {"form": "sphere"}),
]
p = flow({"rate": 300}, *made, fields=wind, clock=clock)
store = compute(p.study, "p", to / "run")
for what, formats in (("particles", ("ply", "npz", "csv", "usd")), ("lines", ("npz", "usd")), ("spread", ("ply",)),
                      ("instances", ("ply", "usd"))):
    for format in formats:
        export_run(store, to / f"{what}_{format}", format=format, what=what, plan=p)
g = gas(PUFF, ("rise", {}), ("channel", {"name": "glow", "copies": "temperature"}), end=3)
smoke = compute(g.study, "g", to / "gas")
for format in ("vdb", "npz", "vti", "zarr"):
    export_run(smoke, to / f"gas_{format}", format=format)
node = p.at(0).lane("far")
region = p.at(0).region("room")
for ending in sorted(WRITERS):
    path = to / f"baked{ending}"
    writer_for(path)(path, {"far": Grid(region, bake(node, region))})
"""


def written(folder, seed, threads):
    root = Path(__file__).resolve().parents[2]
    env = {**os.environ, "PYTHONHASHSEED": str(seed), "ERRANT_GUST_THREADS": str(threads), "PYTHONPATH": str(root)}
    folder.mkdir()
    done = subprocess.run([sys.executable, "-c", SCRIPT, str(folder)], env=env, capture_output=True, text=True)
    assert done.returncode == 0, done.stderr
    files = [
        p for p in sorted(folder.rglob("*")) if p.is_file() and not {"run", "gas"} & set(p.relative_to(folder).parts)
    ]
    return {str(p.relative_to(folder)): hashlib.sha256(p.read_bytes()).hexdigest() for p in files}


def test_two_exports_of_one_run_are_the_same_bytes(tmp_path):
    one, two = written(tmp_path / "one", 1, 1), written(tmp_path / "two", 4242, 2)
    assert len(one) > 40
    differ = [name for name in one if one[name] != two.get(name)]
    assert not differ, json.dumps(differ)
    assert set(one) == set(two)


def test_the_columns_of_a_file_come_in_one_order(tmp_path):
    written(tmp_path / "one", 7, 2)
    head = (tmp_path / "one" / "particles_ply" / "p.0004.ply").read_bytes().split(b"end_header")[0].decode()
    names = [line.split()[-1] for line in head.splitlines() if line.startswith("property")]
    assert names == ["x", "y", "z", "vx", "vy", "vz", "age", "life", "id", "also", "heat", "travelled"]
