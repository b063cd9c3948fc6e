"""Secrets: of consoles, webhooks and settings; from the environment, or a file that nobody else may read."""

from __future__ import annotations

import os
from collections.abc import Mapping, Sequence
from fnmatch import fnmatchcase
from pathlib import Path

from emberkeep.errors import Place, Refused, reason


def secret(variable: str, file: str, environment: Mapping[str, str], what: str) -> str:
    """A secret; "" where neither is told. Refused where it is not there, or others may read it."""
    if variable:
        if variable not in environment:
            raise Refused(
                f"{what} is not there: {variable} is not set in the environment",
                hint="set the variable where the command runs, or name a file in keep.toml",
            )
        return environment[variable]
    if not file:
        return ""
    path = Path(file)
    try:
        mode = path.stat().st_mode
        word = path.read_text(encoding="utf-8").strip()
    except OSError as error:
        raise Refused(
            f"{what} cannot be read: {reason(error)}", place=Place(str(path)), hint="name a file that you may read"
        ) from error
    if os.name == "posix" and mode & 0o077:  # Windows has no such bits
        raise Refused(f"others may read {what}", place=Place(str(path)), hint=f"chmod 600 {path}")
    return word


_USUAL = (
    "PATH", "HOME", "LANG", "LANGUAGE", "LC_*", "TZ", "TMPDIR", "USER", "LOGNAME", "SHELL", "TERM",
    "SYSTEMROOT", "SYSTEMDRIVE", "WINDIR", "COMSPEC", "PATHEXT", "TEMP", "TMP", "USERPROFILE", "USERNAME", "APPDATA",
    "LOCALAPPDATA", "PROGRAMDATA", "PROGRAMFILES*", "NUMBER_OF_PROCESSORS",
)  # fmt: skip
"""Variables that programs count on and that hold no secret: of POSIX systems, and of Windows."""


def handed_on(environment: Mapping[str, str], names: Sequence[str] = ()) -> dict[str, str]:
    """The environment of a program that is not ours: what is usual, and ``names``, ``*`` at an end for any. Our secrets
    stand in ours."""
    wanted = (*_USUAL, *names)
    return {name: value for name, value in environment.items() if any(fnmatchcase(name, one) for one in wanted)}
