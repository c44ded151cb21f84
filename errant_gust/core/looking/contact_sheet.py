"""Pictures of several runs in one: the same frame, seen from the same place, with what tells them apart."""

from dataclasses import dataclass

from PIL import Image, ImageDraw, ImageFont

from errant_gust.core.flows.results import Result
from errant_gust.core.pictures.camera import USUAL, View
from errant_gust.core.pictures.stage import Stage
from errant_gust.core.pictures.taking import boxes_of, picture

WORDS = 34  # pixels under each picture
INK, PAPER = (22, 35, 59), (245, 240, 230)


@dataclass(frozen=True)
class Tile:
    """A run on the sheet, its result, and two lines of words."""

    stage: Stage
    result: Result
    name: str
    words: str


def contact_sheet(tiles: list[Tile], frame: int, size: tuple[int, int] = (240, 150), view: View = USUAL) -> Image.Image:
    """All tiles in rows, from one side and one box that holds what every one of them shows on the frame."""
    box, ends = boxes_of([(t.stage, t.result) for t in tiles], [frame])
    width, height = size
    columns = max(1, min(len(tiles), round((len(tiles) * 1.6) ** 0.5)))
    rows = -(-len(tiles) // columns)
    sheet = Image.new("RGB", (columns * (width + 8) + 8, rows * (height + WORDS + 8) + 8), PAPER)
    draw, font = ImageDraw.Draw(sheet), ImageFont.load_default(size=12)
    for n, tile in enumerate(tiles):
        x, y = 8 + (n % columns) * (width + 8), 8 + (n // columns) * (height + WORDS + 8)
        if frame in tile.stage.store.frames():
            pixels = picture(tile.stage, frame, size, view, result=tile.result, box=box, ends=ends)
            sheet.paste(Image.fromarray(pixels), (x, y))
        else:
            draw.rectangle((x, y, x + width - 1, y + height - 1), outline=INK)
            draw.text((x + 8, y + 8), "no such frame", INK, font)
        draw.text((x, y + height + 2), tile.name[:40], INK, font)
        draw.text((x, y + height + 17), tile.words[:44], (85, 96, 122), font)
    return sheet
