"""Gas: smoke and heat on a staggered grid, steered by fields. Importing this defines the steps."""

from errant_gust.core.flows.gas import channels, detail, forces, obstacles, sources  # noqa: F401
