"""What stands where now: versions, roles, hand edits, what fits, what is unsorted. Facts only; ``show`` words them."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass

from emberkeep.comparing.files import TreeDifference, compare_trees
from emberkeep.comparing.fit import Fit
from emberkeep.comparing.records import Kind
from emberkeep.documents import formats
from emberkeep.documents.identity import Rule
from emberkeep.documents.model import OWN
from emberkeep.errors import EmberKeepError
from emberkeep.keep import UNSORTED, Keep
from emberkeep.servers.process import running_signs
from emberkeep.servers.roles import Roles
from emberkeep.servers.versions import Found, find
from emberkeep.store.manifest import About
from emberkeep.trees import FolderTree, Skipped, Tree, read
from emberkeep.trees import Kind as EntryKind


@dataclass(frozen=True)
class RoleRow:
    """One role's files: how many, bytes, and the newest modification time in ns."""

    role: str
    files: int
    bytes: int
    newest_ns: int


@dataclass(frozen=True)
class HandEdit:
    """How one file differs from the defaults it began from, counted in its own terms."""

    path: str
    changed: int
    added: int
    removed: int
    moved: int


@dataclass(frozen=True)
class Pointer:
    """The settings key that names the world's folder. ``value``: None when the key is not there."""

    file: str
    key: str
    value: str | None
    there: bool


@dataclass(frozen=True)
class Survey:
    """The state of a server. ``attention``: what wants the admin's eye, in words."""

    name: str
    server: str
    running: tuple[str, ...]
    versions: tuple[Found, ...]
    fits: tuple[Fit, ...]
    roles: tuple[RoleRow, ...]
    edits: tuple[HandEdit, ...]
    pointer: Pointer | None
    unsorted: tuple[str, ...]
    skipped: tuple[Skipped, ...]
    last: About | None
    attention: tuple[str, ...]


def survey(
    keep: Keep,
    snapshots: Sequence[About],
    fits: Sequence[Fit],
    base: Tree | None,
    base_paths: Sequence[str],
) -> Survey:
    """Look at the live server. ``base``: the defaults that fit best, compared over ``base_paths``."""
    live = FolderTree(keep.require_server(), "live")
    roles = Roles(keep.config.roles)
    edits = hand_edits(base, live, base_paths, keep.config.record_rules) if base else None
    found = tuple(find(live, keep.config.versions))
    pointer = _pointer(keep, live)
    unsorted = tuple(
        path
        for path, entry in live.entries().items()
        if entry.kind is not EntryKind.FOLDER and roles.of(path) == UNSORTED
    )
    return Survey(
        keep.config.name,
        str(keep.server),
        running_signs(keep.server),
        found,
        tuple(fits),
        _role_rows(live, roles),
        tuple(_counts(edits)) if edits else (),
        pointer,
        unsorted,
        live.skipped,
        snapshots[-1] if snapshots else None,
        tuple(_attention(found, fits, pointer, live, snapshots, edits)),
    )


def hand_edits(
    base: Tree, live: Tree, paths: Sequence[str], rules: Callable[[str], Mapping[str, Rule]]
) -> TreeDifference:
    """How live files differ from the defaults they began from, over the files the vendor ships."""
    chosen = set(paths)
    return compare_trees(base, live, wanted=lambda path: path in chosen, rules=rules, times=False)


def _role_rows(live: Tree, roles: Roles) -> tuple[RoleRow, ...]:
    files: Counter[str] = Counter()
    size: Counter[str] = Counter()
    newest: dict[str, int] = {}
    for path, entry in live.entries().items():
        if entry.kind is EntryKind.FOLDER:
            continue
        role = roles.of(path)
        files[role] += 1
        size[role] += entry.size
        newest[role] = max(newest.get(role, 0), entry.mtime_ns)
    return tuple(RoleRow(role, files[role], size[role], newest[role]) for role in sorted(files))


def _counts(difference: TreeDifference) -> list[HandEdit]:
    rows = []
    for item in difference.files:
        kinds = Counter(detail.kind for detail in item.details)
        if not item.details:
            kinds[item.kind] += 1
        rows.append(HandEdit(item.path, kinds[Kind.CHANGED], kinds[Kind.ADDED], kinds[Kind.REMOVED], kinds[Kind.MOVED]))
    return rows


def _pointer(keep: Keep, live: Tree) -> Pointer | None:
    told = keep.config.world.pointer
    if told is None:
        return None
    value = None
    if told.file in live.entries():
        value = setting(told.file, read(live, told.file), told.key)
    return Pointer(told.file, told.key, value, value is not None and value.strip("/") in live.entries())


def setting(path: str, data: bytes, key: str) -> str | None:
    """The value of a key in a properties or INI file; ``section.key`` for one inside a section."""
    try:
        document = formats.parse(path, data)
    except EmberKeepError:
        return None
    if document is None:
        return None
    section, _, name = key.rpartition(".")
    for node in document.root.items:
        if node.name == key and OWN in node.fields:
            return node.own
        if section and node.name == f"[{section}]":
            return next((item.own for item in node.items if item.name == name), None)
    return None


def _attention(
    found: Sequence[Found],
    fits: Sequence[Fit],
    pointer: Pointer | None,
    live: FolderTree,
    snapshots: Sequence[About],
    edits: TreeDifference | None,
) -> list[str]:
    words = []
    for name in dict.fromkeys(item.name for item in found):
        told = {item.version: item.where for item in found if item.name == name}
        if len(told) > 1:
            words.append(
                f"{name} versions disagree: " + ", ".join(f"{version} in {where}" for version, where in told.items())
            )
    if pointer and not pointer.there:
        words.append(f"{pointer.file}: {pointer.key} = {pointer.value}, but there is no such folder")
    words += _stale(found, fits)
    words += [str(fault) for fault in edits.faults] if edits else []
    words += [f"{item.path}: {item.why}" for item in live.skipped]
    if live.leftovers:
        words.append(f"{len(live.leftovers)} temporary files of an interrupted run; the next restore sweeps them")
    if not snapshots:
        words.append("no snapshot has been taken yet")
    return words


def _stale(found: Sequence[Found], fits: Sequence[Fit]) -> list[str]:
    """Default data of another release than the engine's: new content then never appears."""
    engine = next((item.version for item in found if item.name == "engine"), None)
    if engine is None or not fits:
        return []
    best = fits[0].version
    if engine == best or engine.startswith(best + ".") or best.startswith(engine + "."):
        return []
    return [f"the engine is {engine}, but the default data fits {best} best ({fits[0].share:.0%})"]
