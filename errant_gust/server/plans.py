"""Plans of the documents that are being looked at, kept by content."""

import json
import threading
from collections import OrderedDict
from typing import Any

from errant_gust.core.fields.plan import Plan
from errant_gust.core.runs.carried import plan_of as opened
from errant_gust.core.study import document
from errant_gust.server import revisions

_lock = threading.Lock()
_plans: OrderedDict[tuple[str, int], Plan] = OrderedDict()


def plan_of(key: str, data: dict[str, Any]) -> Plan:
    """The plan of a document as sent; parsing is skipped for one seen lately."""
    # looks, names and so on change the hash too; that only costs a parse
    mark = (key, hash(json.dumps(data, sort_keys=True)))
    with _lock:
        if mark in _plans:
            _plans.move_to_end(mark)
            return _plans[mark]
    plan = opened(document.parse(data), revisions.assets(key))
    with _lock:
        _plans[mark] = plan
        while len(_plans) > 24:
            _plans.popitem(last=False)
    return plan
