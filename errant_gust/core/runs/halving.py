"""The error of a half step, from a frame of a run."""

from errant_gust.core.flows.halving import Halved
from errant_gust.core.flows.kind import open_flow
from errant_gust.core.runs.carried import plan_of
from errant_gust.core.runs.frame_store import RunStore
from errant_gust.core.runs.manifest import assets_of
from errant_gust.core.study.document import parse


def halved_run(store: RunStore, frame: int) -> list[Halved]:
    """What half steps, and halves of these, would change on the way from a frame of a run to the next; none where the
    flow chooses its steps by itself, or nothing lives so long."""
    said = store.manifest()
    flow = open_flow(plan_of(parse(said["study"]), assets_of(store)), said["flow"], said["quality"])
    return flow.halved(flow.load(store.read(frame), store.facts(frame)), frame)
