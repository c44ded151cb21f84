"""What decoded JSON may hold at all, before anything is made of it: bounded depth, numbers and text to be kept."""

import re
from typing import Any

from errant_gust.core.errors import StudyError

DEEPEST = 40
LARGEST = 2**63
LONGEST = 200_000  # letters of one text
SURROGATE = re.compile("[\ud800-\udfff]")


def check_sound(data: Any, where: str) -> None:
    """StudyError that names the place of what cannot be used."""
    left: list[tuple[Any, str, int]] = [(data, where, 0)]
    while left:
        value, place, depth = left.pop()
        if depth > DEEPEST:
            raise StudyError(f"is nested more than {DEEPEST} deep", where=_short(place), fix="no study is")
        if isinstance(value, dict):
            for key, inner in value.items():
                _text(str(key), place)
                left.append((inner, f"{place}.{key}", depth + 1))
        elif isinstance(value, list):
            left += [(inner, f"{place}.{i}", depth + 1) for i, inner in enumerate(value)]
        elif isinstance(value, str):
            _text(value, place)
        elif isinstance(value, int) and abs(value) > LARGEST:
            raise StudyError("is too large a number", where=_short(place), fix=f"at most {LARGEST:.3g}")


def _text(text: str, place: str) -> None:
    if SURROGATE.search(text):
        raise StudyError("holds half a letter", where=_short(SURROGATE.sub("?", place)), fix="type it again")
    if len(text) > LONGEST:
        raise StudyError(f"is a text of {len(text):,} letters", where=_short(place), fix=f"at most {LONGEST:,}")


def _short(place: str) -> str:
    place = SURROGATE.sub("?", place)
    return place if len(place) <= 120 else f"{place[:60]} … {place[-40:]}"
