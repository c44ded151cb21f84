"""Runs: frames computed from one flow of one version of a study, kept in a frame store."""
