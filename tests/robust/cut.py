"""`python -m tests.robust.cut PLACE MOST WORDS…`: a command is killed before and after its moves in the file system,
one of them at a time, and given again. `{to}` in its words is a folder of each try. Prints a line of JSON: how many
moves there are, at which it was killed, and what was left each time once the same command had been given again.

Each try is a fork of a process that has loaded everything and begun no thread.
"""

import hashlib
import itertools
import json
import os
import shutil
import signal
import sys
from pathlib import Path

import errant_gust.cli
import errant_gust.core.demos.by_name
import errant_gust.core.runs.compute
import errant_gust.core.runs.delivery.deliver
import errant_gust.core.runs.export  # noqa: F401
from errant_gust.cli.main import main

UNLIKE = ("log.txt", "progress.json", "zarr.json")
"""What tells when, where or how fast something was done; the head of a frame's arrays does."""
MOVES = ("replace", "rename", "link", "unlink", "rmdir", "mkdir", "fsync", "truncate")


def watched(cut, counted):
    """Have the moves of this process counted, and end it at one of them: before it (even) or after it (odd)."""
    numbers = itertools.count(0, 2)  # of moves of all threads

    def around(plain):
        def move(*args, **more):
            mine = next(numbers)
            counted(mine + 2)
            if cut == mine:
                os.kill(os.getpid(), signal.SIGKILL)
            try:
                return plain(*args, **more)
            finally:  # what is refused is a move too: to take away what is not there
                if cut == mine + 1:
                    os.kill(os.getpid(), signal.SIGKILL)

        return move

    for name in MOVES:
        setattr(os, name, around(getattr(os, name)))


def tried(words, to, cut, said):
    """How the command ended, (exit code or −signal, moves), in a process of its own."""
    read, write = os.pipe()
    pid = os.fork()
    if pid == 0:
        os.close(read)
        with said.open("a") as file:
            os.dup2(file.fileno(), 1)
            os.dup2(file.fileno(), 2)
        moves = [0]

        def counted(n):
            moves[0] = n

        watched(cut, counted)
        sys.argv = ["gust", *(w.replace("{to}", str(to)) for w in words)]
        code = 1
        try:
            main()
        except SystemExit as end:
            code = end.code or 0
        finally:
            sys.stdout.flush()
            sys.stderr.flush()
            os.write(write, str(moves[0]).encode())
            os._exit(code)
    os.close(write)
    with os.fdopen(read) as pipe:
        moves = pipe.read()
    _, status = os.waitpid(pid, 0)
    return os.waitstatus_to_exitcode(status), int(moves or 0)


def content(folder):
    """Every file in it by its name and bytes, but for those that tell when something was done."""
    found = {}
    for path in sorted(folder.rglob("*")):
        name = str(path.relative_to(folder))
        if path.is_file() and path.name not in UNLIKE and ".lease" not in path.name:
            found[name] = hashlib.sha256(path.read_bytes()).hexdigest()[:12]
    return found


def report(place, most, words):
    """What came of it all."""
    said = place / "said.txt"
    to = place / "to"  # always the same, as some of it is written down
    to.mkdir()
    for _ in range(2):  # what is made once for all is made by the first
        shutil.rmtree(to)
        to.mkdir()
        code, moves = tried(words, to, None, said)
        assert code == 0, said.read_text()
    right = content(to)
    shutil.rmtree(to)
    points = range(moves) if moves <= most else sorted({*range(3), *range(moves - 3, moves),
                                                        *(round(i * moves / most) for i in range(most))})  # fmt: skip
    rows = []
    for cut in points:
        to.mkdir()
        ended, _ = tried(words, to, cut, said)
        again, _ = tried(words, to, None, said)
        left = content(to)
        rows.append({
            "cut": cut, "ended": ended, "again": again,
            "more": sorted(set(left) - set(right))[:5], "less": sorted(set(right) - set(left))[:5],
            "other": [n for n in right if n in left and left[n] != right[n]][:5],
        })  # fmt: skip
        shutil.rmtree(to)
    return {"moves": moves, "files": len(right), "rows": rows, "said": said.read_text()[-2000:]}


if __name__ == "__main__":
    print(json.dumps(report(Path(sys.argv[1]), int(sys.argv[2]), sys.argv[3:])), flush=True)
