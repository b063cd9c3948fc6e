"""What a fresh look at the server folder would add to keep.toml or put right in it, and how that is written.

The admin's own entries and comments stay: what they say of a file counts, and only what they say nothing of is
proposed, or what points at nothing any more. Answered questions are not asked again.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping
from dataclasses import dataclass
from typing import Any

import tomlkit
from tomlkit.items import Array, InlineTable, Item, String, Table
from tomlkit.toml_document import TOMLDocument

from emberkeep.detection.draft import drafted_scopes, plain
from emberkeep.detection.findings import Adoption, Sure, VersionFinding
from emberkeep.errors import first_of
from emberkeep.fs import globs
from emberkeep.fs.folder_tree import FolderTree
from emberkeep.fs.trees import Kind
from emberkeep.inventory.roles import Roles, selection
from emberkeep.inventory.versions import find
from emberkeep.keep.config import Config
from emberkeep.keep.tables.server import UNSORTED

_Edit = Callable[[TOMLDocument], None]


@dataclass(frozen=True)
class Proposal:
    """A change of keep.toml. ``where``: dotted path of the entry; ``what``: in words."""

    where: str
    what: str
    evidence: str
    sure: Sure
    edit: _Edit


@dataclass(frozen=True)
class Refresh:
    """All proposals, and entries that name nothing that is there, which stay as they are."""

    proposals: tuple[Proposal, ...]
    idle: tuple[str, ...]


def refresh(config: Config, adoption: Adoption) -> Refresh:
    """Compare what keep.toml says with what stands there."""
    tree = FolderTree(adoption.server)
    proposals = [
        *_roles(config, adoption, tree),
        *_versions(config, adoption, tree),
        *_world(config, adoption, tree),
        *_launch(config, adoption, tree),
        *_log(config, adoption),
        *_player_bound(config, adoption, tree),
        *_scopes(config, adoption, tree),
        *_records(config, adoption),
    ]
    return Refresh(tuple(proposals), tuple(_idle(config, tree)))


def written(text: str, proposals: Iterable[Proposal]) -> str:
    """keep.toml with the proposals in it; all else as it was, comments included."""
    document = tomlkit.parse(text)
    for proposal in proposals:
        proposal.edit(document)
    return tomlkit.dumps(document)


# --- what is proposed --------------------------------------------------------


def _roles(config: Config, adoption: Adoption, tree: FolderTree) -> Iterator[Proposal]:
    roles = Roles(config.roles)
    bare = [
        path for path, entry in tree.entries().items() if entry.kind is not Kind.FOLDER and roles.of(path) == UNSORTED
    ]
    for found in adoption.roles:
        pattern = globs.compiled(found.glob)
        covers = [path for path in bare if pattern.fullmatch(path)]
        if not covers:
            continue
        bare = [path for path in bare if path not in covers]
        what = f"add {found.glob}, which covers {first_of(covers, 1)}, unsorted so far"
        yield Proposal(
            f"roles.{found.role}",
            what,
            found.evidence,
            found.sure,
            _added(("roles",), found.role, found.glob, _note(found.sure, found.evidence)),
        )


def _versions(config: Config, adoption: Adoption, tree: FolderTree) -> Iterator[Proposal]:
    known = {source.name: source for source in config.versions}
    live = {item.name for item in find(tree, config.versions)}
    for found in adoption.versions:
        where = f"versions.{found.name}"
        if found.name not in known:
            yield Proposal(where, f"add it: {found.version}", found.evidence, found.sure, _version(found))
        elif found.name not in live:
            yield Proposal(
                where,
                f"look in {', '.join(found.within)}: its pattern finds nothing now",
                found.evidence,
                found.sure,
                _version(found),
            )


def _version(found: VersionFinding) -> _Edit:
    def edit(document: TOMLDocument) -> None:
        table = _table(document, ("versions", found.name), _note(found.sure, found.evidence))
        table["pattern"] = _literal(found.pattern)
        table["in"] = list(found.within)

    return edit


def _world(config: Config, adoption: Adoption, tree: FolderTree) -> Iterator[Proposal]:
    mine, found = config.world, adoption.world
    entries = tree.entries()
    if found.pointer_file and found.pointer_kept and (mine.pointer is None or mine.pointer.file not in entries):
        pointer = {"file": found.pointer_file, "key": found.pointer_key}
        what = f"{found.pointer_key} in {found.pointer_file} names the world"
        yield _setting(
            "world.pointer", what, found.pointer_evidence, found.pointer_sure, ("world",), "pointer", pointer
        )
    if found.tiles and not mine.tiles:
        tiles: dict[str, object] = {"names": found.tiles, **({"sector": found.sector} if found.sector else {})}
        yield _setting(
            "world.tiles",
            f"tiles are named {found.tiles}",
            found.evidence,
            found.sure,
            ("world",),
            "tiles",
            tiles,
        )
    if found.numbered and not mine.numbered:
        evidence = "a number in the save's name that no setting gives"
        yield _setting(
            "world.numbered",
            f"saves are named {found.numbered}",
            evidence,
            Sure.LIKELY,
            ("world",),
            "numbered",
            {"names": found.numbered},
        )
    fresh = [folder for folder in found.dimensions if folder not in mine.dimensions]
    if fresh:
        dimensions = [*mine.dimensions, *fresh]
        yield _setting(
            "world.dimensions",
            f"add {', '.join(fresh)}",
            "tiles named alike stand there",
            Sure.LIKELY,
            ("world",),
            "dimensions",
            dimensions,
        )


def _launch(config: Config, adoption: Adoption, tree: FolderTree) -> Iterator[Proposal]:
    mine, found = config.launch, adoption.launch
    if found is None:
        return
    if mine.script not in tree.entries():
        yield _setting(
            "launch.script",
            f"{found.script} starts the server",
            found.evidence,
            found.sure,
            ("launch",),
            "script",
            found.script,
        )
    if found.program and mine.program not in tree.entries():
        yield _setting(
            "launch.program",
            f"the program is {found.program}",
            found.evidence,
            found.sure,
            ("launch",),
            "program",
            found.program,
        )
    for item in found.arguments:
        if item.purpose not in mine.keys:
            yield _setting(
                f"launch.{item.purpose}",
                f"{item.key}, now {item.value}",
                item.evidence,
                item.sure,
                ("launch",),
                item.purpose,
                item.key,
            )


def _log(config: Config, adoption: Adoption) -> Iterator[Proposal]:
    if adoption.log is None:
        return
    if not config.log.within:
        yield _setting(
            "log.in",
            adoption.log.file,
            "the newest log",
            Sure.SURE,
            ("log",),
            "in",
            [adoption.log.glob],
        )
    for line in adoption.log.lines:
        if line.kind not in config.log.patterns:
            what = f"as in “{line.example}”" if line.example else line.pattern
            yield _setting(
                f"log.{line.kind}", what, line.evidence, line.sure, ("log",), line.kind, _literal(line.pattern)
            )


def _player_bound(config: Config, adoption: Adoption, tree: FolderTree) -> Iterator[Proposal]:
    known = {path for path in tree.entries() if globs.matches(path, config.player_bound)}
    for found in adoption.player_bound:
        pattern = globs.compiled(found.glob)
        if any(pattern.fullmatch(path) and path not in known for path in tree.entries()):
            yield Proposal(
                "player-bound.files",
                f"add {found.glob}",
                found.evidence,
                found.sure,
                _added(("player-bound",), "files", found.glob, _note(found.sure, found.evidence)),
            )


def _scopes(config: Config, adoption: Adoption, tree: FolderTree) -> Iterator[Proposal]:
    """What scopes would clear besides, had they been drafted now: a file that was broken then told nothing."""
    mine = {scope.name: scope for scope in config.wiping.scopes}
    for name, drafted in drafted_scopes(adoption).items():
        scope = mine.get(name)
        if scope is None:
            yield Proposal(
                f"scopes.{name}", "add it", "files of that kind are there", Sure.LIKELY, _new_scope(name, drafted)
            )
            continue
        picked = scope.picked
        wanted = selection([*picked.files, *scope.stays], config.roles, config.world.tiles)
        named = {one.file for one in picked.records} | {one.database for one in picked.rows}
        for pattern in drafted.get("files", ()):
            chosen = selection([pattern], [*config.roles, *_as_roles(adoption)], config.world.tiles)
            new = [path for path in tree.entries() if chosen(path) and not wanted(path) and path not in named]
            if new and pattern not in picked.files:
                what = f"add {pattern}, which it would clear, too: {new[0]}"
                yield Proposal(
                    f"scopes.{name}.files",
                    what,
                    f"{len(new)} files",
                    Sure.LIKELY,
                    _added(("scopes", name), "files", pattern, ""),
                )
        records = {(one.file, one.at) for one in picked.records}
        for item in drafted.get("records", ()):
            if (item["file"], item["at"]) not in records and not wanted(item["file"]):
                what = f"add {item['at']} in {item['file']}"
                yield Proposal(
                    f"scopes.{name}.records",
                    what,
                    "players' ids stand in it",
                    Sure.LIKELY,
                    _listed(name, "records", item),
                )
        rows = {(one.database, one.table) for one in picked.rows}
        for item in drafted.get("rows", ()):
            if (item["database"], item["table"]) not in rows and not wanted(item["database"]):
                what = f"add the table {item['table']} of {item['database']}"
                yield Proposal(
                    f"scopes.{name}.rows", what, "players' ids stand in it", Sure.LIKELY, _listed(name, "rows", item)
                )


def _as_roles(adoption: Adoption) -> list[tuple[str, list[str]]]:
    return [(found.role, [found.glob]) for found in adoption.roles]


def _new_scope(name: str, answer: Mapping[str, Any]) -> _Edit:
    def edit(document: TOMLDocument) -> None:
        table = _table(document, ("scopes", name))
        for key, value in answer.items():
            table[key] = value

    return edit


def _listed(scope: str, key: str, item: Mapping[str, Any]) -> _Edit:
    """One more inline table in a list of such."""

    def edit(document: TOMLDocument) -> None:
        made = tomlkit.inline_table()
        made.update(item)
        table = _table(document, ("scopes", scope))
        if not isinstance(table.get(key), Array):
            table[key] = tomlkit.array()
        held = table[key]
        assert isinstance(held, Array)
        held.append(made)

    return edit


def _records(config: Config, adoption: Adoption) -> Iterator[Proposal]:
    known = [pattern for pattern, _ in config.records]
    for found in adoption.records:
        if found.rule and not globs.matches(found.file, known):
            what = f"{found.path.lstrip('/')} in {found.file} is told apart by {' and '.join(found.rule)}"
            where, evidence = f"records.{found.file}", f"unique in {found.count}"
            yield _setting(where, what, evidence, found.sure, ("records", found.file), found.path, list(found.rule))


def _idle(config: Config, tree: FolderTree) -> Iterator[str]:
    """Entries that match nothing."""
    for role, patterns in config.roles:
        for pattern in patterns:
            compiled = globs.compiled(pattern)
            if not any(compiled.fullmatch(path) for path in tree.entries()):
                yield f"roles.{role}: {pattern} matches nothing now"
    for pattern, _ in config.records:
        if not any(globs.matches(path, [pattern]) for path in tree.entries()):
            yield f"records: {pattern} matches nothing now"


# --- how it is written -------------------------------------------------------


def _note(sure: Sure, evidence: str) -> str:
    return f"{sure}: {plain(evidence)}"


def _literal(pattern: str) -> String:
    return tomlkit.string(pattern, literal="'" not in pattern and pattern.isprintable())


def _table(document: TOMLDocument, path: tuple[str, ...], note: str = "") -> Table:
    """The table at ``path``, made where it is missing, with a comment as its first line."""
    here: TOMLDocument | Table = document
    for at, name in enumerate(path):
        found = here.get(name)
        if not isinstance(found, Table):
            found = tomlkit.table(is_super_table=at < len(path) - 1)
            if at == len(path) - 1 and note:
                found.add(tomlkit.comment(note))
            here[name] = found
            found = here[name]
        here = found
    assert isinstance(here, Table)
    return here


def _setting(
    where: str, what: str, evidence: str, sure: Sure, path: tuple[str, ...], key: str, value: object
) -> Proposal:
    """A key set anew, with its evidence behind it."""

    def edit(document: TOMLDocument) -> None:
        if isinstance(value, dict):
            item: Item = tomlkit.inline_table()
            assert isinstance(item, InlineTable)
            item.update(value)
        else:
            item = tomlkit.item(value)
        _table(document, path)[key] = item
        item.comment(_note(sure, evidence))

    return Proposal(where, what, evidence, sure, edit)


def _added(path: tuple[str, ...], key: str, text: str, note: str) -> _Edit:
    """One more line in a list."""

    def edit(document: TOMLDocument) -> None:
        table = _table(document, path)
        found = table.get(key)
        if not isinstance(found, Array):
            table[key] = tomlkit.array()
            found = table[key]
        assert isinstance(found, Array)
        found.add_line(text, comment=note, indent="    ", newline=True)
        if not found.as_string().rstrip("]").endswith("\n"):
            found.add_line(indent="", newline=True, add_comma=False)

    return edit
