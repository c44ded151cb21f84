"""What a study's folder may be called."""

import re

KEY = re.compile(r"[a-z][a-z0-9_]{0,39}")
