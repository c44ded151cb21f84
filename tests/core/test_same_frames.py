"""The frames of the demos, bit for bit: kept while the house is rebuilt, so that nothing of it moves a particle."""

import hashlib
import json
import platform
from pathlib import Path

import llvmlite.binding
import numpy as np
import pytest

from errant_gust.core.api import open_study
from errant_gust.core.runs.compute import compute

DEMO = Path(__file__).resolve().parents[2] / "demo"
KEPT = Path(__file__).with_suffix(".json")
FRAMES = 4
FLOWS = [
    (path.name.removesuffix(".gust.json"), flow["id"])
    for path in sorted(DEMO.glob("*.gust.json"))
    for flow in json.loads(path.read_text())["flows"]
]


def machine() -> str:
    """Compiled kernels differ in the last bit from one processor to another, and NumPy's own from version to version:
    bits are compared where they can be the same."""
    features = sorted(k for k, on in llvmlite.binding.get_host_cpu_features().items() if on)
    parts = [platform.machine(), llvmlite.binding.get_host_cpu_name(), np.__version__, *features]
    return hashlib.sha256(" ".join(parts).encode()).hexdigest()[:12]


def frames_of(name: str, flow: str, folder: Path) -> dict[str, dict[str, list[float] | str]]:
    """Of each channel of each frame: a hash of its bits, and its size, mean and root mean square."""
    plan = open_study(DEMO / f"{name}.gust.json")
    first = plan.study.clock.start
    store = compute(plan.study, flow, folder, quality="preview", assets=plan.assets, last=first + FRAMES - 1)
    found: dict[str, dict[str, list[float] | str]] = {}
    for frame in range(first, first + FRAMES):
        for channel, a in sorted(store.read(frame).items()):
            wide = a.astype(np.float64)
            numbers = [
                a.size,
                float(wide.mean()) if a.size else 0.0,
                float(np.sqrt((wide**2).mean())) if a.size else 0.0,
            ]
            hashed = hashlib.sha256(np.ascontiguousarray(a).tobytes() + str(a.shape).encode()).digest()
            bits = str(int.from_bytes(hashed[:10]))  # in figures: letters would make words
            found[f"{frame}.{channel}"] = {"bits": bits, "numbers": numbers}
    return found


@pytest.mark.parametrize(("name", "flow"), FLOWS, ids=lambda part: part)
def test_frames_of_demos_are_what_they_were(name, flow, tmp_path):
    kept = json.loads(KEPT.read_text())
    was, now = kept["frames"][f"{name}.{flow}"], frames_of(name, flow, tmp_path / "run")
    assert set(now) == set(was)
    for place, found in now.items():
        size, mean, rms = was[place]["numbers"]
        assert found["numbers"][0] == size, place
        # another processor may round otherwise, no more
        assert found["numbers"][1:] == pytest.approx([mean, rms], rel=2e-3, abs=2e-3 * max(rms, 1e-9)), place
        if kept["machine"] == machine():
            assert found["bits"] == was[place]["bits"], place
