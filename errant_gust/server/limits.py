"""How large a request may be, known before it is read: what is larger is refused as it comes."""

import re
from collections.abc import Callable
from urllib.parse import parse_qs

from errant_gust.core.geometry.mesh import MAX_BYTES
from errant_gust.core.looking.flipbook import MOST_BYTES
from errant_gust.server import study_files

USUAL = 12 << 20
"""Bytes of a request with a document or less in it."""
WRAPPING = 1 << 20
"""Bytes that forms put around files."""


def _of_a_file(query: dict[str, list[str]]) -> int:
    sort = query.get("sort", ["mesh"])[0]
    return study_files.SORTS[sort][1] if sort in study_files.SORTS else USUAL


LIMITS: list[tuple[str, Callable[[dict[str, list[str]]], int]]] = [
    (r"/api/studies/[^/]+/flipbooks/[^/]+/frames/[^/]+", lambda query: MOST_BYTES),
    (r"/api/studies/[^/]+/meshes", lambda query: MAX_BYTES),
    (r"/api/studies/[^/]+/files", _of_a_file),
    (r"/api/studies/[^/]+/scenes", lambda query: study_files.MOST_OF_A_SEQUENCE),
    (r"/api/archives", lambda query: study_files.ARCHIVE_MOST),
]


def most_of(path: str, query: str) -> int:
    """Bytes of a request at most."""
    for pattern, most in LIMITS:
        if re.fullmatch(pattern, path):
            return most(parse_qs(query)) + WRAPPING
    return USUAL
