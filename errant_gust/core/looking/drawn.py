"""What steps draw from a frame, to look at: lines, points on them, instances with coarser meshes if there are many."""

import numpy as np

from errant_gust.core.fields.plan import Plan
from errant_gust.core.fields.samples import Array
from errant_gust.core.flows.drawing import MOST_TRIANGLES, Drawing, Instanced, drawing_of
from errant_gust.core.looking.frames import mesh
from errant_gust.core.looking.heads import DrawnHead
from errant_gust.core.runs.export import kind_of_run
from errant_gust.core.runs.frame_store import RunStore


def drawn_to_look(
    store: RunStore, plan: Plan, flow: str, frame: int, colour: str, have: list[str]
) -> tuple[DrawnHead, dict[str, Array]]:
    """Head and arrays of what the drawing steps of the lane in `plan` make of a frame. `colour`: the channel of the
    points that instances on them take; `have`: keys of meshes that need not be there again. Arrays (n,) and (n, k)
    as the view's shaders take them; lengths in m."""
    made: Drawing = drawing_of(store, plan, flow, frame)
    arrays: dict[str, Array] = {}
    for name, found in (("lines", made.lines[-1] if made.lines else None), ("spread", made.spread)):
        if found is not None:
            arrays |= {f"{name}.points": found.points, f"{name}.counts": found.counts.astype("i4")}
            arrays |= {f"{name}.{k}": v for k, v in found.channels.items()}
    head = DrawnHead(identity=store.folder.name, frame=frame)
    if made.mesh is not None:
        known = "speed" if "velocity" in made.mesh.channels else ""
        taken = colour if colour in (*made.mesh.channels, "speed") else known
        offered = [r for r in kind_of_run(store).results if not r.from_study]
        units = {c.name: c.unit for r in reversed(offered) for c in r.channels(store.names(frame))}
        head.mesh, triangles = mesh(store, frame, made.mesh, taken, units)
        arrays |= {f"mesh.{k}": v for k, v in triangles.items()}
    i = made.instanced
    if i is not None:
        seen = i.to_look_at(MOST_TRIANGLES)
        keys = [p.key for p in seen]
        head.prototypes, head.triangles, head.most, head.on = keys, i.triangles(seen), 10 * MOST_TRIANGLES, i.on
        arrays |= {"instances.points": i.points, "instances.turns": i.turns, "instances.sizes": i.sizes}
        arrays |= {"instances.which": i.which, "instances.tone": _tone(i, store, frame, colour)}
        for prototype, key in zip(seen, keys, strict=True):
            if key not in have:
                arrays |= {f"{key}.vertices": prototype.vertices, f"{key}.faces": prototype.faces}
    return head, arrays


def _tone(i: Instanced, store: RunStore, frame: int, colour: str) -> Array:
    tone = i.channels.get("speed", np.zeros(len(i.points), np.float32))
    if "row" in i.channels:
        points = kind_of_run(store).result(form="points").read(store, frame)
        tone = points.tone(colour)[0][i.channels["row"]]
    return np.ascontiguousarray(tone, np.float32)
