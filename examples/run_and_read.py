"""A run of a study, its frames as arrays, and what is read of it. Usage: run_and_read.py STUDY FLOW FOLDER"""

import sys

import numpy as np

import errant_gust as gust

gust.tune()  # this process is ours alone

study, flow = gust.open_study(sys.argv[1]), sys.argv[2]
cost = gust.estimate(study, flow, "preview")
print(f"at most {cost.count:,} {cost.unit} and {cost.memory / 1e6:,.0f} MB")
made = gust.run(study, flow, sys.argv[3], quality="preview", progress=lambda done: print(f"frame {done.frame}"))
last = made.frames[-1]
points = made.read(last, channels=["velocity"])
print(f"{points.count} points, {np.linalg.norm(points.velocity, axis=1).mean():.2f} m/s in the mean")
print("stored:", made.array(last, "position"))
print({name: round(value, 3) for name, value in made.readings(last).items()})
