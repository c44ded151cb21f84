"""A study ready to be evaluated at any time."""

from __future__ import annotations

from collections import OrderedDict
from typing import Any

from errant_gust.core.errors import GustError, StudyError
from errant_gust.core.fields.flow_data import FlowData, NoFlows
from errant_gust.core.fields.scene import Scene
from errant_gust.core.geometry.shapes import Assets
from errant_gust.core.making import inner_lock
from errant_gust.core.study import document

KEPT_SCENES = 48


class Plan:
    """A study ready to be evaluated at any time; scenes of recent times are kept."""

    def __init__(self, study: document.Study, assets: Assets | None = None, data: FlowData | None = None) -> None:
        """`data`: what fields ask flows by; without it, fields that are made from flows cannot be evaluated."""
        self.study, self.assets, self.data = study, assets or Assets(), data or NoFlows()
        self._scenes: OrderedDict[float, Scene] = OrderedDict()
        self._lock = inner_lock("scenes of a plan")

    def at(self, time: float) -> Scene:
        """The study at a time in s; made once, and kept for a while."""
        time = float(time)
        with self._lock:
            if time not in self._scenes:
                self._scenes[time] = Scene(self.study, time, self.assets, self)
                while len(self._scenes) > KEPT_SCENES:
                    self._scenes.popitem(last=False)
            self._scenes.move_to_end(time)
            return self._scenes[time]

    def problems(self, time: float = 0.0) -> list[GustError]:
        """Everything that keeps a lane, shape or region of the study from being built at a time."""
        scene, found = Scene(self.study, time, self.assets, self), []
        tries: list[Any] = [(f"shapes.{s.id}", lambda id=s.id: scene.shape(id).box) for s in self.study.shapes]
        tries += [(f"regions.{r.id}", lambda id=r.id: scene.region(id)) for r in self.study.regions]
        tries += [(f"fields.{f.id}", lambda id=f.id: scene.steps(id)) for f in self.study.fields]
        for place, attempt in tries:
            try:
                attempt()
            except GustError as error:
                found.append(error)
            except (ValueError, ArithmeticError, OSError, RecursionError) as error:  # a fault stays with its part
                found.append(StudyError(str(error)[:200], where=place))
        unique = {str(error): error for error in found}
        return list(unique.values())
