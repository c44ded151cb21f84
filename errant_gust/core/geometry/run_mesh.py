"""Mesh of a run: the surface that a flow has on each frame, as a shape."""

from typing import Literal

from errant_gust.core.geometry.made import MadeShape
from errant_gust.core.study.parameters import FlowId, param


class RunMesh(MadeShape):
    """The surface of a flow on the frame that is looked at, as a shape: to emit from, to collide with, to deform.

    It is what the lane's Surface draws, or the plain surface of what has grown. Frames that are not there yet are
    computed.
    """

    id = "run_mesh"
    label = "Mesh of a run"
    yields = "a shape that a flow makes"
    headline = "flow"
    mistake = (
        "Whatever is changed in the flow computes it anew before the shape can be used. A distance to it is made for "
        "every frame: to steer around what moves, a coarser surface is much quicker."
    )

    flow: FlowId = param(help="A lane that grows, or draws a surface", provides="mesh")
    quality: Literal["preview", "full"] = param("preview", help="The quick run of the flow, or the final one")
