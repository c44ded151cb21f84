"""The error of a half step, from a frame of a run."""

from errant_gust.core.blocks import Cancel
from errant_gust.core.flows.halving import Halved
from errant_gust.core.flows.kind import open_flow
from errant_gust.core.runs.carried import plan_of
from errant_gust.core.runs.frame_store import RunStore
from errant_gust.core.runs.manifest import assets_of
from errant_gust.core.study.document import parse


def halved_run(store: RunStore, frame: int, cancel: Cancel | None = None) -> list[Halved]:
    """What half steps would change on the way from a frame of a run to the next (of particles also halves of these);
    none where nothing lasts so long. Particles are tried by some of them; else it takes three times what the frame
    took. Raises Cancelled."""
    said = store.manifest()
    flow = open_flow(plan_of(parse(said["study"]), assets_of(store)), said["flow"], said["quality"])
    return flow.halved(flow.load(store.read(frame), store.facts(frame)), frame, cancel)
