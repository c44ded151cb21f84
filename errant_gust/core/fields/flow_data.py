"""The one door by which fields ask flows, which stand above them: handed to a `Plan` by who makes it."""

from typing import Any, Protocol

from errant_gust.core.blocks import Cancel
from errant_gust.core.errors import StudyError
from errant_gust.core.fields.samples import Array
from errant_gust.core.grids.grid import Grid


class FlowPoints(Protocol):
    """Points of a flow: position (n, 3) in m, velocity (n, 3) in m/s, and channels (n,) or (n, 3) by name."""

    @property
    def position(self) -> Array:
        """(n, 3) float32 in m."""

    @property
    def velocity(self) -> Array:
        """(n, 3) float32 in m/s."""

    @property
    def channels(self) -> dict[str, Array]:
        """Everything that the points carry by name, (n,) or (n, k)."""

    @property
    def count(self) -> int:
        """How many there are."""


class FlowData(Protocol):
    """What flows hold at a time. A flow that would be asked for itself is a StudyError that tells the path; so is one
    that offers nothing of the form. `scene`: whose study and time; `where`: the place in the study that asks."""

    def points_at(self, scene: Any, flow: str, where: str, cancel: Cancel | None = None) -> FlowPoints:
        """Points of the flow's preview on the frame of the scene's time; frames before it are computed if need be."""

    def volume_at(
        self, scene: Any, flow: str, channel: str, quality: str, frame: int, where: str, cancel: Cancel | None = None
    ) -> Grid:
        """A channel of the flow's run on a frame; frames up to it are computed if need be."""

    def frame_at(
        self, scene: Any, flow: str, quality: str, frame: int, where: str, cancel: Cancel | None = None
    ) -> tuple[dict[str, Array], dict[str, Any]]:
        """Arrays and facts of the flow's run on a frame; frames up to it are computed if need be. Shapes are those
        that the kind of flow stores: (n,) and (n, 3) of points, (nx, ny, nz) of cells."""

    def lines_at(
        self, scene: Any, flow: str, quality: str, frame: int, where: str, cancel: Cancel | None = None
    ) -> Any:
        """The lines that a flow's lane draws from a frame of its run, as `flows.results.Lines`; frames up to it are
        computed if need be."""

    def mesh_at(
        self, scene: Any, flow: str, quality: str, frame: int, where: str, cancel: Cancel | None = None
    ) -> tuple[Array, Array]:
        """Vertices (v, 3) and faces (f, 3) of a flow's surface on a frame of its run: what its lane draws, else what
        its frames hold; frames up to it are computed if need be."""


class NoFlows:
    """For plans of studies whose fields ask no flows."""

    def points_at(self, scene: Any, flow: str, where: str, cancel: Cancel | None = None) -> FlowPoints:
        """Raises StudyError: no runs can be read here."""
        raise self._refusal(flow, where)

    def volume_at(
        self, scene: Any, flow: str, channel: str, quality: str, frame: int, where: str, cancel: Cancel | None = None
    ) -> Grid:
        """Raises StudyError: no runs can be read here."""
        raise self._refusal(flow, where)

    def frame_at(
        self, scene: Any, flow: str, quality: str, frame: int, where: str, cancel: Cancel | None = None
    ) -> tuple[dict[str, Array], dict[str, Any]]:
        """Raises StudyError: no runs can be read here, so there are no arrays of any shape."""
        raise self._refusal(flow, where)

    def lines_at(
        self, scene: Any, flow: str, quality: str, frame: int, where: str, cancel: Cancel | None = None
    ) -> Any:
        """Raises StudyError: no runs can be read here."""
        raise self._refusal(flow, where)

    def mesh_at(
        self, scene: Any, flow: str, quality: str, frame: int, where: str, cancel: Cancel | None = None
    ) -> tuple[Array, Array]:
        """Raises StudyError: no runs can be read here, so there are no vertices (n, 3) and triangles (m, 3)."""
        raise self._refusal(flow, where)

    @staticmethod
    def _refusal(flow: str, where: str) -> StudyError:
        return StudyError(f"the flow '{flow}' cannot be asked here", where=where, fix="open the study with its runs")
