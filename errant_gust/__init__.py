"""Errant Gust: voxel velocity, scalar and noise fields that carry particles and steer simulations.

    import errant_gust as gust

    study = gust.open_study("harbour_gust.gust.json")
    velocity = gust.field(study, "wind").sample(places, time=0.5)

What is named here is loaded when it is first used; docs/python.md tells of all of it.
"""

import sys
from importlib import import_module
from typing import TYPE_CHECKING, Any

NEEDS = (3, 11)
"""The oldest Python that will do."""
if sys.version_info[:2] < NEEDS:
    needs, here = (".".join(map(str, version[:2])) for version in (NEEDS, sys.version_info))
    raise ImportError(f"errant_gust needs Python {needs} or newer, and this is {here}")

__version__ = "0.1.0"

if TYPE_CHECKING:
    from errant_gust.core.scripting import (
        GustError,
        Options,
        Run,
        bake,
        check,
        compare,
        deliver,
        estimate,
        field,
        lane,
        new_study,
        open_run,
        open_study,
        run,
        save_study,
        step,
        verify,
    )
    from errant_gust.tuning import tune

__all__ = [
    "GustError", "Options", "Run", "bake", "check", "compare", "deliver", "estimate", "field", "lane", "new_study",
    "open_run", "open_study", "run", "save_study", "step", "tune", "verify",
]  # fmt: skip


def __getattr__(name: str) -> Any:
    if name not in __all__:
        raise AttributeError(f"module 'errant_gust' has no attribute '{name}'")
    return getattr(import_module("errant_gust.tuning" if name == "tune" else "errant_gust.core.scripting"), name)


def __dir__() -> list[str]:
    return sorted([*globals(), *__all__])
