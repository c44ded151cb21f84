"""Which steps there are, by what sort of lane they stand in: `field`, or the id of a kind of flow.

Classes put themselves in as they are defined; nobody keeps a list. Whoever asks has all of them loaded first.
"""

from importlib import import_module

from errant_gust.core.errors import StudyError, nearest
from errant_gust.core.study.parameters import Parameters

FIELD = "field"
_steps: dict[str, dict[str, type[Parameters]]] = {FIELD: {}}
_shapes: dict[str, type[Parameters]] = {}


def _all_loaded() -> None:
    """All that puts steps and shapes in is loaded, which takes a second the first time. By name: the document does not
    stand on what is computed; and by the import system, which knows who loads and makes others wait."""
    import_module("errant_gust.core.api")


def register_shape(cls: type[Parameters]) -> None:
    """Put a kind of shape in, under its id."""
    _shapes[cls.id] = cls


def shape_class(kind: str) -> type[Parameters] | None:
    """The class of a kind of shape, if there is one."""
    _all_loaded()
    return _shapes.get(kind)


def register(sort: str, cls: type[Parameters]) -> None:
    """Put a step class in, under its id."""
    _steps.setdefault(sort, {})[cls.id] = cls


def open_kind(sort: str) -> None:
    """Make a sort of lane known that may have no step yet."""
    _steps.setdefault(sort, {})


def forget(sort: str) -> None:
    """Take a sort of lane and its steps away again."""
    _steps.pop(sort, None)


def steps_of(sort: str) -> dict[str, type[Parameters]]:
    """Step classes of a sort of lane by id, in the order in which they were defined."""
    _all_loaded()
    return dict(_steps.get(sort, {}))


def flow_kinds() -> list[str]:
    """Ids of the kinds of flow."""
    _all_loaded()
    return [sort for sort in _steps if sort != FIELD]


def step_class(op: str, sort: str, where: str) -> type[Parameters]:
    """The class of a step, or an error that names the nearest. Raises StudyError."""
    _all_loaded()
    known = _steps.get(sort, {})
    if op not in known:
        raise StudyError(f"'{op}' is not a step of a {sort} lane", where=f"{where}.op", fix=nearest(op, known))
    return known[op]
