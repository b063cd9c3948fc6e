"""Upkeep of the keep itself, and of the copy of a far server."""
