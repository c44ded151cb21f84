"""Writes into the locks the hashes of every file that they may install: for each Python that will do, on each machine.

    python requirements/lock.py

Versions stay as they are in `run.lock` and `dev.lock`: to change one, change it there, and run this.
"""

import json
import re
import subprocess
import sys
import tempfile
from pathlib import Path

HERE = Path(__file__).parent
PYTHONS = ("3.11", "3.12", "3.13", "3.14")
LINUX = (
    "manylinux_2_28", "manylinux_2_27", "manylinux_2_24", "manylinux_2_17", "manylinux2014", "manylinux_2_5",
    "manylinux1",
)  # fmt: skip
MACHINES = {
    "Linux, x86-64": [f"{name}_x86_64" for name in LINUX],
    "Linux, ARM": [f"{name}_aarch64" for name in LINUX[:5]],
    "macOS, ARM": [f"macosx_{n}_0_{arch}" for n in (15, 14, 13, 12, 11) for arch in ("arm64", "universal2")],
}


def hashes(needs: list[str], python: str, platforms: list[str]) -> dict[str, str]:
    """Hash of the file that is installed of each package there; nothing is downloaded but what describes it."""
    with tempfile.TemporaryDirectory() as name:
        asked, said = Path(name) / "asked.txt", Path(name) / "said.json"
        asked.write_text("\n".join(needs))
        where = [part for platform in platforms for part in ("--platform", platform)]
        subprocess.run(
            [sys.executable, "-m", "pip", "install", "--dry-run", "--ignore-installed", "--no-deps", "--quiet",
             "--report", said, "--python-version", python, "--implementation", "cp", *where,
             "--only-binary=:all:", "--target", name, "-r", asked],
            check=True, capture_output=True, text=True,
        )  # fmt: skip
        made = json.loads(said.read_text())["install"]
    found = {one["metadata"]["name"]: one["download_info"]["archive_info"]["hashes"]["sha256"] for one in made}
    return {re.sub(r"[-_.]+", "-", package).lower(): digest for package, digest in found.items()}


def everywhere(needs: list[str], python: str, machine: str) -> dict[str, str]:
    """The same; where a package has no file for a machine the others are asked for one by one, and it is told."""
    try:
        return hashes(needs, python, MACHINES[machine])
    except subprocess.CalledProcessError:
        found: dict[str, str] = {}
        for need in needs:
            try:
                found.update(hashes([need], python, MACHINES[machine]))
            except subprocess.CalledProcessError:
                print(f"  {need} has no file for Python {python} on {machine}")
        return found


def main() -> None:
    for lock in (HERE / "run.lock", HERE / "dev.lock"):
        lines = lock.read_text().splitlines()
        needs = [line.removesuffix("\\").strip() for line in lines if "==" in line]
        known: dict[str, set[str]] = {}
        for line in lines:
            if "==" in line:
                package = re.sub(r"[-_.]+", "-", line.partition("==")[0]).lower()
            elif "--hash" in line:
                known.setdefault(package, set())  # those of older versions go
        for machine in MACHINES:
            for python in PYTHONS:
                print(f"{lock.name}: Python {python}, {machine}", flush=True)
                for package, digest in everywhere(needs, python, machine).items():
                    known[package].add(digest)
        text = [line for line in lines if line.startswith("#")]
        for need in needs:
            package = re.sub(r"[-_.]+", "-", need.partition("==")[0]).lower()
            text.append(" \\\n".join([need, *(f"    --hash=sha256:{digest}" for digest in sorted(known[package]))]))
        lock.write_text("\n".join(text) + "\n")


if __name__ == "__main__":
    main()
