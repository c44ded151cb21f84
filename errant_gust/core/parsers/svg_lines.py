"""Paths of an SVG file as polylines by svgelements: `svg_lines.py FILE ENDING OUT.npz`."""

import io
import sys

import numpy as np
from svgelements import SVG, Close, Line, Move, Path, Shape

MOST_POINTS = 60_000


def flattened(path: Path) -> list[np.ndarray]:
    """A subpath as a polyline; curves in up to 24 straight pieces."""
    points: list[tuple[float, float]] = []
    for segment in path:
        if isinstance(segment, Move):
            if segment.end is not None:
                points = [(segment.end.x, segment.end.y)]
        elif isinstance(segment, Line | Close):
            if segment.end is not None:
                points.append((segment.end.x, segment.end.y))
        else:
            points += [(p.x, p.y) for p in (segment.point(t) for t in np.linspace(0, 1, 25)[1:])]
    return [np.array(points, float)] if len(points) > 1 else []


def main(path: str, ending: str, out: str) -> None:
    """Read a file and write its lines to `out`; what is wrong with it is said by the exit."""
    with open(path, "rb") as file:
        parsed = SVG.parse(io.BytesIO(file.read()), reify=True)
    lines: list[np.ndarray] = []
    total = 0
    for element in parsed.elements():
        if not isinstance(element, Shape):
            continue
        for part in Path(element).as_subpaths():
            found = flattened(Path(part))
            total += sum(len(line) for line in found)
            if total > MOST_POINTS:
                raise SystemExit(f"!has more than {MOST_POINTS:,} segments")
            lines += found
    joined = np.concatenate(lines) if lines else np.empty((0, 2))
    np.savez(out, points=joined, counts=np.array([len(line) for line in lines], np.int64))


if __name__ == "__main__":
    main(*sys.argv[1:])
