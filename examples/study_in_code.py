"""A study built in code: wind and curl noise around a ball, dust carried by it. Written to a file that the
application opens. Usage: study_in_code.py FILE"""

import sys

import errant_gust as gust

gust.tune()  # this process is ours alone

study = gust.new_study(
    "Dust past a float",
    shapes=[
        {"id": "float", "kind": "sphere", "params": {"radius": 0.5}},
        {"id": "source", "kind": "box", "params": {"size": [0.1, 1, 1], "move": [-1.5, 0, 0]}},
    ],
    regions=[{"id": "room", "bounds": {"lower": [-2, -1.5, -1.5], "upper": [2.5, 1.5, 1.5]}, "voxel_size": 0.05}],
    fields=[
        gust.lane("swirl", gust.step("curl_noise", feature_size=0.6, strength=0.5)),
        gust.lane("wind", gust.step("wind", speed=1.5), gust.step("add", field="swirl"),
                  gust.step("steer_around", shape="float", reach=0.4)),
    ],
    flows=[gust.lane("dust", gust.step("emit", shape="source", where="volume", rate=4000),
                     gust.step("carry", field="wind"), kind="particles")],
    clock={"fps": 24, "start": 1, "end": 12},
)  # fmt: skip
for finding in gust.check(study):
    print(finding.level, finding.where, finding.what)
print(gust.save_study(study, sys.argv[1]))
