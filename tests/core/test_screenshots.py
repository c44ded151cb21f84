"""Pictures of the main views: few, each linked from the README, none left over from looking."""

import re

from tests.conftest import ROOT


def test_every_picture_is_linked_and_every_link_has_one():
    there = {path.name for path in (ROOT / "docs/screenshots").iterdir()}
    linked = set(re.findall(r"docs/screenshots/([\w.]+)", (ROOT / "README.md").read_text()))
    assert there == linked
    assert 0 < len(there) < 20
