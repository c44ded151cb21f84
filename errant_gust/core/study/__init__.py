"""The study document: models, parameter values, links and keys, content hashes. No numerics."""
