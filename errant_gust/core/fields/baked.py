"""Bake: the field turned into voxels on a region, sampled between them."""

from typing import Literal

from errant_gust.core.fields.samples import At, Samples
from errant_gust.core.fields.step import Change
from errant_gust.core.study.parameters import RegionId, param


class Bake(Change):
    """Evaluates everything before it once per time on the voxels of a region, then interpolates trilinearly.

    Dear fields become quick to sample, and nothing finer than a voxel remains. The gradient is the derivative of the
    interpolant. `region` must fit the memory budget.
    """

    id = "bake"
    label = "Bake"
    yields = "the field as voxels"
    headline = "region"
    formula = "f' = trilinear interpolation of f at the voxel middles"

    region: RegionId = param(help="Where, and how fine")
    outside: Literal["zero", "clamp", "repeat"] = param("zero", help="What the field is outside the region")

    def evaluate(self, at: At) -> Samples:
        grid = at.node.kept("grid", at.node.baked_grid)
        if not at.gradient:
            return Samples(grid.sample(at.points))
        return Samples(*grid.sample_with_gradient(at.points))
