"""`gust import`: meshes, curves and cameras of others into a study."""

import json
import shutil
from pathlib import Path
from typing import Annotated

import typer

from errant_gust.cli.app import StudyArg, app, open_study
from errant_gust.core.errors import FileError, GustError, nearest


@app.command("import")
def import_(
    file: Annotated[Path, typer.Argument(help="USD, glTF; or OBJ, PLY, STL, of a sequence any of its files")],
    study: StudyArg,
    out: Annotated[Path, typer.Option(help="The new study file; meshes are written beside it")],
    up: Annotated[str, typer.Option(help="Which axis is up in the file: Z or Y; as it says if left out")] = "",
    unit: Annotated[str, typer.Option(help="Of its lengths: m, dm, cm, mm, in, ft; as it says if left out")] = "",
) -> None:
    """Put meshes (moving ones a file a frame), curves and cameras of a file into a study, in metres with z up."""
    from errant_gust.core.files.scenes import keep_scene, put_in
    from errant_gust.core.files.writing import written_whole
    from errant_gust.core.geometry.scene_files import UNITS, read_scene
    from errant_gust.core.runs.identity import files_of
    from errant_gust.core.study import document
    from errant_gust.core.study.depends import Depends

    if up.upper() not in ("", "Z", "Y"):
        raise GustError(f"'{up}' is no axis", where="--up", fix="Z or Y")
    if unit and unit not in UNITS:
        raise GustError(f"'{unit}' is not known", where="--unit", fix=nearest(unit, UNITS))
    if not out.name.endswith(".gust.json"):
        raise GustError(f"'{out.name}' is no study file", where="--out", fix="right would be new.gust.json")
    if out.exists():
        raise FileError("is there already", where=str(out), fix="name another")
    plan = open_study(study)
    clock = plan.study.clock
    scene = read_scene(file, clock.fps, clock.start)
    kept = keep_scene(scene, out.parent, up=up.upper(), metres=UNITS.get(unit, 0.0))
    made = document.dump(plan.study)
    ids = put_in(made, kept)
    for use in Depends(plan.study).everything().files:  # what the study needs already
        for name in files_of(use, plan.study, plan.assets):
            if not (out.parent / name).exists():
                shutil.copyfile(plan.assets.path(name, use.where), out.parent / name)
    document.parse(made)
    with written_whole(out) as target:
        target.write(json.dumps(made, indent=1).encode())
    for note in kept.notes:
        print(f"{file.name}: {note}")
    frames = f", frames {scene.frames[0]} to {scene.frames[-1]}" if scene.moves else ""
    views = f"; {len(kept.views)} viewpoints" if kept.views else ""
    print(f"{out}: {', '.join(ids) or 'no shape'}{frames}{views}")
