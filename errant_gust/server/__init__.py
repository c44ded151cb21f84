"""Django: studies and runs in SQLite, the typed API, the built front end. Its process is ours alone."""

from errant_gust.tuning import tune

tune()
