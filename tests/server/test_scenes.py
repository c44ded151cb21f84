"""Scenes through the server: what a file does not say is asked with pictures, and kept when it was answered."""

import base64
import io

import numpy as np
import pytest
from django.core.files.uploadedfile import SimpleUploadedFile
from django.test import Client
from PIL import Image

from errant_gust.core.geometry.mesh import read_mesh
from errant_gust.server import revisions, study_files
from tests.core.test_scenes import obj, usd
from tests.server.test_api import api, study  # noqa: F401

pytestmark = pytest.mark.django_db(transaction=True)


def send(study, path, status=200, **said):  # noqa: F811
    paths = path if isinstance(path, list) else [path]
    files = [SimpleUploadedFile(p.name, p.read_bytes()) for p in paths]
    query = "&".join(f"{k}={v}" for k, v in said.items())
    sent = Client(headers={"X-Errant-Gust": "1"}).post(f"/api/studies/{study['key']}/scenes?{query}", {"file": files})
    assert sent.status_code == status, sent.content
    return sent.json()


def kept(study):  # noqa: F811
    folder = revisions.folder(study["key"]) / "assets"
    return sorted(p.name for p in folder.iterdir()) if folder.is_dir() else []


def test_what_is_not_said_is_asked_and_then_kept(study, tmp_path):  # noqa: F811
    before = kept(study)
    asked = send(study, obj(tmp_path / "crate.obj"))
    assert (asked["asks"], asked["size"], kept(study)) == (["up", "unit"], 1.0, before)
    pictures = [Image.open(io.BytesIO(base64.b64decode(asked["pictures"][u]))) for u in ("Z", "Y")]
    assert {p.size for p in pictures} == {(240, 200)}
    assert send(study, obj(tmp_path / "crate.obj"), up="Y")["asks"] == ["unit"]
    made = send(study, obj(tmp_path / "crate.obj"), up="Y", unit="cm")
    assert (made["asks"], made["files"], made["shapes"][0]["kind"]) == ([], ["crate.ply"], "mesh")
    mesh = read_mesh(revisions.folder(study["key"]) / "assets" / "crate.ply")
    np.testing.assert_allclose(mesh.upper - mesh.lower, 0.01, atol=1e-6)


def test_a_stage_that_says_all_is_kept_at_once_and_a_broken_one_leaves_nothing(study, tmp_path):  # noqa: F811
    others = kept(study)
    made = send(study, usd(tmp_path / "prop.usdc", last=6))
    assert (made["asks"], made["frames"]) == ([], [1, 6])
    assert made["shapes"] == [{"name": "Prop", "kind": "mesh", "params": {"file": "prop.0001.ply", "sequence": True}}]
    before = kept(study)
    assert [n for n in before if n not in others] == [f"prop.{n:04d}.ply" for n in range(1, 7)]
    (tmp_path / "bad.usda").write_text("#usda 1.0\n( subLayers = [@../x.usda@] )\n")
    assert "refers to another file" in send(study, tmp_path / "bad.usda", 422)["message"]
    (tmp_path / "a.fbx").write_text("x")
    assert "is not a scene format" in send(study, tmp_path / "a.fbx", 422)["message"]
    assert kept(study) == before


def test_a_mesh_file_a_frame_comes_in_at_once_and_strangers_are_told(study, tmp_path, monkeypatch):  # noqa: F811
    before = kept(study)
    frames = [obj(tmp_path / f"drop.{n:04d}.obj", n) for n in (7, 3, 4)]
    other = obj(tmp_path / "crate.obj")
    said = send(study, [*frames, other], 422)["message"]
    assert said.startswith("crate.obj: is no frame of the sequence of drop_0007.obj; import one scene at a time")
    (tmp_path / "drop_0003.obj").write_bytes(frames[1].read_bytes())
    assert "is there twice" in send(study, [*frames, tmp_path / "drop_0003.obj"], 422)["message"]
    asked = send(study, frames)
    assert (asked["asks"], asked["frames"], kept(study)) == (["up", "unit"], [3, 7], before)
    made = send(study, frames, up="Z", unit="m")
    assert made["files"] == [f"drop.{n:04d}.ply" for n in (3, 4, 7)]
    assert made["notes"] == ["2 frames are missing (5, 6): the one before each is held"]
    assert made["shapes"][0]["params"] == {"file": "drop.0003.ply", "sequence": True}
    assets = revisions.folder(study["key"]) / "assets"
    assert [read_mesh(assets / name).lower[0] for name in made["files"]] == [3, 4, 7]
    stood = kept(study)
    monkeypatch.setattr(study_files, "MOST_OF_A_SEQUENCE", 500)
    assert "is larger than" in send(study, frames, 422, up="Z", unit="m")["message"]
    assert kept(study) == stood, "nothing is left of an upload that was refused"
