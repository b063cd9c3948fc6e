"""Guessing keep.toml from a server folder that nobody prepared: what adopt finds, and how sure it is."""
