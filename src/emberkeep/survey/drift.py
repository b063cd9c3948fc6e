"""Which version numbers drifted apart: the engine's, its default data's, those wanted; and what was left behind."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass

from emberkeep.comparing.fit import Fit
from emberkeep.comparing.records import facts
from emberkeep.documents import registry
from emberkeep.documents.identity import Rule
from emberkeep.errors import EmberKeepError
from emberkeep.fs import globs
from emberkeep.fs.trees import Kind, Tree, read
from emberkeep.inventory.extensions import Extension
from emberkeep.inventory.published import Published
from emberkeep.inventory.roles import Roles
from emberkeep.inventory.versions import VERSION, Found, ordering
from emberkeep.keep.config import Config
from emberkeep.keep.keep import Keep


@dataclass(frozen=True)
class VersionRow:
    """One version number: what it is now (every different one, the newest first), where each is told, what is wanted.

    ``remark``: in which way it drifted, "" when it did not.
    """

    name: str
    now: tuple[str, ...]
    sources: tuple[Found, ...]
    wanted: str
    remark: str


@dataclass(frozen=True)
class Missing:
    """Records that a release brought and that the live files lack, although the engine is of that release."""

    version: str
    records: tuple[str, ...]


def engine_version(config: Config, found: Sequence[Found]) -> str:
    """The engine's version: that of the program which the launch script starts, else the newest that is told."""
    versions = [item for item in found if item.name == "engine"]
    started = [item for item in versions if item.where == config.launch.program]
    return max((started or versions), key=lambda item: ordering(item.version)).version if versions else ""


def rows(found: Sequence[Found], installed: Sequence[Extension], wanted: Sequence[Published]) -> tuple[VersionRow, ...]:
    """Version numbers and what is wanted of each; those of extensions only where they are not installed as such."""
    extensions = {extension.name.lower() for extension in installed}
    wishes = {item.name: item for item in wanted}
    names = dict.fromkeys([*(item.name for item in found), *wishes])
    made = []
    for name in names:
        if name.lower() in extensions:
            continue
        sources = tuple(item for item in found if item.name == name)
        now = tuple(sorted({item.version for item in sources}, key=ordering, reverse=True))
        wish = wishes.get(name)
        made.append(VersionRow(name, now, sources, wish.version if wish else "", _remark(now, wish)))
    return tuple(made)


def _remark(now: Sequence[str], wish: Published | None) -> str:
    words = ["they disagree"] if len(now) > 1 else []
    if wish is not None and wish.problem:
        words.append(f"wanted: {wish.source} {wish.problem}")
    elif wish is not None and not now:
        words.append("not found here")
    elif wish is not None:
        words += compared(now[0], wish.version)
    return "; ".join(words)


def compared(now: str, wanted: str) -> list[str]:
    """How a version stands to the wanted one, in words; nothing when they are the same."""
    if same_line(now, wanted):
        return []
    return ["older than wanted"] if ordering(now) < ordering(wanted) else ["newer than wanted"]


def same_line(left: str, right: str) -> bool:
    """Whether two versions are the same or one is a patch of the other: 4.3 and 4.3.0."""
    return left == right or left.startswith(right + ".") or right.startswith(left + ".")


def stale(engine: str, fits: Sequence[Fit]) -> bool:
    """Whether the default data is of another release than the engine."""
    return bool(engine and fits and not same_line(engine, fits[0].version))


def missing(
    keep: Keep, engine: str, releases: Mapping[str, Tree], base: Tree | None, live: Tree, paths: Sequence[str]
) -> Missing | None:
    """Records that are new in the engine's own release, as far as it is recorded, and not in the live files."""
    version = next((name for name in releases if engine and same_line(engine, name)), None)
    if version is None or base is None:
        return None
    found: list[str] = []
    for path in paths:
        rules = keep.config.record_rules(path)
        new, old, mine = (_records(path, tree, rules) for tree in (releases[version], base, live))
        fresh = new - old - mine
        found += sorted(record for record in fresh if record.rpartition("/")[0] not in fresh)
    return Missing(version, tuple(found))


def _records(path: str, tree: Tree, rules: Mapping[str, Rule]) -> set[str]:
    """The records of one file by their names."""
    if path not in tree.entries():
        return set()
    try:
        document = registry.parse(path, read(tree, path))
    except EmberKeepError:
        return set()
    return {record for record, field, _ in facts(document, rules) if not field} if document else set()


def leftovers(
    config: Config, engine: str, live: Tree, roles: Roles, old: Tree | None, new: Tree | None
) -> tuple[str, ...]:
    """Files of an older engine that still stand there: those with an older version in their names beside the newer
    one, and those that the old release shipped and the engine's own does not."""
    found = set(_older_names(config, engine, live))
    if old is not None and new is not None and old.label != new.label:
        entries = live.entries()
        for path, entry in old.entries().items():
            there = entries.get(path)
            if entry.kind is Kind.FILE and path not in new.entries() and there is not None and there.size == entry.size:
                found.update([path] if roles.of(path) == "engine" else [])
    return tuple(sorted(found))


def _older_names(config: Config, engine: str, live: Tree) -> Iterable[str]:
    within = globs.combined(glob for source in config.versions if source.name == "engine" for glob in source.within)
    for path, entry in live.entries().items():
        version = VERSION.search(path.rsplit("/", 1)[-1]) if entry.kind is Kind.FILE else None
        if version and engine and within.fullmatch(path) and ordering(version[1]) < ordering(engine):
            yield path
