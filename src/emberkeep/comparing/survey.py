"""What stands where now: versions, roles, hand edits, what fits, what is unsorted. Facts only; ``show`` words them."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass

from emberkeep.comparing.files import TreeDifference, compare_trees
from emberkeep.comparing.fit import Fit
from emberkeep.comparing.records import Kind, facts
from emberkeep.documents import formats
from emberkeep.documents.identity import Rule
from emberkeep.documents.model import OWN
from emberkeep.errors import EmberKeepError
from emberkeep.keep import UNSORTED, Keep
from emberkeep.servers.extensions import Extension, duplicates, fits_engine, missing_companions, read_manifest
from emberkeep.servers.looking import Look
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
class Since:
    """Files that differ from the last snapshot by size or time, without reading them."""

    changed: int
    added: int
    removed: int


@dataclass(frozen=True)
class Missing:
    """Records that a release brought and that the live files lack, although the engine is of that release."""

    version: str
    records: tuple[str, ...]


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
    extensions: tuple[Extension, ...]
    last: About | None
    since: Since | None
    missing: Missing | None
    attention: tuple[str, ...]


def survey(
    keep: Keep,
    snapshots: Sequence[About],
    fits: Sequence[Fit],
    base: Tree | None,
    base_paths: Sequence[str],
    *,
    last: Tree | None = None,
    releases: Mapping[str, Tree] | None = None,
) -> Survey:
    """Look at the live server. ``base``: the defaults that fit best, compared over ``base_paths``; ``last``: the last
    snapshot; ``releases``: all recorded defaults by version."""
    live = FolderTree(keep.require_server(), "live")
    roles = Roles(keep.config.roles)
    edits = hand_edits(base, live, base_paths, keep.config.record_rules) if base else None
    found = tuple(find(live, keep.config.versions))
    pointer = _pointer(keep, live)
    installed = _extensions(live, roles)
    stale = _stale_release(found, fits)
    missing = _missing(keep, stale, releases or {}, base, live, base_paths)
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
        installed,
        snapshots[-1] if snapshots else None,
        _since(last, live) if last else None,
        missing,
        (*_attention(found, fits, pointer, live, snapshots, edits, missing), *_extension_troubles(installed, found)),
    )


def hand_edits(
    base: Tree, live: Tree, paths: Sequence[str], rules: Callable[[str], Mapping[str, Rule]]
) -> TreeDifference:
    """How live files differ from the defaults they began from, over the files the vendor ships."""
    chosen = set(paths)
    return compare_trees(base, live, wanted=lambda path: path in chosen, rules=rules, times=False)


def _extensions(live: FolderTree, roles: Roles) -> tuple[Extension, ...]:
    look = Look(live, live.root)
    paths = (p for p, e in live.entries().items() if e.kind is EntryKind.FILE and roles.of(p) == "extensions")
    return tuple(found for path in paths if (found := read_manifest(look, path)) is not None)


def _extension_troubles(installed: Sequence[Extension], versions: Sequence[Found]) -> Iterator[str]:
    """Companions that are missing, builds that stand there twice, builds for another engine."""
    for extension, need in missing_companions(installed):
        yield f"{extension.path} needs {need}, which is not installed"
    for builds in duplicates(installed):
        yield f"{builds[0].name} is installed {len(builds)} times: {', '.join(item.path for item in builds)}"
    engine = next((item.version for item in versions if item.name == "engine"), "")
    for extension in installed:
        if engine and not fits_engine(extension, engine):
            yield f"{extension.path} was built for {extension.built_for}, the engine is {engine}"


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
        kinds = Counter(detail.kind for detail in item.terms.details)
        if not item.terms.details:
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
    missing: Missing | None,
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
    words += _stale(found, fits, missing)
    words += [str(fault) for fault in edits.faults] if edits else []
    words += [f"{item.path}: {item.why}" for item in live.skipped]
    if live.leftovers:
        words.append(f"{len(live.leftovers)} temporary files of an interrupted run; the next restore sweeps them")
    if not snapshots:
        words.append("no snapshot has been taken yet")
    return words


def _stale(found: Sequence[Found], fits: Sequence[Fit], missing: Missing | None) -> list[str]:
    """Default data of another release than the engine's: new content then never appears."""
    engine = _stale_release(found, fits)
    if not engine:
        return []
    words = f"the engine is {engine}, but the default data fits {fits[0].version} best ({fits[0].share:.0%})"
    if missing is not None and missing.records:
        some = ", ".join(missing.records[:4]) + (" …" if len(missing.records) > 4 else "")
        words += f"; {len(missing.records)} records that {missing.version} brought are missing: {some}"
    return [words]


def _stale_release(found: Sequence[Found], fits: Sequence[Fit]) -> str:
    """The engine's version where the default data is of another release; "" otherwise."""
    engine = next((item.version for item in found if item.name == "engine"), "")
    if not engine or not fits or _same_line(engine, fits[0].version):
        return ""
    return engine


def _same_line(left: str, right: str) -> bool:
    """Whether two versions are the same or one is a patch of the other: 4.3 and 4.3.0."""
    return left == right or left.startswith(right + ".") or right.startswith(left + ".")


def _missing(
    keep: Keep, engine: str, releases: Mapping[str, Tree], base: Tree | None, live: Tree, paths: Sequence[str]
) -> Missing | None:
    """Records that are new in the engine's own release, as far as it is recorded, and not in the live files."""
    version = next((name for name in releases if engine and _same_line(engine, name)), None)
    if version is None or base is None:
        return None
    found: list[str] = []
    for path in paths:
        rules = keep.config.record_rules(path)
        new, old, mine = (_records(path, tree, rules) for tree in (releases[version], base, live))
        fresh = new - old - mine
        found += sorted(record.lstrip("/") for record in fresh if record.rpartition("/")[0] not in fresh)
    return Missing(version, tuple(found))


def _records(path: str, tree: Tree, rules: Mapping[str, Rule]) -> set[str]:
    """The records of one file by their names."""
    if path not in tree.entries():
        return set()
    try:
        document = formats.parse(path, read(tree, path))
    except EmberKeepError:
        return set()
    return {record for record, field, _ in facts(document, rules) if not field} if document else set()


def _since(last: Tree, live: Tree) -> Since:
    before, now = last.entries(), live.entries()
    files = {path for path, entry in now.items() if entry.kind is not EntryKind.FOLDER}
    then = {path for path, entry in before.items() if entry.kind is not EntryKind.FOLDER}
    changed = sum(
        (now[path].size, now[path].mtime_ns, now[path].points_at)
        != (before[path].size, before[path].mtime_ns, before[path].points_at)
        for path in files & then
    )
    return Since(changed, len(files - then), len(then - files))
