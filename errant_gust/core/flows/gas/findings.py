"""What is likely wrong with a gas lane."""

from typing import Any

from errant_gust.core.fields.plan import Plan
from errant_gust.core.flows.boxed_findings import blurred
from errant_gust.core.flows.gas.channels import Burn, GasChannel
from errant_gust.core.flows.gas.flow import GasFlow
from errant_gust.core.flows.gas.forces import Rise
from errant_gust.core.flows.gas.sources import Source
from errant_gust.core.flows.step import Emits, Placed
from errant_gust.core.study.finding import Finding, Level

THIN = 2.0  # voxels
AIR = 293.0  # K above absolute zero that the air around is taken to have


def _brings(part: Placed, name: str) -> bool:
    """Whether a source brings some of a channel, as a number or by a field."""
    return name in part.varying or bool(getattr(part.step, name))


def lane_findings(plan: Plan, flow: GasFlow) -> list[Finding]:
    """What is likely wrong with a lane that can be opened."""
    parts = flow.parts(0.0)
    steps: list[Any] = [p.step for p in parts]
    sourcing = [p for p in parts if isinstance(p.step, Emits)]
    sources: list[tuple[str, Source]] = [(p.where, p.step) for p in sourcing]  # type: ignore[misc]
    found: list[tuple[Level, str, str, str, str]] = []
    scene = plan.at(0.0)
    for where, source in sources:
        if source.temperature < -AIR:
            found.append((
                "warning", "below_absolute_zero", f"{where}.temperature",
                f"{source.temperature:g} K under the air around is colder than anything can be",
                f"temperatures are differences from the air; right would be {-AIR:g} or more",
            ))  # fmt: skip
        if not source.shaped:
            continue
        shape = scene.shape(source.shape)
        if not shape.kind.bounded:
            continue
        lower, upper = shape.box
        least = source.thickness if source.where == "shell" else float((upper - lower).min())
        if least < THIN * flow.domain.voxel_size:
            found.append((
                "warning", "thin_source", f"{where}.shape",
                f"the source is {least:.3g} m thin, voxels are {flow.domain.voxel_size:.3g} m",
                "it is hit or missed by chance; make it thicker, or the voxels smaller",
            ))  # fmt: skip
    hot = any(_brings(p, "temperature") for p in sourcing) or any(isinstance(s, Burn) for s in steps)
    if hot and not any(isinstance(s, Rise) for s in steps):
        found.append(("note", "hot_but_still", f"flows.{flow.id}", "the gas is hot, and nothing lifts it", "add Rise"))
    if any(isinstance(s, Burn) for s in steps) and not any(_brings(p, "fuel") for p in sourcing):
        found.append(
            ("warning", "no_fuel", f"flows.{flow.id}", "no Source brings fuel, so nothing burns", "give one fuel")
        )
    filled = {s.channel for _, s in sources}
    for part in parts:
        if isinstance(part.step, GasChannel) and not part.step.copies and part.step.name not in filled:
            found.append((
                "warning", "empty_channel", f"{part.where}.name", f"no Source fills '{part.step.name}'",
                "name it under Channel of a Source",
            ))  # fmt: skip
    return [*(Finding(*trouble) for trouble in found), *blurred(scene, parts, flow.domain.voxel_size)]
