"""Smoke that rises, and the same with a stronger lift: both run, their densities subtracted. Usage: … FOLDER"""

import sys
from pathlib import Path

import errant_gust as gust

gust.tune()  # this process is ours alone

BALL = {"id": "ball", "kind": "sphere", "params": {"radius": 0.25, "move": [0, 0, 0.4]}}
ROOM = {"id": "room", "bounds": {"lower": [-0.8, -0.8, 0], "upper": [0.8, 0.8, 2]}, "voxel_size": 0.08}


def version(lift: float) -> gust.Run:
    """A run of its own for each value."""
    smoke = gust.lane("smoke", gust.step("domain", region="room"),
                      gust.step("source", shape="ball", density=1, temperature=200), gust.step("rise", lift=lift),
                      kind="gas")  # fmt: skip
    study = gust.new_study("Rising", shapes=[BALL], regions=[ROOM], flows=[smoke], clock={"end": 8})
    return gust.run(study, "smoke", Path(sys.argv[1]) / f"lift_{lift:g}")


slow, fast = version(0.02), version(0.06)
grid, numbers = gust.compare(slow, fast, 8, "density")
print(f"{grid.values.shape}: at most {numbers.greatest:.3f} at {numbers.at}, rms {numbers.rms:.4f}")
print({name: round(fast.readings(8)[name] - value, 3) for name, value in slow.readings(8).items()})
