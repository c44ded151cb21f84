"""The `gust` commands, for farm and terminal: the contract in docs/architecture.md."""
