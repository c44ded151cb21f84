"""What a process that is ours alone may change of itself; a host that imports the package keeps its own ways."""

import ctypes
import os
import sys
import warnings

COMPILER = "errant_gust.core.kernels.compiler"
_asked = False


def tune() -> None:
    """Make this process quick at what Errant Gust does; the commands and the server do so when they begin.

    Freed blocks of up to 32 MB are kept by the allocator (glibc), and Numba compiles for the full vector width of the
    CPU, all functions of the process. Call it before a kernel is defined (before anything else of the package is used);
    later it warns, and a second call changes nothing. Without it everything works and gives the same values; fields
    take up to 40 % longer on CPUs with AVX-512.
    """
    global _asked
    _keep_pages()
    _asked = True
    if COMPILER in sys.modules:
        choose_vectors()


def choose_vectors() -> None:
    """What `tune` does once kernels are about to be defined: a command that needs none does not load a compiler.

    LLVM prefers half of the vector width of such a CPU, which costs the noise kernels 40 %."""
    if not _asked:
        return
    import llvmlite.binding

    if "NUMBA_CPU_FEATURES" in os.environ or "NUMBA_CPU_NAME" in os.environ:
        return
    features = llvmlite.binding.get_host_cpu_features().flatten()
    if "+avx512f" in features.split(","):
        if COMPILER in sys.modules:
            warnings.warn("tune() came too late: kernels are defined already", RuntimeWarning, stacklevel=3)
            return
        os.environ["NUMBA_CPU_NAME"] = llvmlite.binding.get_host_cpu_name()
        os.environ["NUMBA_CPU_FEATURES"] = features + ",-prefer-256-bit"
        if "numba" in sys.modules:
            sys.modules["numba"].config.reload_config()


def _keep_pages() -> None:
    """A fresh page costs more than a block of noise, and blocks come and go."""
    try:
        mallopt = ctypes.CDLL("libc.so.6").mallopt
    except (OSError, AttributeError):
        return
    mallopt(-3, 32 << 20)  # M_MMAP_THRESHOLD
    mallopt(-1, 256 << 20)  # M_TRIM_THRESHOLD
