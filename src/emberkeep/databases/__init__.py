"""Databases of a server: SQLite, opened without ever writing beside them, and MariaDB by its own client."""
