"""Flat outlines from SVG files and from text, and brightness from images: all bounded in size and in what they may
hold."""

import io
import re
from functools import lru_cache
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from errant_gust.core.child import parsed_apart
from errant_gust.core.errors import FileError

Array = NDArray[Any]
FONT = Path(__file__).parent / "fonts" / "plex_sans_600.woff"
MOST_BYTES = 4 << 20
MOST_PIXELS = 24_000_000
LONGEST = 20
"""Seconds that a file is read at most."""
MOST_USES = 1000
SUFFIXES = (".svg", ".png", ".jpg", ".jpeg")
UNSAFE = re.compile(
    rb"<!DOCTYPE|<!ENTITY|<script|\bon\w+\s*=|<foreignObject|javascript:|<image|<use[^>]+href\s*=\s*[\"'](?!#)", re.I
)


def read_svg(path: Path) -> list[Array]:
    """Closed and open paths of an SVG file as polylines (n, 2) in its own units, y upward.

    Only shapes are taken; a file with scripts, entities, embedded pictures or outside links is refused.
    """
    data = _bytes(path)
    if data.lower().count(b"<use") > MOST_USES:
        raise FileError(
            f"refers to parts of itself more than {MOST_USES:,} times", where=path.name, fix="export plain paths only"
        )
    found = UNSAFE.search(data)
    if found:
        what = found[0].decode("ascii", "replace").strip()[:20]
        raise FileError(f"holds '{what}', which is not taken", where=path.name, fix="export plain paths only")
    made = parsed_apart("svg_lines", path, path.name, seconds=LONGEST)
    ends = np.cumsum(made["counts"])
    lines = [made["points"][end - count : end] for end, count in zip(ends, made["counts"], strict=True)]
    lines = [line for line in lines if len(line) > 1 and np.isfinite(line).all()]
    if not lines:
        raise FileError("there is no path in it", where=path.name, fix="convert text and pictures to paths")
    return [line * [1, -1] for line in lines]


@lru_cache(maxsize=32)
def text_outline(text: str) -> tuple[Array, ...]:
    """Outlines of a line of text in the shipped font, an em high, beginning at 0; letters it lacks are an error."""
    from fontTools.pens.recordingPen import DecomposingRecordingPen
    from fontTools.ttLib import TTFont

    if not text.strip():
        raise FileError("there is no text", where="text", fix="type at least one letter")
    if len(text) > 80:
        raise FileError(f"{len(text)} letters are too many", where="text", fix="at most 80")
    font = TTFont(FONT, lazy=True)
    glyphs, names, em = font.getGlyphSet(), font.getBestCmap(), float(font["head"].unitsPerEm)
    lines: list[Array] = []
    x = 0.0
    for letter in text:
        name = names.get(ord(letter))
        if name is None:
            raise FileError(
                f"the font has no '{letter}'", where="text", fix="Latin letters, digits and signs are there"
            )
        pen = DecomposingRecordingPen(glyphs)
        glyphs[name].draw(pen)
        lines += [(np.array(line) + np.array([x, 0])) / em for line in _drawn(pen.value)]
        x += glyphs[name].width
    return tuple(lines)


def _drawn(commands: Any) -> list[list[tuple[float, float]]]:
    lines: list[list[tuple[float, float]]] = []
    for what, args in commands:
        if what == "moveTo":
            lines.append([args[0]])
        elif what == "lineTo":
            lines[-1].append(args[0])
        elif what == "qCurveTo":
            lines[-1] += _quadratics(lines[-1][-1], args)
        elif what == "curveTo":
            lines[-1] += _cubic(lines[-1][-1], *args)
        elif what == "closePath":
            lines[-1].append(lines[-1][0])
    return [line for line in lines if len(line) > 2]


def _quadratics(start: tuple[float, float], args: Any) -> list[tuple[float, float]]:
    points: list[tuple[float, float]] = []
    controls, here = list(args), np.array(start, float)
    for i, control in enumerate(controls[:-1]):
        c = np.array(control, float)
        last = i == len(controls) - 2
        end = np.array(controls[-1], float) if last else 0.5 * (c + np.array(controls[i + 1], float))
        for t in np.linspace(0, 1, 9)[1:]:
            p = (1 - t) ** 2 * here + 2 * t * (1 - t) * c + t * t * end
            points.append((float(p[0]), float(p[1])))
        here = end
    return points


def _cubic(start: Any, a: Any, b: Any, end: Any) -> list[tuple[float, float]]:
    p = [np.array(q, float) for q in (start, a, b, end)]
    made = []
    for t in np.linspace(0, 1, 13)[1:]:
        q = (1 - t) ** 3 * p[0] + 3 * t * (1 - t) ** 2 * p[1] + 3 * t * t * (1 - t) * p[2] + t**3 * p[3]
        made.append((float(q[0]), float(q[1])))
    return made


def read_brightness(path: Path) -> Array:
    """Brightness (rows from the bottom, columns) float32 in 0 … 1 of an image, transparent parts dark; at most 1024
    wide. Raises FileError for what is no image, or too large."""
    from PIL import Image

    data = _bytes(path, 32 << 20)
    try:
        with Image.open(io.BytesIO(data), formats=["PNG", "JPEG"]) as image:
            if image.width * image.height > MOST_PIXELS:
                raise FileError(
                    f"{image.width} × {image.height} pixels are too many", where=path.name, fix="at most 24 million"
                )
            image.thumbnail((1024, 1024))
            rgba = np.asarray(image.convert("RGBA"), np.float32) / 255
    except FileError:
        raise
    except Exception as error:  # any fault of a decoder on a broken file
        raise FileError(
            f"cannot be read as an image ({str(error)[:80] or type(error).__name__})", where=path.name
        ) from None
    grey = rgba[..., :3] @ np.array([0.2126, 0.7152, 0.0722], np.float32)
    return np.ascontiguousarray((grey * rgba[..., 3])[::-1])


def _bytes(path: Path, most: int = MOST_BYTES) -> bytes:
    size = path.stat().st_size
    if size > most:
        raise FileError(f"{size >> 20} MiB is too large", where=path.name, fix=f"at most {most >> 20} MiB")
    if size == 0:
        raise FileError("the file is empty", where=path.name)
    return path.read_bytes()
