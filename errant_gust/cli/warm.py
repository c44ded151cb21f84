"""`python -m errant_gust.cli.warm` compiles all kernels ahead, for the Numba that commands and server use; with the
name of a part, only that, as long as whoever began it holds its input open."""

import os
import sys
import threading

from errant_gust.core.warm import PARTS, compile_all, ensure


def _ends_with_its_parent() -> None:
    """A compiler cannot be interrupted; what it has written is kept."""

    def wait() -> None:
        os.read(0, 1)
        os._exit(1)

    threading.Thread(target=wait, daemon=True).start()


if __name__ == "__main__":
    if sys.argv[1:]:
        _ends_with_its_parent()
        os.nice(5)  # pages and their server come first
        compile_all(PARTS if sys.argv[1] == "all" else sys.argv[1:])
    else:
        ensure()
