"""Django: studies and runs in SQLite, the typed API, the built front end."""
