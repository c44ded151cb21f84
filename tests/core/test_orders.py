"""What the handbook says of how exact steps are in time and in space is what is measured."""

import json

import pytest
from typer.testing import CliRunner

from errant_gust.cli.main import app
from errant_gust.core.flows.kind import KINDS
from errant_gust.core.orders import ROWS
from tests.conftest import ROOT

TOLD = {(r["kind"], r["what"], r["of"]): r for r in json.loads((ROOT / "web/src/handbook/orders.json").read_text())}
QUICK = {"particles fall": None, "particles pushed": 2, "particles carried": 2, "particles, baked": 2, "gas pushed": 2}
"""Rows that take seconds, and their order; the others take a minute and are measured by `gust bench --orders`."""


@pytest.mark.parametrize("name", QUICK)
def test_the_handbook_tells_the_errors_that_are_measured(name):
    row = ROWS[name]()
    told = TOLD[row.kind, row.what, row.of]
    assert told["errors"] == pytest.approx(row.errors, rel=0.05, abs=2e-6)
    if QUICK[name] is None:
        assert row.order is None
        assert max(row.errors) < 1e-5, "the sum of rounding"
    else:
        assert row.order == pytest.approx(QUICK[name], abs=0.15)
        assert told["order"] == pytest.approx(row.order, abs=0.05)


def test_every_row_is_told_and_every_kind_has_one():
    assert len(TOLD) == len(ROWS)
    assert {kind for kind, _, of in TOLD if of == "time"} == {kind.label for kind in KINDS.values()}
    pushed = {kind: r["errors"] for (kind, what, _), r in TOLD.items() if "swinging force" in what}
    assert all(errors[1] < 0.015 for errors in pushed.values()), "at 24 frames a second"


def test_the_command_prints_the_table_and_what_the_handbook_is_made_of():
    told = CliRunner().invoke(app, ["bench", "--orders", "--only", "particles fall"])
    assert "what falls for half a second: less than 0.001 % off at 24 frames a second" in told.stdout
    rows = json.loads(CliRunner().invoke(app, ["bench", "--orders", "--only", "particles fall", "--json"]).stdout)
    assert [(r["kind"], r["of"], r["tried"]) for r in rows] == [("Particles", "time", [12, 24, 48, 96])]
