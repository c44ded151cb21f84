"""The `gust` commands, for farm and terminal: the contract in docs/architecture.md. Their process is ours alone."""

from errant_gust.tuning import tune

tune()
