"""Which role each path of a server folder has, and selections of paths (``SEL`` of the command line)."""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence

from emberkeep import globs
from emberkeep.errors import UsageError
from emberkeep.keep import ROLES, UNSORTED

RoleTable = Sequence[tuple[str, Sequence[str]]]

MERGED = ("settings", "economy", "scripts")
"""Roles whose files are merged with the vendor's defaults; the others are replaced or carried."""


class Roles:
    """The role table of keep.toml, ready for many questions. First match wins."""

    def __init__(self, table: RoleTable) -> None:
        self._names = [role for role, _ in table]
        parts = ["|".join(f"(?:{globs.as_regex(pattern)})" for pattern in patterns) or r"(?!)" for _, patterns in table]
        self._pattern = re.compile("|".join(f"({part})" for part in parts) or r"(?!)", re.DOTALL)

    def of(self, path: str) -> str:
        """The role of a path, ``unsorted`` when none covers it."""
        found = self._pattern.fullmatch(path)
        return UNSORTED if found is None or found.lastindex is None else self._names[found.lastindex - 1]


def selection(selectors: Sequence[str], table: RoleTable) -> Callable[[str], bool]:
    """Whether a path is meant by any of the selectors: a role, ``role/GLOB`` or a glob.

    A glob that names a folder means all below it. UsageError for a selector that cannot be meant.
    """
    roles = Roles(table)
    tests = [_test(selector, roles) for selector in selectors]
    return lambda path: any(test(path) for test in tests)


def _test(selector: str, roles: Roles) -> Callable[[str], bool]:
    if selector in ROLES or selector == UNSORTED:
        return lambda path: roles.of(path) == selector
    head, _, rest = selector.partition("/")
    if selector.startswith("/") or ".." in selector.split("/") or not selector:
        raise UsageError(
            f"'{selector}' is not a selection within the server folder",
            hint="a role, role/GLOB, or a glob is wanted",
        )
    try:
        pattern = globs.compiled(rest if head in ROLES and rest else selector)
    except re.error as error:
        raise UsageError(f"'{selector}' is no pattern: {error}") from error
    if head in ROLES and rest:
        by_name = globs.compiled(f"**/{rest}")
        return lambda path: roles.of(path) == head and bool(pattern.fullmatch(path) or by_name.fullmatch(path))
    below = globs.compiled(selector.rstrip("/") + "/**")
    return lambda path: pattern.fullmatch(path) is not None or below.fullmatch(path) is not None
