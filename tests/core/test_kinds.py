"""A kind of flow is one object in one place: a toy kind, defined here and nowhere else, is everywhere at once."""

import json
import re
import subprocess
from dataclasses import dataclass
from pathlib import Path

import numpy as np
import pytest
import trimesh

from errant_gust.cli.main import main
from errant_gust.core.checks import findings
from errant_gust.core.errors import StudyError
from errant_gust.core.flows.kind import KINDS, FlowKind, LaneFlow, kind_of
from errant_gust.core.flows.results import MeshResult, PointsResult
from errant_gust.core.flows.step import Emits, FlowStep, placed_steps
from errant_gust.core.listing import PLACES, catalogue
from errant_gust.core.runs.carried import plan_of
from errant_gust.core.runs.compute import compute
from errant_gust.core.runs.identity import run_identity
from errant_gust.core.study import registry
from errant_gust.core.study.building import lane
from errant_gust.core.study.document import parse
from errant_gust.core.study.finding import Finding
from errant_gust.core.study.parameters import param
from tests.studies import data

ROOT = Path(__file__).resolve().parents[2]


@pytest.fixture
def marbles():
    """Points that fall, with a box around them as a mesh."""

    class Drop(FlowStep, Emits):
        """So many marbles in a row."""

        sort, family, id, label, yields = "marbles", "emit", "drop", "Drop", "marbles"
        count: int = param(5, range=(1, 100), help="How many")

    @dataclass
    class State:
        position: np.ndarray
        age: float

        @property
        def count(self):
            return len(self.position)

        def channels(self):
            box = trimesh.creation.box(bounds=[self.position.min(axis=0) - 0.1, self.position.max(axis=0) + 0.1])
            return {"position": self.position, "id": np.arange(self.count, dtype=np.uint32),
                    "age": np.full(self.count, self.age, np.float32),
                    "hull.vertices": box.vertices.astype("f4"), "hull.faces": box.faces.astype("i4")}  # fmt: skip

        def facts(self):
            return {"count": self.count}

    class Falling(LaneFlow):
        def first(self):
            drop = next(placed_steps(self.plan.at(0), self.lane, "marbles")).step
            return State(np.stack([np.arange(drop.count), *np.zeros((2, drop.count))], axis=1).astype(np.float32), 0)

        def next(self, state, frame, cancel=None, keep=True):
            t = self.clock.seconds(frame + 1)
            return State(np.float32([1, 1, 0]) * state.position - np.float32([0, 0, 4.905 * t * t]), t)

        def load(self, arrays, facts):
            return State(arrays["position"], float(arrays["age"][0]))

        def estimate(self):
            return 5, 5 * 100

        def scale(self, facts, measured):
            return 1.0, 1.0

    class Marbles(FlowKind):
        id, label, yields, unit, icon, smaller = "marbles", "Marbles", "what falls", "marbles", "dots", "fewer marbles"
        engine, begins_with = 1, (("drop", {"count": 3}),)
        results = (PointsResult("marbles", "marbles"), MeshResult("hull", "hull", "hull."))

        def open(self, plan, id, quality):
            return Falling(plan, id, quality=quality)

        def findings(self, plan, id, flow, readings):
            return [Finding("note", "rolls", f"flows.{id}", "marbles roll")]

    yield Marbles
    del KINDS["marbles"]
    registry.forget("marbles")


def study(**more):
    flow = {**lane("m", ("drop", {"count": 4})), "kind": "marbles"}
    return data(lane("near", ("from_particles", {"flow": "m", "region": "room", "radius": 0.5})), flows=[flow],
                clock={"fps": 24, "start": 1, "end": 4}, **more)  # fmt: skip


def test_a_toy_kind_is_listed_computed_looked_at_and_written(marbles, tmp_path, monkeypatch, capsys):
    entry = next(k for k in catalogue()["kinds"] if k["id"] == "marbles")
    assert entry["begins_with"] == [{"op": "drop", "params": {"count": 3}}]
    assert [(r["name"], r["form"]) for r in entry["results"]] == [("marbles", "points"), ("hull", "mesh")]
    assert "obj" in entry["results"][1]["formats"]
    assert [p["name"] for p in entry["looks"]["points"]][:2] == ["shown", "colour"]
    assert next(s for s in catalogue()["steps"] if s["lane"] == "marbles")["label"] == "Drop"
    p = plan_of(parse(study()))
    assert "rolls" in [f.code for f in findings(p)]
    store = compute(p.study, "m", tmp_path / "run")
    frame = kind_of("marbles").result("hull").read(store, 4)
    assert frame.vertices[:, 2].min() == pytest.approx(-4.905 * (3 / 24) ** 2 - 0.1, rel=1e-5)
    monkeypatch.setenv("ERRANT_GUST_HOME", str(tmp_path / "home"))
    (tmp_path / "s.gust.json").write_text(json.dumps(study()))

    def gust(*words):
        monkeypatch.setattr("sys.argv", ["gust", *map(str, words)])
        with pytest.raises(SystemExit) as end:
            main()
        assert end.value.code in (0, None), capsys.readouterr().err
        return capsys.readouterr().out

    file = tmp_path / "s.gust.json"
    assert "marbles roll" in gust("check", file)
    assert "4 frames" in gust("run", file, "--flow", "m", "--out", tmp_path / "other")
    assert "marbles" in gust("estimate", file, "--flow", "m", "--run", tmp_path / "other")
    assert "m.0004.ply" in gust("export", tmp_path / "other", "--to", tmp_path / "points", "--format", "ply")
    assert "m.hull.0004.obj" in gust(
        "export", tmp_path / "other", "--to", tmp_path / "meshes", "--what", "hull", "--format", "obj"
    )
    assert len(trimesh.load(tmp_path / "meshes" / "m.hull.0004.obj").faces) == 12
    assert "0 in both" not in gust("compare", tmp_path / "other", tmp_path / "run")
    assert "drop" in gust("ops")


def test_fields_ask_a_toy_kind_by_what_it_offers(marbles):
    p = plan_of(parse(study()))
    near = p.at(0.0).lane("near")
    from tests.studies import values

    at_one, far = values(near, np.float32([[1, 0, 0], [0, 0, 1.8]]))
    assert at_one > 100 * max(far, 1e-9)
    bad = data(lane("v", ("from_run", {"flow": "m"})), flows=study()["flows"])
    with pytest.raises(StudyError, match="'m' has no volume: it is Marbles"):
        values(plan_of(parse(bad)).at(0.0).lane("v"), np.zeros((1, 3), np.float32))


def test_another_version_of_one_kind_renames_its_runs_only(marbles, monkeypatch):
    other = {**lane("p", ("emit", {"shape": "ball"}), ("carry", {"field": "wind"})), "kind": "particles"}
    p = plan_of(parse(data(lane("wind", ("wind", {})), flows=[*study()["flows"], other])))
    before = {f.id: run_identity(p.study, f.id, "full", p.assets) for f in p.study.flows}
    monkeypatch.setattr(marbles, "engine", 2)
    after = {f.id: run_identity(p.study, f.id, "full", p.assets) for f in p.study.flows}
    assert before["p"] == after["p"]
    assert before["m"] != after["m"]


def test_an_unknown_kind_is_refused_by_name():
    with pytest.raises(StudyError, match="'sand' is no kind of flow; right would be"):
        parse(data(flows=[{"id": "p", "name": "P", "kind": "sand"}]))
    assert parse(data(flows=[{"id": "p", "name": "P"}])).flows[0].kind == "particles", "as lanes once were"


def test_kinds_are_named_in_their_own_folders_only():
    pattern = re.compile(r"""['"](gas|particles|liquid|grains)['"]|isGas""")
    files = subprocess.run(
        ["git", "ls-files", "errant_gust", "web/src"], cwd=ROOT, capture_output=True, text=True, check=True
    ).stdout.split()
    allowed = re.compile(r"core/flows/\w+/|core/demos/|server/migrations/|core/study/upgrade\.py|schema\.d\.ts")
    named = [
        f"{name}:{n}"
        for name in files
        if not allowed.search(name) and (ROOT / name).is_file()
        for n, line in enumerate((ROOT / name).read_text(errors="replace").splitlines(), 1)
        if pattern.search(line)
    ]
    assert named == []


def test_steps_are_listed_as_a_lane_is_built_what_begins_it_first():
    listed = catalogue()["steps"]
    for kind in KINDS.values():
        ops = [s["id"] for s in listed if s["lane"] == kind.id]
        assert sorted(ops) == sorted(registry.steps_of(kind.id)), "all of them, each once"
        assert ops[0] == kind.begins_with[0][0]
        families = [registry.steps_of(kind.id)[op].family for op in ops]
        assert families == sorted(families, key=PLACES.get)
    particles = [s["id"] for s in listed if s["lane"] == "particles"]
    assert particles[:2] == ["emit", "carry"]
