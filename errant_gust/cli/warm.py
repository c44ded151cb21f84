"""`python -m errant_gust.cli.warm` compiles all kernels ahead, for the Numba that commands and server use; with names
of parts, only those."""

import sys

from errant_gust.core.warm import compile_all, ensure

if __name__ == "__main__":
    if sys.argv[1:]:
        compile_all(sys.argv[1:])
    else:
        ensure()
