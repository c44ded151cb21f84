"""`python -m errant_gust.cli.warm` compiles all kernels ahead, for the Numba that commands and server use."""

from errant_gust.core.warm import ensure

if __name__ == "__main__":
    ensure()
