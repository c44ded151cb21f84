"""Pictures as a film: H.264 in MP4, which browsers and players show."""

from collections.abc import Iterable
from fractions import Fraction
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from errant_gust.core.errors import FileError

QUALITY = 16
"""Constant rate factor: differences from the pictures are hard to see."""


def write_movie(path: Path, pictures: Iterable[NDArray[np.uint8]], fps: float) -> int:
    """Write pictures (height, width, 3) uint8 one after the other; how many there were.

    Colours are BT.709, 4:2:0; sides that are odd lose their last line. The file can be played while it is loaded.
    Raises FileError for no pictures, for one of another size, or for a rate that no film has.
    """
    import av

    if not 0.1 <= fps <= 240:
        raise FileError(f"{fps:g} frames a second", where=path.name, fix="right would be 24")
    part = path.with_name(f".{path.stem}.part{path.suffix}")
    count, shape = 0, (0, 0)
    try:
        with av.open(str(part), "w", format="mp4", options={"movflags": "faststart"}) as file:
            stream: Any = None
            for picture in pictures:
                height, width = picture.shape[0] // 2 * 2, picture.shape[1] // 2 * 2
                if stream is None:
                    shape = (height, width)
                    stream = file.add_stream("libx264", rate=Fraction(fps).limit_denominator(1000))
                    stream.width, stream.height, stream.pix_fmt = width, height, "yuv420p"
                    stream.options = {"crf": str(QUALITY), "preset": "fast", "threads": "2"}
                    context = stream.codec_context
                    context.color_primaries = context.color_trc = context.colorspace = 1  # BT.709
                    context.color_range = 1
                elif (height, width) != shape:
                    raise FileError(
                        f"picture {count + 1} has another size", where=path.name, fix=f"{shape[1]} × {shape[0]} pixels"
                    )
                frame = av.VideoFrame.from_ndarray(np.ascontiguousarray(picture[:height, :width]), format="rgb24")
                frame = frame.reformat(format="yuv420p", dst_colorspace=1)
                for packet in stream.encode(frame):
                    file.mux(packet)
                count += 1
            if stream is None:
                raise FileError("no pictures", where=path.name, fix="at least one")
            for packet in stream.encode():
                file.mux(packet)
        part.replace(path)
    finally:
        part.unlink(missing_ok=True)
    return count
