"""Prints the numbers of light and colour that the front end draws by, in its build."""

import json

from errant_gust.core.pictures.shown import shown

if __name__ == "__main__":
    print(json.dumps(shown()))
