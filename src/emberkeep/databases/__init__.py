"""Databases of a server: SQLite so far, opened without ever writing beside them."""
