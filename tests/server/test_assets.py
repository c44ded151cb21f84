"""What a page is made of is sent in few bytes, and once."""

import gzip

import pytest
from django.test import Client

from errant_gust.core.home import shipped

ASSETS = shipped("web") / "assets"
THREE = "WebGLRenderer"  # of the library that draws the view


@pytest.fixture
def client():
    return Client()


def sent(client, path, **headers):
    answer = client.get(path, headers=headers)
    return answer, b"".join(answer.streaming_content) if answer.streaming else answer.content


def test_scripts_and_styles_come_compressed_and_are_kept_for_good(client):
    whole = max(ASSETS.glob("*.js"), key=lambda p: p.stat().st_size)
    plain, body = sent(client, f"/assets/{whole.name}")
    assert body == whole.read_bytes()
    assert "immutable" in plain["Cache-Control"]
    for encoding in ("gzip", "br"):
        packed, less = sent(client, f"/assets/{whole.name}", accept_encoding=encoding)
        assert packed["Content-Encoding"] == encoding
        assert len(less) < 0.4 * len(body)
        if encoding == "gzip":
            assert gzip.decompress(less) == body
    assert sent(client, "/")[0]["Cache-Control"] == "no-cache", "the page that names them is asked for each time"


def test_what_draws_is_loaded_where_there_is_a_view_only():
    """Who looks at studies, runs, deliveries or the handbook loads none of it."""
    drawing = {p.name for p in ASSETS.glob("*.js") if THREE in p.read_text()}
    assert drawing
    reached, new = set(), set(drawing)
    while new:
        reached |= new
        new = {p.name for p in ASSETS.glob("*.js") for n in new if f'from"./{n}"' in p.read_text()} - reached
    views = {p.name.partition("-")[0] for p in ASSETS.glob("*View-*.js")}
    assert len(views) >= 6
    assert {name.partition("-")[0] for name in reached if "View" in name} <= {"DeskView", "CompareView"}
