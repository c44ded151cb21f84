"""Which steps there are, by what sort of lane they stand in: `field`, or the id of a kind of flow.

Classes put themselves in as they are defined; nobody keeps a list.
"""

from errant_gust.core.errors import StudyError, nearest
from errant_gust.core.study.parameters import Parameters

FIELD = "field"
_steps: dict[str, dict[str, type[Parameters]]] = {FIELD: {}}
_shapes: dict[str, type[Parameters]] = {}


def register_shape(cls: type[Parameters]) -> None:
    """Put a kind of shape in, under its id."""
    _shapes[cls.id] = cls


def shape_class(kind: str) -> type[Parameters] | None:
    """The class of a kind of shape, if there is one."""
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
    return dict(_steps.get(sort, {}))


def flow_kinds() -> list[str]:
    """Ids of the kinds of flow."""
    return [sort for sort in _steps if sort != FIELD]


def step_class(op: str, sort: str, where: str) -> type[Parameters]:
    """The class of a step, or an error that names the nearest. Raises StudyError."""
    known = _steps.get(sort, {})
    if op not in known:
        raise StudyError(f"'{op}' is not a step of a {sort} lane", where=f"{where}.op", fix=nearest(op, known))
    return known[op]
