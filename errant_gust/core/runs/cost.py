"""What a run will cost, from frames that were measured: seconds, memory, disk."""

from dataclasses import asdict, dataclass
from typing import Any

from errant_gust.core.errors import GustError
from errant_gust.core.fields.plan import Plan
from errant_gust.core.flows.kind import kind_of, open_flow
from errant_gust.core.runs.carried import plan_of
from errant_gust.core.runs.frame_store import RunStore
from errant_gust.core.runs.identity import run_identity
from errant_gust.core.runs.manifest import assets_of
from errant_gust.core.study import document

ENOUGH = 3  # frames; a run that has only just begun tells less than another


@dataclass(frozen=True)
class Cost:
    """seconds and disk (bytes) are of the frames that are not there yet, or None if nothing was measured; memory
    (bytes) and count are at most. `measured`: how many frames that rests on, `basis`: of which run."""

    count: int
    unit: str
    memory: int
    frames: int
    seconds: float | None
    disk: int | None
    measured: int
    basis: str

    def as_dict(self) -> dict[str, Any]:
        """As JSON has it."""
        return asdict(self)


def memory_of(plan: Plan, flow: str, quality: str) -> int:
    """Bytes that a run needs at most, before anything was measured."""
    return int(open_flow(plan, flow, quality).estimate()[1])


def cost_of(plan: Plan, flow: str, quality: str, stores: list[RunStore]) -> Cost:
    """The cost of what is left of a flow's run. The first of `stores` that holds frames of the flow is what it is
    measured by: this run itself, the preview of this version, or an older one.

    A frame of other voxels or another number of particles is scaled by these, and gas by its substeps too.
    """
    identity = run_identity(plan.study, flow, quality, plan.assets)
    steps = open_flow(plan, flow, quality)
    count, memory = steps.estimate()
    clock = plan.study.clock
    whole = range(clock.start, clock.end + 1)
    ready: set[int] = set()
    best: tuple[str, list[tuple[float, float, float]]] | None = None
    for store in stores:
        try:
            manifest = store.manifest()
            facts = {n: f for n in store.frames() if "seconds" in (f := store.facts(n))}
            if manifest["flow"] != flow:
                continue
            same = manifest["identity"] == identity
            if same:
                ready = set(store.frames())
            facts = {k: v for k, v in facts.items() if k > clock.start} or facts  # the first one also starts engines
            if facts and (best is None or len(best[1]) < ENOUGH < len(facts)):
                best = _measured(store, manifest, facts, steps, flow, same)
        except (GustError, KeyError, OSError):
            continue  # a run that cannot be read measures nothing
    todo = len([n for n in whole if n not in ready])
    unit = kind_of(plan.study.find("flows", flow, f"flows.{flow}").kind).unit
    if best is None:
        return Cost(count, unit, memory, todo, None, None, 0, "")
    basis, made = best
    share = todo / len(whole)
    later = made[-max(1, len(made) // 4) :]  # frames beyond the measured ones are like the last of them
    missing = max(0, len(whole) - len(made) - 1)
    seconds = sum(m[0] for m in made) + missing * sum(m[0] for m in later) / len(later)
    disk = sum(m[1] for m in made) + missing * sum(m[1] for m in later) / len(later)
    most = max(m[2] for m in made)
    needs = memory if missing else min(memory, int(memory * most / max(count, 1)))
    return Cost(int(min(most, count)) if not missing else count, unit, needs, todo, seconds * share, int(disk * share),
                len(made), basis)  # fmt: skip


def _measured(
    store: RunStore, manifest: dict[str, Any], facts: dict[int, Any], steps: Any, flow: str, same: bool
) -> tuple[str, list[tuple[float, float, float]]]:
    """(seconds, bytes, count) that each measured frame would be of in the run that is estimated."""
    was = steps
    if not same:
        older = plan_of(document.parse(manifest["study"]), assets_of(store))
        was = open_flow(older, flow, manifest["quality"])
    here = {f for f in store.frames() if f in facts}
    size = sum(f.stat().st_size for n in here for f in store.path(n).rglob("*") if f.is_file())
    counts = sum(facts[n]["count"] for n in here)
    each = size / counts if counts else 0.0
    made = []
    for n in sorted(facts):
        time, amount = steps.scale(facts[n], was)
        more = facts[n]["count"] * amount
        made.append((facts[n]["seconds"] * time, each * more, more))
    return ("this run" if same else f"the {manifest['quality']} run"), made
