"""Kernels that are compiled ahead are those that commands and server use: nobody waits for a compiler."""

import os
import subprocess
import sys
import warnings

import llvmlite.binding
import pytest

from errant_gust import tuning
from errant_gust.core import warm
from tests.conftest import ROOT

MARK = "from errant_gust.core.warm import marker; print(marker(), marker().is_file())"


def untouched():
    """What a shell has, without what the tests' own process has said to Numba."""
    return {k: v for k, v in os.environ.items() if not k.startswith("NUMBA")}


def marked(first, **more):
    """The mark of a process that begins so: of all kernels for its vectors, and whether they were compiled ahead."""
    done = subprocess.run(
        [sys.executable, "-c", f"import {first}; {MARK}"], cwd=ROOT, env={**untouched(), **more}, capture_output=True,
        text=True, check=True,
    )  # fmt: skip
    place, there = done.stdout.split()
    return place, there == "True"


def test_what_setup_compiled_is_what_commands_and_server_use():
    by_command = marked("errant_gust.cli.main")
    assert by_command[1], "./gust setup has compiled for other vectors than the commands use"
    assert marked("errant_gust.server.settings") == by_command
    assert marked("errant_gust.cli.warm") == by_command


def test_progress_counts_as_many_kernels_as_there_are():
    """As many as there were when `./gust setup` had compiled all; what tests compile later counts not."""
    assert int(warm.marker().read_text()) == pytest.approx(warm.KERNELS, abs=3)
    assert len(list(warm.kernels_folder().glob("*.nbi"))) >= warm.KERNELS - 3


def test_every_home_has_the_same_kernels(tmp_path):
    assert marked("errant_gust.cli.main", ERRANT_GUST_HOME=str(tmp_path)) == marked("errant_gust.cli.main")


def test_other_vectors_have_another_mark(tmp_path):
    plain = {"NUMBA_CPU_NAME": "generic", "NUMBA_CPU_FEATURES": ""}
    place, there = marked("errant_gust.core", ERRANT_GUST_KERNELS=str(tmp_path), **plain)
    assert not there
    assert place.rsplit("/", 1)[1] != marked("errant_gust.cli.main")[0].rsplit("/", 1)[1]


def test_it_is_told_when_vectors_are_chosen_too_late(monkeypatch):
    import errant_gust.core.kernels.compiler  # noqa: F401

    for name in ("NUMBA_CPU_NAME", "NUMBA_CPU_FEATURES"):
        monkeypatch.delenv(name, raising=False)
    wide = {"avx512f": True}
    monkeypatch.setattr(llvmlite.binding, "get_host_cpu_features", lambda: llvmlite.binding.targets.FeatureMap(wide))
    with pytest.warns(RuntimeWarning, match="too late: kernels are defined already"):
        tuning.tune()
    assert "NUMBA_CPU_FEATURES" not in os.environ
    monkeypatch.setattr(llvmlite.binding, "get_host_cpu_features", lambda: llvmlite.binding.targets.FeatureMap({}))
    with warnings.catch_warnings():
        warnings.simplefilter("error")
        tuning.tune()
