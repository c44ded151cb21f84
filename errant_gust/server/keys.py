"""What a study's folder may be called, and how long what was deleted stays."""

import re
from datetime import timedelta

KEPT = timedelta(days=1)
"""How long what was deleted can be brought back after a restart of the server."""
KEY = re.compile(r"[a-z][a-z0-9_]{0,39}")
