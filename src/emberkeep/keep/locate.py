"""Where a keep lies, and the server folder that it is of, found before keep.toml is read in full.

This is loaded before all else, so it loads next to nothing itself.
"""

from __future__ import annotations

import os
from collections.abc import Iterator, Mapping

FILE = "keep.toml"
SCHEMA = "keep.schema.json"
"""What keep.toml may hold, beside it, for editors that complete and check by it; …"""
SCHEMA_LINE = f"#:schema ./{SCHEMA}"
"""… this line tells them so."""
SUFFIX = ".keep"
VARIABLE = "EMBERKEEP_KEEP"


def keep_meant(explicit: str | None, environment: Mapping[str, str], here: str) -> str:
    """The folder of the keep meant by ``--keep`` or by the variable, whether or not there is one, or else found from
    the folder ``here`` upwards; "" where none is."""
    named = explicit or environment.get(VARIABLE)
    if named:
        return os.path.abspath(named)
    return next((folder for folder in _candidates(here) if is_keep(folder)), "")


def is_keep(folder: str) -> bool:
    """Whether a folder is a keep."""
    return os.path.isfile(os.path.join(folder, FILE))


def _candidates(folder: str) -> Iterator[str]:
    while True:
        yield folder
        above, name = os.path.split(folder)
        if not name:
            return
        yield folder + SUFFIX  # the keep that belongs to a server folder by default
        folder = above


def inside(keep: str, text: str) -> str:
    """The folder that keep.toml tells as ``text``."""
    return os.path.normpath(os.path.join(keep, text))


def likely_server(keep: str) -> str:
    """The server folder, as far as a quick look at keep.toml tells; "" where it does not, as when that is no good."""
    import tomllib

    try:
        with open(os.path.join(keep, FILE), "rb") as file:  # noqa: PTH123 - loads no pathlib
            server = tomllib.load(file)["server"]["folder"]
        return inside(keep, server)
    except (OSError, ValueError, KeyError, TypeError, RecursionError):
        return ""
