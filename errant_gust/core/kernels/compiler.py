"""The one place where Numba is configured: compile flags and the disk cache of compiled kernels.

A cached caller does not notice a changed callee, so the cache folder is named after a hash of every kernel's source,
the Numba version and the CPU: any change means a fresh folder, never a stale kernel.
"""

import ctypes
import hashlib
import os
import platform
from pathlib import Path
from typing import Any

import llvmlite.binding

from errant_gust.core.home import home


def source_hash() -> str:
    """Hash of everything a compiled kernel depends on (16 hex digits)."""
    digest = hashlib.sha256()
    for path in sorted(Path(__file__).parent.glob("*.py")):
        digest.update(path.read_bytes())
    digest.update(platform.machine().encode())
    digest.update(_cpu_model().encode())
    return digest.hexdigest()[:16]


def _cpu_model() -> str:
    try:
        text = Path("/proc/cpuinfo").read_text()
    except OSError:
        return platform.processor()
    return "".join(line for line in text.splitlines()[:30] if line.startswith(("model name", "flags")))


def choose_vectors() -> None:
    """Let LLVM use the full vector width of the CPU: it prefers half of it, which costs the noise kernels 40 %."""
    if "NUMBA_CPU_FEATURES" in os.environ or "NUMBA_CPU_NAME" in os.environ:
        return
    features = llvmlite.binding.get_host_cpu_features().flatten()
    if "+avx512f" in features.split(","):
        os.environ["NUMBA_CPU_NAME"] = llvmlite.binding.get_host_cpu_name()
        os.environ["NUMBA_CPU_FEATURES"] = features + ",-prefer-256-bit"


def keep_pages() -> None:
    """Let glibc keep freed blocks: a fresh page costs more here than a block of noise, and blocks come and go."""
    try:
        mallopt = ctypes.CDLL("libc.so.6").mallopt
    except (OSError, AttributeError):
        return
    mallopt(-3, 32 << 20)  # M_MMAP_THRESHOLD
    mallopt(-1, 256 << 20)  # M_TRIM_THRESHOLD


keep_pages()
os.environ.setdefault("NUMBA_CACHE_DIR", str(home() / "kernels" / source_hash()))
choose_vectors()

import numba  # noqa: E402  (the cache folder must be chosen before Numba reads it)

FAST = {"contract", "nsz", "arcp"}  # keeps NaN and infinity meaningful, unlike full fastmath


def kernel(function: Any) -> Any:
    """Compile a loop over arrays: releases the GIL, cached on disk, IEEE division."""
    return numba.njit(nogil=True, cache=True, fastmath=FAST, error_model="numpy")(function)


def inline(function: Any) -> Any:
    """Compile a helper that is always inlined into its kernel, so that loops around it vectorise."""
    return numba.njit(nogil=True, fastmath=FAST, error_model="numpy", forceinline=True)(function)
