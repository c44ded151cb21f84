"""python -m errant_gust.core.demos [FOLDER]"""

import sys
from pathlib import Path

from errant_gust.core.demos import build

for path in build(Path(sys.argv[1] if len(sys.argv) > 1 else "demo")):
    print(path)
