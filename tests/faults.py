"""`python -m tests.faults [--quick] [NAME…]`: faults are put into a copy of the code, one at a time; tells which
of them the tests catch. A sign, a bound, a guard: each is one that somebody could make. Those that nobody catches are
told, and end it with 1.

The tests that are run are those of the part (all would take hours); with `--quick` what `./gust test --quick` runs of
them.
"""

import os
import re
import shutil
import subprocess
import sys
import time
from dataclasses import dataclass
from pathlib import Path
from tempfile import TemporaryDirectory

from errant_gust.core.home import compiled

ROOT = Path(__file__).resolve().parents[1]
WEB = ("dist", "src", "tests", "package.json", "vitest.config.ts", "tsconfig.json", "told.json")
PARTS = ("errant_gust", "tests", "demo", "pyproject.toml", "docs", "README.md", *(f"web/{name}" for name in WEB))


@dataclass
class Fault:
    """One line changed in one file, and the tests of the part."""

    name: str
    file: str
    old: str
    new: str
    tests: str
    """As `core/noise`, with spaces between; or `web`."""

    @property
    def files(self) -> list[str]:
        """Of pytest."""
        return (
            []
            if self.tests == "web"
            else [re.sub(r"(\w+)/(\w+)", r"tests/\1/test_\2.py", t) for t in self.tests.split()]
        )


CORE, FLOWS, RUNS, SERVER = (f"errant_gust/{p}" for p in ("core", "core/flows", "core/runs", "server"))
FAULTS = (
    Fault(
        "sign of a component of the curl",
        f"{CORE}/fields/samples.py",
        "gradient[0, 2] - gradient[2, 0]",
        "gradient[2, 0] - gradient[0, 2]",
        "core/noise core/steps_known_answers",
    ),
    Fault(
        "time without slow motion",
        f"{CORE}/study/document.py",
        "return (frame - self.start) / (self.fps * self.slow_motion)",
        "return (frame - self.start) / self.fps",
        "core/every_kind core/grains core/study",
    ),
    Fault(
        "inside told by a quarter turn",
        f"{CORE}/geometry/mesh.py",
        "return self.winding(points) > 0.5",
        "return self.winding(points) > 0.25",
        "core/geometry core/mesh_files",
    ),
    Fault(
        "easing of gas to first order",
        f"{FLOWS}/gas/forces.py",
        "each = np.broadcast_to(1 - np.exp(-rate * np.float32(work.dt)), target.shape[1:])",
        "each = np.broadcast_to(rate * np.float32(work.dt), target.shape[1:])",
        "core/gas core/gas_sources",
    ),
    Fault(
        "decay twice as quick",
        f"{FLOWS}/gas/steps.py",
        "values * np.exp(-rate * np.float32(dt))",
        "values * np.exp(-2 * rate * np.float32(dt))",
        "core/gas",
    ),
    Fault(
        "drag's mean as at its end",
        f"{FLOWS}/particles/forces.py",
        "m.mean = before * first + gained * second",
        "m.mean = before * left + gained * second",
        "core/motion core/particles",
    ),
    Fault(
        "frames that are no numbers are kept",
        f"{RUNS}/stepping.py",
        "            are_numbers(channels, frame, flow)\n",
        "",
        "core/every_kind",
    ),
    Fault(
        "a run does not depend on frames a second",
        f"{RUNS}/identity.py",
        "[clock.fps, clock.start, clock.slow_motion]",
        "[clock.start, clock.slow_motion]",
        "core/depends core/study core/motion",
    ),
    Fault(
        "a run does not depend on what computes it",
        f"{RUNS}/identity.py",
        "        engines(walk.kinds), flow,",
        "        flow,",
        "core/kinds core/depends",
    ),
    Fault(
        "a worker that lost its lease writes",
        f"{RUNS}/frame_store.py",
        "            if self._lease is not None:\n                self._lease.check()\n",
        "",
        "core/lease",
    ),
    Fault(
        "what was half-written is left",
        f"{RUNS}/frame_store.py",
        'aside = self.frames_folder / f".writing-',
        'aside = self.frames_folder / f"writing-',
        "core/particles",
    ),
    Fault(
        "a frame is written where it is read",
        f"{RUNS}/frame_store.py",
        '            write_arrays(aside, channels, {"frame": frame, **facts, SUMMED: True})\n',
        "            shutil.rmtree(self.path(frame), ignore_errors=True)\n"
        '            write_arrays(self.path(frame), channels, {"frame": frame, **facts, SUMMED: True})\n'
        "            self.path(frame).rename(aside)\n",
        "core/every_kind core/particles",
    ),
    Fault(
        "another run's folder is written into",
        f"{RUNS}/frame_store.py",
        'if found.get("identity") != manifest["identity"]:',
        "if not found:",
        "core/particles core/lease",
    ),
    Fault(
        "an edit over somebody else's",
        f"{SERVER}/revisions.py",
        "if base is not None and study.head_id != base:",
        "if base is None and study.head_id != base:",
        "server/api",
    ),
    Fault(
        "the oldest request wins",
        f"{SERVER}/newest.py",
        "return _latest.get(self.channel, 0) > self.serial",
        "return _latest.get(self.channel, 0) < self.serial",
        "server/turns server/line server/api",
    ),
    Fault(
        "another site may ask for changes",
        f"{SERVER}/safety.py",
        "if HEADER not in request.headers:",
        "if False:",
        "server/doors server/api robust/bad_orders",
    ),
    Fault(
        "a path leads out of the home folder",
        f"{SERVER}/keys.py",
        "[a-z][a-z0-9_]{0,39}",
        "[a-z.][a-z0-9_./]{0,39}",
        "robust/files server/doors",
    ),
    Fault(
        "what needs a kernel is not told to wait",
        f"{SERVER}/compiling.py",
        '    if not NEEDS.match(f"{method} {path}"):',
        "    if True:",
        "robust/first_start",
    ),
    Fault(
        "colours of points half as bright",
        f"{CORE}/files/points.py",
        'np.clip(channels["colour"], 0, 1) * 255',
        'np.clip(channels["colour"], 0, 1) * 127',
        "core/delivery core/every_kind",
    ),
    Fault(
        "frames a second of a stage",
        f"{CORE}/files/usd.py",
        "stage.SetTimeCodesPerSecond(fps)",
        "stage.SetTimeCodesPerSecond(24)",
        "core/delivery core/scenes core/delivery_things",
    ),
    Fault(
        "a limit on speed that is none",
        f"{FLOWS}/particles/motion.py",
        'return np.minimum(1, np.maximum(use.number("most", points), 0)',
        'return np.maximum(1, np.maximum(use.number("most", points), 0)',
        "core/particles core/motion",
    ),
    Fault(
        "a number beyond its range is kept",
        "web/src/inspector/NumberField.vue",
        "if (props.high != null && v > props.high)",
        "if (props.high != null && v > 2 * props.high)",
        "web",
    ),
    Fault(
        "who chose a frame is taken along",
        "web/src/stores/runs.ts",
        "following.value ||= !current.value && !chosen",
        "following.value ||= !current.value",
        "web",
    ),
)


class Copy:
    """The sources and tests in a folder of their own."""

    def __init__(self, place: Path, quick: bool) -> None:
        self.place, self.quick = place, quick
        for part in PARTS:
            source, to = ROOT / part, place / part
            to.parent.mkdir(parents=True, exist_ok=True)
            (shutil.copytree if source.is_dir() else shutil.copy)(source, to)
        self.web = ROOT / "web" / ".faults"  # where its packages are found
        shutil.rmtree(self.web, ignore_errors=True)
        shutil.copytree(place / "web", self.web, ignore=shutil.ignore_patterns("dist"))
        self.red: list[str] = []

    def run(self, files: list[str]) -> list[str]:
        """Run files of tests, or those of the web if there is none; those that fail."""
        if not files:
            done = subprocess.run(
                ["npx", "vitest", "run", "--root", str(self.web)], cwd=self.web, capture_output=True, text=True
            )
            said = re.sub(r"\x1b\[[\d;]*m", "", done.stdout + done.stderr)
            found = [line.strip() for line in said.splitlines() if line.strip().startswith("FAIL")]
            return found or ([said[-300:]] if done.returncode else [])
        more = [*(["--quick"] if self.quick else []), *(f"--deselect={name}" for name in self.red)]
        done = subprocess.run(
            [sys.executable, "-m", "pytest", "-q", "-n", "2", "--dist", "worksteal", *more, *files],
            cwd=self.place, capture_output=True, text=True,
            env={**os.environ, "PYTHONPATH": str(self.place), "ERRANT_GUST_KERNELS": str(compiled())},
        )  # fmt: skip
        found = [line.split()[1] for line in done.stdout.splitlines() if line.startswith(("FAILED ", "ERROR "))]
        return found or ([] if done.returncode in (0, 5) else [done.stdout[-300:] + done.stderr[-300:]])

    def tried(self, fault: Fault) -> list[str]:
        """What fails with a fault."""
        file = self.web / Path(fault.file).relative_to("web") if fault.tests == "web" else self.place / fault.file
        plain = file.read_text()
        assert plain.count(fault.old) >= 1, f"{fault.name}: the line has changed"
        try:
            file.write_text(plain.replace(fault.old, fault.new))
            return self.run(fault.files)
        finally:
            file.write_text(plain)

    def end(self) -> None:
        """Take it away."""
        shutil.rmtree(self.web, ignore_errors=True)


def main(words: list[str]) -> int:
    """Try every fault that is named, or all."""
    named = [w for w in words if not w.startswith("-")]
    faults = [f for f in FAULTS if not named or any(w in f.name for w in named)]
    with TemporaryDirectory() as folder:
        copy = Copy(Path(folder), "--quick" in words)
        try:
            files = sorted({name for f in faults for name in f.files})
            if files:
                copy.red = copy.run(files)
            if any(not f.files for f in faults):
                assert not (red := copy.run([])), f"tests of the web are red without a fault: {red}"
            print(
                f"without a fault {len(copy.red)} tests are red in a copy, and left out: {' '.join(copy.red)}",
                flush=True,
            )
            missed = 0
            for fault in faults:
                begun = time.monotonic()
                red = copy.tried(fault)
                missed += not red
                said = f"{len(red)} red, {red[0][:90]}" if red else "NOT CAUGHT"
                print(f"{fault.name}: {said} ({time.monotonic() - begun:.0f} s)", flush=True)
        finally:
            copy.end()
    print(f"{len(faults) - missed} of {len(faults)} are caught")
    return int(bool(missed))


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
