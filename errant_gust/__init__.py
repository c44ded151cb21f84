"""Errant Gust: voxel velocity, scalar and noise fields that carry particles and steer simulations.

    import errant_gust as gust

    study = gust.open_study("harbour_gust.gust.json")
    velocity = gust.field(study, "wind").sample(places, time=0.5)

What is named here is loaded when it is first used; docs/python.md tells of all of it.
"""

from typing import TYPE_CHECKING, Any

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

__all__ = [
    "GustError", "Options", "Run", "bake", "check", "compare", "deliver", "estimate", "field", "lane", "new_study",
    "open_run", "open_study", "run", "save_study", "step", "verify",
]  # fmt: skip


def __getattr__(name: str) -> Any:
    if name not in __all__:
        raise AttributeError(f"module 'errant_gust' has no attribute '{name}'")
    from errant_gust.core import scripting

    return getattr(scripting, name)


def __dir__() -> list[str]:
    return sorted([*globals(), *__all__])
