"""The vendor's SQL as it is laid out in folders: which files take which database from one version to the next.

``[vendor-sql] layout`` of keep.toml is a pattern of paths. What stands in place of ``{from}`` are the versions that a
set of files begins from; ``{to}``, where the layout has it, tells what it leads to, and elsewhere the next ``{from}``
does. See ``database``.
"""

from __future__ import annotations

import re
from collections.abc import Collection, Iterable, Mapping
from dataclasses import dataclass

from emberkeep.errors import Place, Refused, UsageError, first_of
from emberkeep.fs import globs
from emberkeep.fs.trees import FILE, Tree
from emberkeep.inventory.versions import ordering
from emberkeep.keep.tables.databases import Databases, VendorSql
from emberkeep.migrating.apply import is_so
from emberkeep.migrating.chain import same_version
from emberkeep.migrating.recipe import When

_VERSION = r"[vV]?\d[0-9A-Za-z.+]*(?:-\d[0-9A-Za-z.+]*)*?"
_NATURAL = re.compile(r"(\d+)")


@dataclass(frozen=True)
class Batch:
    """SQL files of one part that take one database over one version step, in order."""

    old: str
    new: str
    part: str
    database: str
    files: tuple[str, ...]

    @property
    def words(self) -> str:
        """It, for people."""
        part = f"{self.part} of " if self.part else ""
        return f"SQL {self.old} → {self.new}, {part}{self.database}"


@dataclass(frozen=True)
class _Found:
    """A file that fits the layout."""

    path: str
    old: str
    new: str
    part: str
    database: str
    variant: str


def batches(
    tree: Tree, databases: Databases, old: str, new: str, *, server: Tree, known: Iterable[str] = ()
) -> list[Batch]:
    """The batches that lead from one version to another: link by link, part by part, database by database.

    ``server``: the server folder, for conditions; ``known``: versions that there are besides. Refused where a link is
    missing, or a file is meant for a database or part that keep.toml does not name.
    """
    layout = databases.vendor
    if not layout.layout:
        raise UsageError(
            "keep.toml does not tell how the vendor's SQL is laid out",
            hint='[vendor-sql] layout = "{from}/{database}/{part}-*.sql"',
        )
    found = list(_files(tree, layout))
    if not found:
        raise Refused(
            f"nothing in {tree.label} is laid out as {layout.layout}",
            place=Place(tree.label),
            hint="see [vendor-sql] layout in keep.toml, and the folder that --sql names",
        )
    variant = _variant(layout, server) if "{variant}" in layout.layout else ""
    made: list[Batch] = []
    for begins, leads, version in _links(found, old, new, known, tree.label):
        of_link = [one for one in found if one.old == version and variant in ("", one.variant)]
        _check_names(of_link, databases, tree.label)
        _check_placed(tree, layout, version, {one.path for one in found})
        for part in layout.parts if "{part}" in layout.layout else ("",):
            for database in databases.all:
                chosen = [one.path for one in of_link if (one.part, one.database) == (part, database.name)]
                if chosen:
                    made.append(Batch(begins, leads, part, database.name, tuple(sorted(chosen, key=natural))))
    return made


def natural(path: str) -> list[tuple[int, int | str]]:
    """Sorts 2 before 10."""
    return [(0, int(part)) if part.isdigit() else (1, part) for part in _NATURAL.split(path) if part]


def _files(tree: Tree, layout: VendorSql) -> Iterable[_Found]:
    pattern = _pattern(layout.layout)
    for path, entry in tree.entries().items():
        fits = pattern.fullmatch(path) if entry.kind is FILE else None
        if fits is not None:
            groups = fits.groupdict()
            yield _Found(
                path,
                groups["from"].lstrip("vV"),
                (groups.get("to") or "").lstrip("vV"),
                groups.get("part") or "",
                groups["database"],
                groups.get("variant") or "",
            )


def _pattern(layout: str) -> re.Pattern[str]:
    parts = re.split(r"\{(\w+)\}", layout)
    made, used = "", set()
    for at, part in enumerate(parts):
        if at % 2 == 0:
            made += globs.as_regex(part) if part else ""
        elif part in used:
            made += f"(?P={part})"
        else:
            made += f"(?P<{part}>{_VERSION if part in ('from', 'to') else '[^/]+?'})"
            used.add(part)
    return re.compile(made)


def _links(found: list[_Found], old: str, new: str, known: Iterable[str], label: str) -> list[tuple[str, str, str]]:
    """Version steps in order: from, to, and how the folders spell the first."""
    if ordering(old) > ordering(new) and not same_version(old, new):
        raise Refused(
            f"the databases are of {old}, newer than {new}; it only goes forward",
            hint="restore the snapshot that was taken before they went on",
        )
    leads: Mapping[str, str] = {one.old: one.new for one in found}
    starts = sorted(leads, key=ordering)
    links: list[tuple[str, str, str]] = []
    at = old
    while not same_version(at, new):
        begins = next((version for version in starts if same_version(version, at)), None)
        if begins is None:
            raise Refused(
                f"there is no SQL that leads on from {at} (there is from {', '.join(starts)})",
                place=Place(label),
                hint="each set leads only from its direct predecessor: get the one that is missing from the vendor",
            )
        following = leads[begins] or _next(begins, starts, known, new)
        if ordering(following) > ordering(new) and not same_version(following, new):
            raise Refused(
                f"the SQL from {begins} leads to {following}, past {new}",
                place=Place(label),
                hint="name a version that the vendor's SQL stops at",
            )
        links.append((at, following, begins))
        at = following
    return links


def _next(begins: str, starts: list[str], known: Iterable[str], new: str) -> str:
    """What a set leads to that does not tell it: the next version that there is."""
    later = (one for one in {*starts, *known, new} if ordering(one) > ordering(begins))
    return min((one for one in later if not same_version(one, begins)), key=ordering)


def _check_names(found: list[_Found], databases: Databases, label: str) -> None:
    for one in found:
        if databases.named(one.database) is None:
            known = ", ".join(database.name for database in databases.all)
            raise Refused(
                f"this is for a database '{one.database}', which keep.toml does not name",
                place=Place(f"{label}/{one.path}"),
                hint=f"known: {known}; put [[database]] or [vendor-sql] layout right",
            )
        if one.part and one.part not in databases.vendor.parts:
            raise Refused(
                f"this is for a part '{one.part}', which keep.toml does not name",
                place=Place(f"{label}/{one.path}"),
                hint=f"add it to [vendor-sql] parts, which names {list(databases.vendor.parts)}",
            )


_FIRST = re.compile(r"\d+(?:\.\d+)+")


def _begun_from(path: str) -> set[str]:
    """The versions that a path's folders and name begin with."""
    return {found[0] for part in path.split("/") if (found := _FIRST.search(part))}


def _check_placed(tree: Tree, layout: VendorSql, version: str, placed: Collection[str]) -> None:
    """Refused where a step brings SQL that the layout has no place for: without it, it would be half a step."""
    besides = globs.combined(layout.besides) if layout.besides else None
    strays = [
        path
        for path, entry in sorted(tree.entries().items())
        if entry.kind is FILE
        and path.lower().endswith(".sql")
        and path not in placed
        and version in _begun_from(path)
        and not (besides and besides.fullmatch(path))
    ]
    if strays:
        raise Refused(
            f"this SQL of the step from {version} fits no part of the layout {layout.layout}: {first_of(strays, 1)}",
            place=Place(tree.label),
            hint='put [vendor-sql] layout or parts right, or name what no step is to run in its besides = ["GLOB"]',
        )


def _variant(layout: VendorSql, server: Tree) -> str:
    """The variant that is meant for this server."""
    met = (one.name for one in layout.variants if is_so(When(one.file, one.key, one.value), server))
    found = next(met, layout.otherwise)
    if not found:
        raise Refused(
            "none of the conditions of [vendor-sql] variants is so on this server",
            hint="'otherwise' names the variant for all others",
        )
    return found
