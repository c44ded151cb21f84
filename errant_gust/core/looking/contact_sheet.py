"""Pictures of several runs in one: the same frame, seen from the same place, with what tells them apart."""

from dataclasses import dataclass

import numpy as np
from PIL import Image, ImageDraw, ImageFont

from errant_gust.core.flows.results import Result
from errant_gust.core.looking.thumbnail import FRONT, View, box_of, fastest_of, thumbnail
from errant_gust.core.runs.frame_store import RunStore

WORDS = 34  # pixels under each picture
INK, PAPER = (22, 35, 59), (245, 240, 230)


@dataclass(frozen=True)
class Tile:
    """A run on the sheet: its store, its result, and two lines of words."""

    store: RunStore
    result: Result
    name: str
    words: str


def contact_sheet(tiles: list[Tile], frame: int, size: tuple[int, int] = (240, 150), view: View = FRONT) -> Image.Image:
    """All tiles in rows, from one side and one box that holds what every one of them shows on the frame."""
    boxes = [b for t in tiles if frame in t.store.frames() and (b := box_of(t.store, frame, t.result)) is not None]
    box = (np.min([b[0] for b in boxes], axis=0), np.max([b[1] for b in boxes], axis=0)) if boxes else None
    fastest = max([fastest_of(t.store, frame, t.result) for t in tiles if frame in t.store.frames()], default=0.0)
    width, height = size
    columns = max(1, min(len(tiles), round((len(tiles) * 1.6) ** 0.5)))
    rows = -(-len(tiles) // columns)
    sheet = Image.new("RGB", (columns * (width + 8) + 8, rows * (height + WORDS + 8) + 8), PAPER)
    draw, font = ImageDraw.Draw(sheet), ImageFont.load_default(size=12)
    for n, tile in enumerate(tiles):
        x, y = 8 + (n % columns) * (width + 8), 8 + (n // columns) * (height + WORDS + 8)
        if frame in tile.store.frames():
            sheet.paste(Image.fromarray(thumbnail(tile.store, frame, tile.result, size, box, view, fastest)), (x, y))
        else:
            draw.rectangle((x, y, x + width - 1, y + height - 1), outline=INK)
            draw.text((x + 8, y + 8), "no such frame", INK, font)
        draw.text((x, y + height + 2), tile.name[:40], INK, font)
        draw.text((x, y + height + 17), tile.words[:44], (85, 96, 122), font)
    return sheet
