"""Lines and spread points of a run's frame, from the study as it stands now."""

from collections import OrderedDict

from errant_gust.core.fields import catalogue
from errant_gust.core.fields.samples import Array
from errant_gust.core.fields.scene import Plan
from errant_gust.core.flows.particles.drawn import Drawing, draw
from errant_gust.core.runs.store import RunStore

KEPT = 96


def drawing_of(store: RunStore, plan: Plan, flow: str, frame: int) -> Drawing:
    """What the drawing steps of the lane in `plan` make of the run's frames."""
    clock = plan.study.clock
    scene = plan.at(clock.seconds(frame))
    lane = plan.study.find("flows", flow, f"flows.{flow}")
    steps = []
    for part in lane.steps:
        where = f"flows.{flow}.{part.id}"
        cls = catalogue.step_class(part.op, "particles", where)
        if part.on and cls.family == "drawn":
            steps.append((where, scene.build(cls, part.params, where)))
    frames: OrderedDict[int, dict[str, Array]] = OrderedDict()

    def read(n: int) -> dict[str, Array]:
        if n not in frames:
            frames[n] = store.read(n)
            while len(frames) > KEPT:
                frames.popitem(last=False)
        return frames[n]

    return draw(steps, scene, clock, frame, read)
