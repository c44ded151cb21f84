"""A field on a region, baked here or in parts by the workers of a cluster: the bits are the same."""

from typing import Any

import numpy as np

from errant_gust.core.blocks import BLOCK, Cancel, Progress
from errant_gust.core.errors import Cancelled, GustError
from errant_gust.core.fields.plan import Plan
from errant_gust.core.fields.samples import Array
from errant_gust.core.fields.sampling import bake, bake_part
from errant_gust.core.geometry.shapes import Assets
from errant_gust.core.runs import engine
from errant_gust.core.runs.carried import plan_of
from errant_gust.core.study import document

PART = 256 * BLOCK
"""Voxels that a worker is given at a time; a region of no more is baked here."""
CONNECT = 5.0
"""Seconds that a scheduler has to answer."""


def bake_field(
    plan: Plan, field: str, region: str, time: float, *, cancel: Cancel | None = None, progress: Progress | None = None
) -> Array:
    """The field in the middle of every voxel: (nx, ny, nz) or (nx, ny, nz, 3) float32."""
    scene = plan.at(time)
    node, box = scene.lane(field), scene.region(region)
    box.check(3 if node.kind == "vector" else 1, f"regions.{region}.voxel_size")
    address = engine.scheduler()
    if not address or box.voxels <= PART:
        return bake(node, box, cancel=cancel, progress=progress)
    out = np.empty((box.voxels, 3) if node.kind == "vector" else box.voxels, np.float32)
    _shared_out(address, plan, (field, region, time), out, cancel, progress)
    return out.reshape(*box.shape, *out.shape[1:])


def part_of(data: dict[str, Any], assets: Assets, field: str, region: str, time: float, start: int, stop: int) -> Array:
    """What a worker does: voxels start..stop, in their order; (n,) or (n, 3) float32."""
    scene = plan_of(document.parse(data), assets).at(time)
    return bake_part(scene.lane(field), scene.region(region), start, stop)


def _shared_out(
    address: str, plan: Plan, what: tuple[str, str, float], out: Array, cancel: Cancel | None, progress: Progress | None
) -> None:  # fmt: skip
    """Parts as they come; a worker that dies is replaced by another."""
    from distributed import Client, as_completed

    try:
        client = Client(address, set_as_default=False, timeout=CONNECT)
    except (OSError, TimeoutError, ValueError) as error:
        raise GustError(
            f"the scheduler at {address} is away ({str(error).splitlines()[0][:120]})",
            where="ERRANT_GUST_SCHEDULER", fix="start it, or unset it to bake here",
        ) from None  # fmt: skip
    with client, client.as_current():
        if not client.scheduler_info(n_workers=-1)["workers"]:
            raise GustError(
                f"the scheduler at {address} has no worker", where="ERRANT_GUST_SCHEDULER", fix="start one: gust worker"
            )
        data = document.dump(plan.study)  # with every part: what one worker alone holds goes with it
        ranges = [(a, min(a + PART, len(out))) for a in range(0, len(out), PART)]
        futures = {
            client.submit(part_of, data, plan.assets, *what, start, stop, pure=False): (start, stop)
            for start, stop in ranges
        }
        for count, future in enumerate(as_completed(list(futures)), 1):
            if cancel is not None and cancel():
                client.cancel(list(futures))
                raise Cancelled
            start, stop = futures[future]
            out[start:stop] = future.result()
            future.release()
            if progress is not None:
                progress(count / len(ranges))
