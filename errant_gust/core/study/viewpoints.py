"""Viewpoints that are saved in a study, and the camera that goes through those which are tied to frames."""

from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np

from errant_gust.core.errors import GustError
from errant_gust.core.study.document import Study

MOST = 100_000
"""Frames of a path at most."""


def viewpoints_of(study: Study) -> tuple[dict[str, Any], ...]:
    """The viewpoints that were saved on a study's Desk."""
    saved = study.looks.get("views", [])
    return tuple(v for v in saved if is_viewpoint(v)) if isinstance(saved, list) else ()


def is_viewpoint(said: Mapping[str, Any]) -> bool:
    """Whether it has a name, a position and a target (3,) of finite numbers, and a whole frame if it is tied to one."""
    try:
        places = np.array([said["position"], said["target"]], float)
        frame = said.get("frame")
        tied = frame is None or (isinstance(frame, int | float) and int(frame) == frame)
        return tied and places.shape == (2, 3) and bool(np.isfinite(places).all()) and isinstance(said["name"], str)
    except (KeyError, TypeError, ValueError, OverflowError):
        return False


def camera_path(views: Sequence[Mapping[str, Any]], first: int, last: int) -> list[dict[str, Any]]:
    """Where the camera is on every frame from `first` to `last`: frame, position, target (m) and parallel.

    Through all `views` that have a `frame`, smoothly (cubic Hermite; slopes by the neighbours, Catmull, Rom 1974), from
    rest to rest, and still before the first and after the last. Of two at one frame the later holds. Empty without any.
    Raises GustError for more than MOST frames.
    """
    keys = {int(v["frame"]): v for v in views if v.get("frame") is not None}
    times = np.array(sorted(keys), np.float64)
    if not keys or last < first:
        return []
    if last - first >= MOST:
        raise GustError(f"{last - first + 1:,} frames", where="frames", fix=f"at most {MOST:,} at a time")
    ends = np.array([[*keys[int(t)]["position"], *keys[int(t)]["target"]] for t in times], np.float64)
    slopes = np.zeros_like(ends)
    slopes[1:-1] = (ends[2:] - ends[:-2]) / (times[2:] - times[:-2])[:, None]
    made = []
    for frame in range(first, last + 1):
        i = int(np.clip(np.searchsorted(times, frame, "right") - 1, 0, len(times) - 1))
        j = min(i + 1, len(times) - 1)
        span = times[j] - times[i]
        s = np.clip((frame - times[i]) / span, 0.0, 1.0) if span else 0.0
        h = s * s * (3 - 2 * s)
        at = ends[i] + h * (ends[j] - ends[i])
        at = at + span * (s * (1 - s) ** 2 * slopes[i] - s * s * (1 - s) * slopes[j])
        parallel = bool(keys[int(times[i])].get("parallel"))
        made.append({"frame": frame, "position": at[:3].tolist(), "target": at[3:].tolist(), "parallel": parallel})
    return made
