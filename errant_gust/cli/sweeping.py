"""A sweep by command: what it will cost, a run for each set of values, a table and a contact sheet."""

import json
from concurrent.futures import ThreadPoolExecutor
from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from errant_gust.core.errors import FileError, GustError
from errant_gust.core.fields.plan import Plan
from errant_gust.core.files.writing import written_whole
from errant_gust.core.flows.kind import kind_of
from errant_gust.core.looking.contact_sheet import Tile, contact_sheet
from errant_gust.core.pictures.camera import USUAL, View
from errant_gust.core.pictures.stage import Stage
from errant_gust.core.runs import engine, job
from errant_gust.core.runs.cost import cost_of, memory_of
from errant_gust.core.runs.frame_store import RunStore
from errant_gust.core.runs.manifest import begin
from errant_gust.core.runs.run_readings import readings_of
from errant_gust.core.runs.sweep import Vary, combinations, label, variant
from errant_gust.core.study import document


@dataclass(frozen=True)
class Swept:
    """One run of a sweep: its values, its folder, how it ended, what is read of it."""

    values: dict[str, Any]
    identity: str
    state: str
    message: str
    readings: dict[str, float]

    def as_dict(self) -> dict[str, Any]:
        return {
            "values": self.values, "run": self.identity, "state": self.state, "message": self.message, **self.readings,
        }  # fmt: skip


def prepared(
    plan: Plan, flow: str, varies: list[Vary], samples: int, seed: int
) -> list[tuple[dict[str, Any], document.Study]]:
    """The values of each run and its version of the study."""
    plan.study.find("flows", flow, "--flow")
    made = [(values, variant(plan.study, values)) for values in combinations(varies, samples, seed)]
    for _, study in made:
        Plan(study, plan.assets, plan.data).at(0.0)
    return made


def forecast(plan: Plan, flow: str, quality: str, count: int, out: Path) -> str:
    """How many runs, and what they cost if one of this flow was measured in the folder."""
    stores = [RunStore(f) for f in sorted(out.glob("*/")) if (f / "manifest.json").is_file()]
    cost = cost_of(plan, flow, quality, stores)
    said = f"{count} runs, at most {cost.memory / 1e6:,.0f} MB of memory each"
    if cost.seconds is None or cost.disk is None:
        return f"{said}; time and disk are known once one has been measured"
    return f"{said}; about {count * cost.seconds:,.0f} s and {count * cost.disk / 1e6:,.0f} MB by {cost.basis}"


def swept(
    plan: Plan, flow: str, quality: str, made: list[tuple[dict[str, Any], document.Study]], out: Path, workers: int,
    frame: int | None, tell: Any, lanes: tuple[str, ...] = (),
) -> list[Swept]:  # fmt: skip
    """Run all of them, on the engine or in so many threads; what is there already is kept, what failed is tried
    again."""
    out.mkdir(parents=True, exist_ok=True)
    last = plan.study.clock.end
    shown = last if frame is None else frame
    result = kind_of(plan.study.find("flows", flow, "--flow").kind).result()

    def one(part: tuple[dict[str, Any], document.Study]) -> Swept:
        values, study = part
        identity = begin(study, flow, quality, out, plan.assets)
        folder = out / identity
        made_of = Plan(study, plan.assets, plan.data)
        memory = 0
        with suppress(GustError):  # the run says so itself
            memory = memory_of(made_of, flow, quality)
        said = engine.wait_for(engine.Order(folder, last, memory))
        store = RunStore(folder)
        there = shown in store.frames()
        found = Swept(
            values, identity, said["state"], said["message"],
            readings_of(store, shown, result, made_of, flow, lanes) if there else {},
        )  # fmt: skip
        tell(found)
        return found

    with ThreadPoolExecutor(engine.at_once() if engine.scheduler() else max(1, workers)) as pool:
        try:
            return list(pool.map(one, made))
        except KeyboardInterrupt:
            for folder in out.glob("*/"):
                job.ask_to_stop(folder)
            pool.shutdown(cancel_futures=True)
            raise


def write(found: list[Swept], plan: Plan, flow: str, out: Path, frame: int, view: View = USUAL) -> Path:
    """`sweep.json` and `contact.png` in the folder."""
    result = kind_of(plan.study.find("flows", flow, "--flow").kind).result()
    good = [s for s in found if s.state == "done"]
    if not good:
        raise GustError("every run failed", where=str(out), fix=found[0].message if found else "vary something")
    with written_whole(out / "sweep.json") as file:
        text = json.dumps({"flow": flow, "frame": frame, "runs": [s.as_dict() for s in found]}, indent=1)
        file.write(text.encode())
    tiles = [
        Tile(Stage(RunStore(out / s.identity), plan.assets), result, label(s.values, plan.study),
             f"amount {s.readings['amount']:.4g}, top {s.readings['top']:.3g} m, {s.readings['fastest']:.3g} m/s")
        for s in good
    ]  # fmt: skip
    sheet = contact_sheet(tiles, frame, view=view)
    try:
        with written_whole(out / "contact.png") as file:
            sheet.save(file, "PNG")
    except OSError as error:
        raise FileError(f"cannot be written ({error})", where=str(out / "contact.png")) from None
    return out / "contact.png"
