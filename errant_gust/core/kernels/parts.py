"""Connected parts of a grid: cells that open faces join, found by union and find, and their means."""

import numpy as np

from errant_gust.core.kernels.compiler import inline, kernel

F0 = np.float32(0.0)


@inline
def root_of(parent, a):
    """The first cell of the set that cell `a` is in; the way there is made half as long."""
    while parent[a] != a:
        parent[a] = parent[parent[a]]
        a = parent[a]
    return a


@inline
def united(parent, a, b):
    """Makes the sets of two cells one; its first cell is the smaller of the two."""
    a, b = root_of(parent, a), root_of(parent, b)
    if a < b:
        parent[b] = a
    else:
        parent[a] = b


@inline
def united_rows(parent, runs, share, row, other, nz):
    """Unites the runs of two neighbouring rows that open faces between them connect."""
    last_a, last_b = -1, -1
    for k in range(nz):
        a, b = runs[row + k], runs[other + k]
        if share[k] > F0 and (a != last_a or b != last_b):
            united(parent, a, b)
            last_a, last_b = a, b


@kernel
def label_parts(wx, wy, wz, dinv, extra, runs, parent, opened, parts):
    """Cells that open faces connect: numbers from 1 in the order of their first cells into `parts` (nx, ny, nz), 0
    where no face is open, negative where the part has an open side or a surface (`extra`, see `poisson`). Returns the
    number of parts.

    Union and find over runs of connected cells along z; runs, parent and opened (nx ny nz) are to work in.
    """
    nx, ny, nz = parts.shape
    for row in range(nx * ny):
        i, j = row // ny, row % ny
        first = row * nz
        for k in range(nz):
            a = row * nz + k
            if k == 0 or wz[i, j, k] == F0:
                first = a
            runs[a], parent[a], opened[a] = first, first, False
        if i > 0:
            united_rows(parent, runs, wx[i, j], row * nz, (row - ny) * nz, nz)
        if j > 0:
            united_rows(parent, runs, wy[i, j], row * nz, (row - 1) * nz, nz)
    for row in range(nx * ny):
        i, j = row // ny, row % ny
        for k in range(nz):
            a = row * nz + k
            beyond = (k == 0 and wz[i, j, k] > F0) or (k == nz - 1 and wz[i, j, k + 1] > F0)
            if i == 0 or i == nx - 1 or j == 0 or j == ny - 1:
                beyond = beyond or (i == 0 and wx[i, j, k] > F0) or (i == nx - 1 and wx[i + 1, j, k] > F0)
                beyond = beyond or (j == 0 and wy[i, j, k] > F0) or (j == ny - 1 and wy[i, j + 1, k] > F0)
            if extra.size:
                beyond = beyond or extra[i, j, k] > F0
            if beyond:
                opened[root_of(parent, runs[a])] = True
    count = 0
    for row in range(nx * ny):
        i, j = row // ny, row % ny
        number = 0
        for k in range(nz):
            a = row * nz + k
            if runs[a] == a:
                first, number = root_of(parent, a), 0
                if first != a:
                    number = parts[first // (ny * nz), first // nz % ny, first % nz]
                elif dinv[i + 1, j + 1, k + 1] > F0:
                    count += 1
                    number = -count if opened[a] else count
            parts[i, j, k] = number
    return count


@kernel
def parts_without_mean(a, parts, count):
    """Takes its mean off the padded a in every closed part (their numbers are 1 … count); always in one order."""
    nx, ny, nz = parts.shape
    sums, cells = np.zeros(count + 1), np.zeros(count + 1)
    for turn in range(2):
        for i in range(nx):
            for j in range(ny):
                row = a[i + 1, j + 1, 1 : nz + 1]
                for k in range(nz):
                    n = max(parts[i, j, k], 0)  # what is not closed is gathered at 0, whose mean stays 0
                    if turn == 0:
                        sums[n] += row[k]
                        cells[n] += 1
                    else:
                        row[k] -= np.float32(sums[n])
        if turn == 0:
            sums[0] = 0.0
            for n in range(1, count + 1):
                sums[n] /= max(cells[n], 1.0)
