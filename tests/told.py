"""`python -m tests.told`: what the server lists and its demo studies, as the interface is told of them; its tests are
tried on that (`web/tests/real.ts`)."""

import json

from errant_gust.core.api import open_study
from errant_gust.core.listing import catalogue
from errant_gust.core.study.document import dump
from tests.studies import DEMO

if __name__ == "__main__":
    demos = {path.name.removesuffix(".gust.json"): dump(open_study(path).study) for path in DEMO.glob("*.gust.json")}
    print(json.dumps({"catalogue": catalogue(), "demos": demos}))
