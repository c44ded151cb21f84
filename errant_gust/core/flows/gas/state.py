"""The state of a gas flow."""

from errant_gust.core.flows.results import Channel
from errant_gust.core.grids.staggered.window import Window

ABOUT = (
    Channel("density", help="Of smoke; 1 is thick"),
    Channel("temperature", "K", signed=True, help="Above the air around"),
    Channel("fuel", help="What burns"),
    Channel("red", help="Density times the share of red"),
    Channel("green", help="Density times the share of green"),
    Channel("blue", help="Density times the share of blue"),
)
"""What is known of channels; further ones have no unit."""


class GasState(Window):
    """Velocities and channels within the window. Density has no unit (1 is thick smoke), temperature is in kelvin
    above the air around."""
