"""Results of a run written for others: y up, centimetres, frames from 1001, half floats; proved by reading back.
Usage: hand_over.py RUN_FOLDER NEW_FOLDER"""

import sys

import errant_gust as gust

gust.tune()  # this process is ours alone

run = gust.open_run(sys.argv[1])
print("it holds", ", ".join(f"{result.name} ({result.form})" for result in run.results))
options = gust.Options(up="Y", unit="cm", number=1001, half=True)
said = gust.deliver([run], sys.argv[2], options=options, progress=lambda done, total, name: print(done, total, name))
faults = gust.verify(sys.argv[2])
print(f"{said['bytes'] / 1e6:.1f} MB in {len(said['files'])} files, {len(faults)} faults")
