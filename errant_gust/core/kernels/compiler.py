"""The one place where Numba is configured: compile flags and the disk cache of compiled kernels.

A cached caller does not notice a changed callee, so the cache folder is named after a hash of every kernel's source
and the CPU: any change means a fresh folder, never a stale kernel. Nothing else of the process is touched: functions
that a host compiles keep their own cache and flags.
"""

import hashlib
import platform
from functools import cache
from pathlib import Path
from typing import Any

import numba
from numba.core.caching import CompileResultCacheImpl, FunctionCache, _CacheLocator
from numba.core.registry import cpu_target

from errant_gust.core.home import compiled

FAST = {"contract", "nsz", "arcp"}  # keeps NaN and infinity meaningful, unlike full fastmath


@cache
def source_hash() -> str:
    """Hash of everything a compiled kernel depends on (16 hex digits)."""
    digest = hashlib.sha256()
    for path in sorted(Path(__file__).parent.glob("*.py")):
        digest.update(path.read_bytes())
    digest.update(f"{platform.machine()} {numba.__version__} {platform.python_version()}".encode())
    digest.update(_cpu_model().encode())
    return digest.hexdigest()[:16]


def _cpu_model() -> str:
    try:
        text = Path("/proc/cpuinfo").read_text()
    except OSError:
        return platform.processor()
    return "".join(line for line in text.splitlines()[:30] if line.startswith(("model name", "flags")))


@cache
def kernels_folder() -> Path:
    """Where these sources' compiled kernels are kept, whichever the home folder is."""
    return compiled() / source_hash()


def target() -> str:
    """What Numba compiles for in this process: kernels that another process compiled are of use only if it is the
    same there. Fixed as soon as the first kernel is defined."""
    return " ".join(str(part) for part in cpu_target.target_context.codegen().magic_tuple())


@cache
def _stamp(file: str) -> str:
    """Hash of the file that a kernel stands in: some stand elsewhere than here, in tests."""
    return hashlib.sha256(Path(file).read_bytes()).hexdigest()


class _Folder(_CacheLocator):
    """Every kernel beside the others, wherever the package is installed: its sources are in the folder's name."""

    def __init__(self, py_func: Any, py_file: str) -> None:
        self.line, self.file = py_func.__code__.co_firstlineno, py_file

    def get_cache_path(self) -> str:
        return str(kernels_folder())

    def get_source_stamp(self) -> str:
        return _stamp(self.file)

    def get_disambiguator(self) -> str:
        return str(self.line)

    @classmethod
    def from_function(cls, py_func: Any, py_file: str) -> "_Folder":
        return cls(py_func, py_file)


class _Compiled(CompileResultCacheImpl):
    _locator_classes = [_Folder]


class _Kept(FunctionCache):
    _impl_class = _Compiled


def kernel(function: Any) -> Any:
    """Compile a loop over arrays: releases the GIL, cached on disk, IEEE division."""
    compiled: Any = numba.njit(nogil=True, fastmath=FAST, error_model="numpy")(function)
    compiled._cache = _Kept(function)  # as `cache=True` does, with a folder of our own
    return compiled


def inline(function: Any) -> Any:
    """Compile a helper that is always inlined into its kernel, so that loops around it vectorise."""
    return numba.njit(nogil=True, fastmath=FAST, error_model="numpy", forceinline=True)(function)
