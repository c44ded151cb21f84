"""Arrays on the wire: a length, a JSON header, then raw little-endian arrays. Never JSON numbers."""

import json
import struct
from typing import Any

import numpy as np
from django.http import HttpResponse
from numpy.typing import NDArray

Array = NDArray[Any]
MEDIA = "application/x-gust-arrays"


def pack(facts: dict[str, Any], arrays: dict[str, Array]) -> bytes:
    """[u32 header bytes][header, padded to 4][arrays, each padded to 4]; the header lists name, type, shape, offset."""
    listing, blobs, offset = [], [], 0
    for name, array in arrays.items():
        code = {"f": "<f4", "u": "<u4", "i": "<i4"}[array.dtype.kind] if array.dtype.itemsize == 4 else array.dtype.str
        data = np.ascontiguousarray(array).astype(code, copy=False).tobytes()
        listing.append({"name": name, "type": code.lstrip("<|"), "shape": array.shape, "offset": offset})
        data += b"\0" * (-len(data) % 4)
        blobs.append(data)
        offset += len(data)
    head = json.dumps({**facts, "arrays": listing}).encode()
    head += b" " * (-len(head) % 4)
    return struct.pack("<I", len(head)) + head + b"".join(blobs)


def reply(facts: dict[str, Any], arrays: dict[str, Array]) -> HttpResponse:
    return HttpResponse(pack(facts, arrays), content_type=MEDIA)
