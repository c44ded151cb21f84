"""What a run says of itself: written once, when it is begun."""

from pathlib import Path
from typing import Any

from errant_gust.core.geometry.shapes import Assets
from errant_gust.core.home import home
from errant_gust.core.runs.frame_store import RunStore
from errant_gust.core.runs.identity import engines, run_identity
from errant_gust.core.study import document
from errant_gust.core.study.depends import Depends


def manifest_for(study: document.Study, flow: str, quality: str, assets: Assets) -> dict[str, Any]:
    """Identity, versions of what computes it, the study, and where its files are."""
    walk = Depends(study)
    walk.flow(flow)
    return {
        "identity": run_identity(study, flow, quality, assets),
        "engines": engines(walk.kinds),
        "study": document.dump(study),
        "flow": flow,
        "kind": study.find("flows", flow, f"flows.{flow}").kind,
        "quality": quality,
        "clock": study.clock.model_dump(),
        # what is drawn from frames later looks its meshes up there
        "assets": str(assets.folder.resolve()) if assets.folder else "",
        "assets_in_home": _in_home(assets.folder),
    }


def begin(study: document.Study, flow: str, quality: str, folder: Path, assets: Assets) -> str:
    """Make (or find) the folder of a run under `folder`; returns its identity."""
    manifest = manifest_for(study, flow, quality, assets)
    RunStore(folder / manifest["identity"]).create(manifest)
    return str(manifest["identity"])


def _in_home(folder: Path | None) -> str:
    if folder is None or not folder.resolve().is_relative_to(home()):
        return ""
    return str(folder.resolve().relative_to(home()))


def assets_of(store: RunStore) -> Assets:
    """Where a run's files are looked up: in the home that the run is in, if they were in it, wherever that is now."""
    manifest = store.manifest()
    inside = manifest.get("assets_in_home")
    if inside and (found := store.folder.resolve().parents[1] / inside).is_dir():
        return Assets(found)
    return Assets(Path(manifest["assets"]) if manifest.get("assets") else None)
