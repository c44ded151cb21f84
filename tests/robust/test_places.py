"""Kernels that turn places into addresses, asked with what is no place: they read and write within their arrays.

The calls are made by a process of its own with Numba's checks of bounds, so that an address outside is an error here
and not the end of the tests' process, or silence.
"""

import os
import subprocess
import sys

from tests.conftest import ROOT

CALLS = """
import numpy as np
from errant_gust.core.kernels import bricks, faces, gas, grains, grids, seeding, surfaces, transfers

f4 = np.float32
STRANGE = [np.nan, np.inf, -np.inf, 3e38, -3e38, 1e10, -1e10, -0.0, 1e-45]
rng = np.random.default_rng(1)
N = 8

def places(count=27, low=1.5, high=N - 2.5):
    "Sound places, with every strange number once in every coordinate, and in all at once."
    p = rng.uniform(low, high, (3, count + 4 * len(STRANGE))).astype(f4)
    for n, s in enumerate(STRANGE):
        for axis in range(3):
            p[axis, count + 4 * n + axis] = s
        p[:, count + 4 * n + 3] = s
    return p

p = places()
n = p.shape[1]
scalar = rng.random((N, N, N)).astype(f4)
vector = rng.random((N, N, N, 3)).astype(f4)
zero, one = f4(0), f4(1)
out, out3, rows = np.empty(n, f4), np.empty((3, n), f4), np.empty((10, n), f4)
told = {}
for outside in (0, 1):
    grids.sample_scalar(scalar, *p, zero, zero, zero, one, outside, out)
    told[f"scalar {outside}"] = out.copy()
    grids.sample_vector(vector, *p, zero, zero, zero, one, outside, out3)
    bricks.sample_by_brick(vector, np.ascontiguousarray(p.T), zero, zero, zero, one, outside, np.empty((n, 3), f4))
assert np.isnan(told["scalar 1"][27:31]).all(), "what is no number stays none"
assert np.isfinite(told["scalar 1"][31:]).all(), "what is beyond is what the border has"
assert np.isfinite(told["scalar 1"][:27]).all()
grids.spline(scalar, *p, rows)
u, v, w = (rng.random([N + (i == a) for i in range(3)]).astype(f4) for a in range(3))
slope = np.empty((3, 3, n), f4)
for with_slope in (False, True):
    faces.sample_faces(u, v, w, *p, zero, zero, zero, one, out3, slope, with_slope)
share, weight, sums = np.zeros((N, N, N), f4), np.zeros((N, N, N), f4), np.zeros((3, N, N, N), f4)
gas.scattered(p, np.ones_like(p), f4(1.5), share, weight, sums)
assert np.isfinite(sums).all()

start, order = np.empty(N**3 + 1, np.int32), np.empty(n, np.int32)
transfers.order_by_cell(p, (N, N, N), start, order)
assert sorted(order) == list(range(n))
q = np.ascontiguousarray(p[:, order])
affine, velocity = rng.random((9, n)).astype(f4), rng.random((3, n)).astype(f4)
room = [np.zeros([N + (i == a) for i in range(3)], f4) for a in (0, 0, 1, 1, 2, 2)]
count, total = np.zeros((N, N, N), f4), np.zeros((N, N, N), f4)
transfers.to_faces(q, velocity, affine, np.ones(n, f4), start, *room, count, total, 0, N)
transfers.onto_cells(q, np.ones((2, n), f4), start, np.zeros((2, N, N, N), f4), np.zeros((N, N, N), f4), 0, N)
transfers.nearest(q, start, np.full((N, N, N), f4(9)), 0, N)
transfers.from_faces(q, u, v, w, u, v, w, f4(0.5), velocity.copy(), affine, 0, n)
transfers.carry(q.copy(), u, v, w, f4(0.5), 0, n)
for half in (False, True):
    transfers.at_places(scalar, q, half, out, 0, n)
taken = np.zeros(n, bool)
seeding.free_places(p, q, np.zeros(n, bool), start, (N, N, N), f4(0.5), f4(0.5), taken)
surfaces.means(q, start, f4(1.5), np.zeros((4, N, N, N), f4), 0, N)
surfaces.onto_vertices(p, q, start, (N, N, N), f4(1.5), np.ones((2, n), f4), np.empty((2, n), f4), 0, n)
inward = np.ones((3, n), f4)
surfaces.thicknesses(scalar - 2, p, inward, f4(0.5), f4(20), out, 0, n)
surfaces.thicknesses(scalar - 2, np.full((3, n), f4(3)), p, f4(0.5), f4(20), out, 0, n)

# grains: positions in the first three rows of blocks of MANY
MANY, ROW = grains.MANY, grains.ROW
blocks = -(-n // MANY)
a = np.zeros((blocks, ROW * MANY), f4)
for m in range(n):
    for axis in range(3):
        a[m // MANY, axis * MANY + m % MANY] = p[axis, m]
nodes = np.zeros(N * N * N * 4 + 4, f4)
planes = np.array([0, n] + [n] * (N - 1), np.int32)
shape = np.array([N, N, N])
grains.to_nodes(a, planes, nodes, shape, *(f4(x) for x in (0.001, 0.1, 10, 10, 10)), 0, 1)
grains.weighed(a, planes, nodes, shape, 0, 1)
grains.marked(a, np.zeros(N**3, bool), shape, np.zeros(n, bool), 0, n)

# trees: every place ends
from errant_gust.core.geometry.mesh import make_mesh
from errant_gust.core.geometry.sdf import MeshDistance
corners = np.array([[0, 0, 0], [1, 0, 0], [0, 1, 0], [0, 0, 1.0]])
mesh = make_mesh(corners, np.array([[0, 2, 1], [0, 1, 3], [1, 2, 3], [0, 3, 2]]), "m")
mesh.closest(p.T)
mesh.winding(p.T)
sdf = MeshDistance(mesh, cells=12)
sdf.rough(p)
sdf.sample(p, 2)
from errant_gust.core.geometry.curves import curve_set
line = tuple((x, x * x, 0.0) for x in (0.0, 0.5, 1.0, 1.5))
curve_set((line,), True, False, "c").nearest(p)
print("all within")
"""


def test_no_kernel_reads_or_writes_outside_its_arrays_whatever_the_places_are():
    env = {**os.environ, "NUMBA_BOUNDSCHECK": "1", "ERRANT_GUST_KERNELS": str(ROOT / "var/kernels-checked")}
    done = subprocess.run(
        [sys.executable, "-c", CALLS], env=env, cwd=ROOT, capture_output=True, text=True, timeout=500, check=False
    )
    assert done.returncode == 0, done.stderr[-3000:]
    assert done.stdout.strip().endswith("all within")
