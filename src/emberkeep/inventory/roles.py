"""Which role each path of a server folder has, and selections of paths (``SEL`` of the command line)."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Sequence
from difflib import get_close_matches

from emberkeep.errors import UsageError
from emberkeep.fs import globs
from emberkeep.keep.tables.server import ROLES, UNSORTED

RoleTable = Sequence[tuple[str, Sequence[str]]]

MERGED = ("settings", "economy", "scripts")
"""Roles whose files are merged with the vendor's defaults; the others are replaced or carried."""
SHIPPED = (*MERGED, "extensions", "extension-data", UNSORTED)
"""Roles whose files are merged where the vendor's releases ship them."""


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


def selection(selectors: Sequence[str], table: RoleTable, tiles: str = "") -> Callable[[str], bool]:
    """Whether a path is meant by any of the selectors: a role, ``role/GLOB``, a glob, or a range of tiles.

    ``tiles``: how tile files are named (``world.tiles.names`` of keep.toml). A glob that names a folder means all
    below it. UsageError for a selector that cannot be meant.
    """
    roles = Roles(table)
    tests = [_tiles(selector, tiles) or _test(selector, roles) for selector in selectors]
    return lambda path: any(test(path) for test in tests)


def require_some(selectors: Sequence[str], wanted: Callable[[str], bool], paths: Iterable[str], label: str) -> None:
    """UsageError where selectors were given and select none of ``paths``: a slip of the pen must not pass for
    "nothing to do". ``label``: what ``paths`` stand in."""
    paths = list(paths)
    if not selectors or any(map(wanted, paths)):
        return
    folders = {path[: at.start()] for path in paths for at in re.finditer("/", path)}
    near = get_close_matches(selectors[0].rstrip("/*"), {*ROLES, UNSORTED, *folders, *paths}, 1, 0.6)
    raise UsageError(
        f"{' and '.join(map(repr, selectors))} select{'s' if len(selectors) == 1 else ''} nothing in {label}",
        hint=f"was '{near[0]}' meant?" if near else "'emberkeep survey' shows the roles and where files stand",
    )


_RANGE = re.compile(r"(?:(?P<folder>.+)/)?tiles:(?P<range>.*)")
_CORNERS = re.compile(r"(-?\d+),(-?\d+)\.\.(-?\d+),(-?\d+)")


def _tiles(selector: str, names: str) -> Callable[[str], bool] | None:
    """``tiles:X1,Y1..X2,Y2``, both corners included, everywhere or (``FOLDER/tiles:…``) below one folder."""
    asked = _RANGE.fullmatch(selector)
    if asked is None:
        return None
    corners = _CORNERS.fullmatch(asked["range"])
    if corners is None:
        raise UsageError(f"'{selector}' is no range of tiles", hint="tiles:X1,Y1..X2,Y2 is wanted, as tiles:-2,0..3,4")
    if not names:
        raise UsageError(
            f"'{selector}' cannot be found: this keep does not know how tile files are named",
            hint="""set world.tiles in keep.toml, as tiles = { names = "chart/strip.{x}.{y}.sea" }""",
        )
    from emberkeep.inventory.tiles import (
        TileNames,  # only where tiles are asked for: it needs much that is slow to load
    )

    x1, y1, x2, y2 = map(int, corners.groups())
    (left, right), (low, high) = sorted((x1, x2)), sorted((y1, y2))
    found = TileNames(names)
    below = f"{asked['folder']}/" if asked["folder"] else ""

    def within(path: str) -> bool:
        place = found.place(path) if path.startswith(below) else None
        return place is not None and left <= place.x <= right and low <= place.y <= high

    return within


def _test(selector: str, roles: Roles) -> Callable[[str], bool]:
    if selector in ROLES or selector == UNSORTED:
        return lambda path: roles.of(path) == selector
    head, _, rest = selector.partition("/")
    if selector.startswith("/") or ".." in selector.split("/") or not selector:
        raise UsageError(
            f"'{selector}' is not a selection within the server folder",
            hint="a role, role/GLOB, a glob, or tiles:X1,Y1..X2,Y2 is wanted",
        )
    try:
        pattern = globs.combined([selector, selector.rstrip("/") + "/**"])
        of_role = globs.combined([rest, f"**/{rest}"])
    except re.error as error:
        raise UsageError(f"'{selector}' is no pattern: {error}") from error
    if head in ROLES and rest:  # a folder may be called as a role is, and then both are meant
        return lambda path: bool(pattern.fullmatch(path) or (roles.of(path) == head and of_role.fullmatch(path)))
    return lambda path: pattern.fullmatch(path) is not None
