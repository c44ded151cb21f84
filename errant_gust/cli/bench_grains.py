"""Benchmark rows of grains: frames of a column that falls down, a step against the same by NumPy, memory, cost by
number."""

import json
import subprocess
import sys
from collections.abc import Callable
from typing import Any

import numpy as np

from errant_gust.cli.bench_rows import Row, best
from errant_gust.core.blocks import share_out
from errant_gust.core.fields.plan import Plan
from errant_gust.core.flows.grains.bundle import Bundle
from errant_gust.core.flows.grains.flow import GrainFlow
from errant_gust.core.flows.grains.kind import GrainKind
from errant_gust.core.flows.grains.on_nodes import CROWDED, SOFT
from errant_gust.core.flows.grains.sources import FULL
from errant_gust.core.flows.grains.state import GrainState
from errant_gust.core.kernels import grains as kernels
from errant_gust.core.study.building import lane, study
from errant_gust.core.study.document import parse

Array = Any
FRAME = 1 / 60


def column(spacing: float) -> Plan:
    """A round column of sand, half a metre in radius and a metre high, that falls down; 0.0316 m apart are 25,000
    grains, 0.0199 are 100,000."""
    steps = [("domain", {"region": "r", "spacing": spacing}), ("source", {"shape": "c"}), ("gravity", {})]
    region = {"id": "r", "bounds": {"lower": [-2, -2, 0], "upper": [2, 2, 1]}, "voxel_size": 0.1}
    shape = {"id": "c", "kind": "cylinder", "params": {"radius": 0.5, "height": 1, "move": [0, 0, 0.5]}}
    flows = [{**lane("w", *steps), "kind": GrainKind.id}]
    return Plan(parse(study("Bench", regions=[region], shapes=[shape], flows=flows,
                            clock={"fps": 1 / FRAME, "start": 1, "end": 60})))  # fmt: skip


def begun(spacing: float, frames: int = 8) -> tuple[GrainFlow, GrainState]:
    flow = GrainFlow(column(spacing), "w")
    state = flow.first()
    for n in range(1, 1 + frames):
        state = flow.next(state, n)
    return flow, state


def frames() -> list[Row]:
    rows = []
    for spacing, goal in ((0.0316, "≤ 25 ms"), (0.0199, "≤ 120 ms")):
        flow, state = begun(spacing)
        took = best(lambda f=flow, s=state: f.next(s, 9), 7)  # type: ignore[misc]
        made = flow.next(state, 9)
        substeps = int(made.pace["substeps"])
        each = 1e6 * took / state.count / substeps
        note = f"a 60th of a second, {substeps} substeps, {each:.0f} ns a grain and substep with all that a frame needs"
        rows.append(Row(f"grains, a frame of {round(state.count / 1000)} k", took, goal=goal, note=note))
    return rows


def _numpy_step(a: Array, shape: tuple[int, int, int], dt: float, h: float, flow: GrainFlow) -> None:
    """The same step by whole arrays: to nodes, gravity and floor, back, strain, yielding."""
    q, v = a[:, :3].astype(np.float32), a[:, 3:6]
    c, e = a[:, 6:15].reshape(-1, 3, 3), np.zeros((len(a), 3, 3), np.float32)
    for k, (i, j) in enumerate(((0, 0), (1, 1), (2, 2), (0, 1), (0, 2), (1, 2))):
        e[:, i, j] = e[:, j, i] = a[:, 15 + k]
    trace, eye = np.trace(e, axis1=1, axis2=2), np.eye(3, dtype=np.float32)
    stress = flow.shear * e + flow.stiff * trace[:, None, None] * eye
    affine = c - 4 * dt / h * stress
    base = (q - 0.5).astype(int)
    f = q - base
    w = [0.5 * (1.5 - f) ** 2, 0.75 - (f - 1) ** 2, 0.5 * (f - 0.5) ** 2]
    size = int(np.prod(shape))
    nodes = np.zeros((4, size))
    corners = []
    for bits in np.ndindex(3, 3, 3):
        off = np.array(bits) - f
        weight = w[bits[0]][:, 0] * w[bits[1]][:, 1] * w[bits[2]][:, 2]
        at = np.ravel_multi_index(tuple((base + bits).T), shape)
        value = v + np.einsum("nij,nj->ni", affine, off)
        for axis in range(3):
            nodes[axis] += np.bincount(at, weight * value[:, axis], size)
        nodes[3] += np.bincount(at, weight, size)
        corners.append((at, weight, off))
    there = nodes[3] > 0
    nodes[:3, there] /= nodes[3, there]
    nodes[2] -= 9.81 * dt * there
    new, grad, mass = np.zeros_like(v), np.zeros_like(c), np.zeros(len(a), np.float32)
    for at, weight, off in corners:
        got = weight[:, None] * nodes[:3, at].T
        new += got
        grad += 4 * got[:, :, None] * off[:, None, :]
        mass += weight * nodes[3, at]
    d, s = 0.5 * (grad + grad.transpose(0, 2, 1)) * dt / h, 0.5 * (grad - grad.transpose(0, 2, 1)) * dt / h
    e = e + d + s @ e - e @ s
    trace = np.trace(e, axis1=1, axis2=2)
    dev = e - trace[:, None, None] / 3 * eye
    root = np.sqrt(0.5 * (dev**2).sum(axis=(1, 2)))
    lode = np.clip(-2.598 * np.linalg.det(dev) / np.maximum(root**3, 1e-30), -1, 1)
    angle = np.arcsin(lode) / 3
    limit = -flow.bulk * trace * 0.6 / (flow.shear * (np.cos(angle) - np.sin(angle) * 0.6 / np.sqrt(3)))
    keep = np.where(trace < 0, np.minimum(1, limit / np.maximum(root, 1e-30)), 0)
    a[:, 15:18] = (np.where(trace < 0, trace, 0)[:, None] / 3) + keep[:, None] * np.einsum("nii->ni", dev)
    a[:, 3:6], a[:, :3] = new, q + dt / h * new


def one_step() -> Row:
    """A substep of 100,000 grains by the kernels alone, and 20,000 by NumPy."""
    flow, state = begun(0.0199)
    work = flow._work(state, 0.2, None)
    h = flow.domain.voxel_size
    dt = 0.7 * h / flow.sound
    f = np.float32
    low, high = np.zeros(3, f), np.array(work.shape, f)
    sand = Bundle(work.sand.a.copy(), work.count)

    def step() -> None:
        sand.a[:] = work.sand.a
        nodes = flow._to_nodes(work, sand, dt)
        flat = nodes[:-4].reshape(-1, 4)
        at = np.flatnonzero(flat[:, 3] > 0)
        v = np.empty((3, at.size), f)
        kernels.velocities(flat, at, v, 0, at.size)
        v[2] -= f(9.81 * dt)
        kernels.put_back(flat, at, v, f(1e3), 0, at.size)
        block, told = flow._told(work.count)

        def back(first: int, last: int) -> None:
            kernels.from_nodes(
                sand.a, nodes, work.shape, f(dt), f(h), f(flow.bulk), f(flow.shear), f(flow.sound), f(FULL),
                f(CROWDED), f(SOFT * flow.modulus), low, high, told, block, first, last,
            )  # fmt: skip

        share_out(back, work.count, block=block)

    copy = best(lambda: sand.a.__setitem__(slice(None), work.sand.a), 5)
    ours = best(step, 7) - copy
    some = np.ascontiguousarray(work.sand.get(slice(0, kernels.ROW), slice(None, None, 5)).T)
    reference = best(lambda: _numpy_step(some.copy(), work.shape, dt, h, flow), 2) * work.count / len(some)
    each = 1e6 * ours / work.count
    note = f"{work.count:,} grains, {each:.0f} ns each; reference: a fifth of them, scaled"
    return Row("grains, a substep", ours, "the same step by NumPy", reference, reference / ours, "≥ 30", note)


MEMORY = """
import sys, json, time
from errant_gust.cli.bench_grains import begun
from errant_gust.core.peak import peak
flow, state = begun(float(sys.argv[1]), 2)
t = time.perf_counter()
state = flow.next(state, 3)
print(json.dumps([peak(), state.count, time.perf_counter() - t, state.pace["substeps"]]))
"""


def many() -> list[Row]:
    """Peaks of processes at three sizes, above what one takes by itself; what a frame of a million takes."""
    told = []
    for spacing in (0.0316, 0.0147, 0.00923):
        said = subprocess.run([sys.executable, "-c", MEMORY, str(spacing)], capture_output=True, text=True, check=True)
        told.append(json.loads(said.stdout))
    (p0, n0, _, _), (p2, n2, t2, k2) = told[0], told[-1]
    each = (p2 - p0) / (n2 - n0)
    costs = ", ".join(f"{n:,}: {1e9 * t / n / k:.0f} ns" for _, n, t, k in told)
    note = f"{each:.0f} bytes a grain at the peak of a frame; a grain and substep among {costs}"
    whole = f"{n2:,} grains: {t2:.2f} s a 60th of a second ({k2:.0f} substeps), {p2 / 1e9:.2f} GB in all"
    return [Row("grains, memory", 0.0, note=note), Row("grains, a frame of a million", 1e3 * t2, note=whole)]


ROWS: list[tuple[str, Callable[[], Row | list[Row]]]] = [
    ("grain frames", frames),
    ("grain substep", one_step),
    ("grain memory", many),
]
