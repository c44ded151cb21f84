"""Files of a folder sent as one zip while they are read: nothing of it is kept in memory or on the disk."""

import asyncio
from collections.abc import AsyncIterator
from pathlib import Path

from django.http import StreamingHttpResponse
from django.utils.http import content_disposition_header

from errant_gust.core.files.zips import pieces_of_zip


def zip_of(folder: Path, files: list[str], name: str) -> StreamingHttpResponse:
    pieces = pieces_of_zip(folder, files)

    async def sent() -> AsyncIterator[bytes]:
        while (piece := await asyncio.to_thread(next, pieces, None)) is not None:
            yield piece

    told = {"Content-Disposition": content_disposition_header(True, name) or ""}
    return StreamingHttpResponse(sent(), content_type="application/zip", headers=told)
