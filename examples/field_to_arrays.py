"""A field of a demo study at places of your own, with its gradient, and on voxels. Prints what comes out."""

import numpy as np

import errant_gust as gust

study = gust.open_study("harbour_gust")
wind = gust.field(study, "wind")
places = np.random.default_rng(1).uniform([-3, -3, 0], [3, 3, 3], (1000, 3))
velocity, gradient = wind.sample_with_gradient(places, time=0.5)
divergence = np.trace(gradient, axis1=1, axis2=2)
print(f"{len(places)} places: speed {np.linalg.norm(velocity, axis=1).mean():.2f} m/s, "
      f"divergence {np.abs(divergence).mean():.3f} 1/s")  # fmt: skip

grid = gust.bake(study, "gusts", "quay")
print(f"gusts on {' x '.join(map(str, grid.region.shape))} voxels of {grid.region.voxel_size:g} m, {grid.unit}")
