"""What stands where now: versions, roles, hand edits, what fits, what is unsorted. Facts only; ``show`` words them."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field

from emberkeep.comparing.files import Comparison, TreeDifference, compare_trees
from emberkeep.comparing.fit import Fit
from emberkeep.comparing.records import Kind
from emberkeep.documents import edit, registry
from emberkeep.documents.identity import Rule
from emberkeep.errors import EmberKeepError, Fault, Place, reason
from emberkeep.fs import globs
from emberkeep.fs.folder_tree import FolderTree
from emberkeep.fs.trees import Kind as EntryKind
from emberkeep.fs.trees import Skipped, Tree, read
from emberkeep.inventory.extensions import Extension, duplicates, fits_engine, missing_companions, read_manifest
from emberkeep.inventory.leading import leads_to
from emberkeep.inventory.probe import LARGEST_DOCUMENT, FileProbe
from emberkeep.inventory.published import Published
from emberkeep.inventory.roles import Roles
from emberkeep.inventory.versions import find, ordering
from emberkeep.keep.config import Config
from emberkeep.keep.keep import Keep
from emberkeep.keep.tables.server import UNSORTED
from emberkeep.process.signs import running_signs
from emberkeep.store.manifest import About
from emberkeep.survey import drift
from emberkeep.survey.drift import Missing, VersionRow

CHECKED = ("settings", "economy", "access")
"""Roles whose files are read to see whether they are well-formed."""
MOST_CHECKED = 400
LOG_TAIL = 256 * 1024
"""Bytes of a log's end that are looked through."""


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
class ExtensionRow:
    """An installed extension, and the version that is wanted of it, "" where none is told."""

    installed: Extension
    wanted: str


@dataclass(frozen=True)
class Survey:
    """The state of a server. ``attention``: what wants the admin's eye, in words; ``questions``: what adopt could only
    guess and nobody has answered; ``leftovers``: files of an older engine; ``faults``: files that are broken."""

    name: str
    server: str
    running: tuple[str, ...]
    engine: str
    versions: tuple[VersionRow, ...]
    fits: tuple[Fit, ...]
    roles: tuple[RoleRow, ...]
    edits: tuple[HandEdit, ...]
    pointer: Pointer | None
    unsorted: tuple[str, ...]
    skipped: tuple[Skipped, ...]
    extensions: tuple[ExtensionRow, ...]
    leftovers: tuple[str, ...]
    last: About | None
    since: Since | None
    missing: Missing | None
    faults: tuple[Fault, ...]
    questions: tuple[str, ...]
    attention: tuple[str, ...]


@dataclass(frozen=True)
class Known:
    """What a survey compares the live server with. ``base``: the defaults that fit best, over ``paths``; ``last``: the
    last snapshot; ``releases``: all recorded defaults by version; ``wanted``: the versions that are wanted."""

    snapshots: Sequence[About] = ()
    fits: Sequence[Fit] = ()
    base: Tree | None = None
    paths: Sequence[str] = ()
    last: Tree | None = None
    releases: Mapping[str, Tree] = field(default_factory=dict)
    wanted: Sequence[Published] = ()


def survey(keep: Keep, live: FolderTree, known: Known) -> Survey:
    """Look at the live server."""
    config, roles = keep.config, Roles(keep.config.roles)
    by_role = _by_role(live, roles)
    edits = hand_edits(known.base, live, known.paths, config.record_rules) if known.base else None
    found = tuple(find(live, config.versions))
    engine = drift.engine_version(config, found)
    pointer = pointer_of(keep, live)
    installed = _extensions(live, by_role.get("extensions", []))
    own = next((tree for name, tree in known.releases.items() if engine and drift.same_line(engine, name)), None)
    is_stale = drift.stale(engine, known.fits)
    lacks = drift.missing(keep, engine, known.releases, known.base, live, known.paths) if is_stale else None
    left = drift.leftovers(config, engine, live, roles, known.base, own)
    versions = drift.rows(found, installed, known.wanted)
    faults = tuple(_broken(live, by_role, edits))
    attention = [
        *(f"{row.name}: {_version_trouble(row)}" for row in versions if row.remark),
        *(_stale(engine, known.fits, lacks) if is_stale else ()),
        *_extension_troubles(installed, engine, known.wanted),
        *(f"left from an older engine: {path}" for path in left),
        *_overlay_troubles(config, live),
        *_pointer_troubles(pointer),
        *map(str, faults),
        *(f"{item.path}: {item.why}" for item in live.skipped),
        *_log_troubles(config, live),
        *_leftover_temporaries(live),
        *(() if known.snapshots else ("no snapshot has been taken yet",)),
    ]
    wishes = {item.name.lower(): item.version for item in known.wanted}
    return Survey(
        config.name,
        str(keep.server),
        running_signs(keep.server, keep.config),
        engine,
        versions,
        tuple(known.fits),
        _role_rows(live, by_role),
        tuple(_counts(edits)) if edits else (),
        pointer,
        tuple(by_role.get(UNSORTED, [])),
        live.skipped,
        tuple(ExtensionRow(extension, wishes.get(extension.name.lower(), "")) for extension in installed),
        left,
        known.snapshots[-1] if known.snapshots else None,
        _since(known.last, live) if known.last else None,
        lacks,
        faults,
        config.questions,
        tuple(attention),
    )


def _by_role(live: Tree, roles: Roles) -> dict[str, list[str]]:
    found: dict[str, list[str]] = {}
    for path, entry in live.entries().items():
        if entry.kind is not EntryKind.FOLDER:
            found.setdefault(roles.of(path), []).append(path)
    return found


def _version_trouble(row: VersionRow) -> str:
    if len(row.now) > 1 and not row.wanted:
        return "versions disagree, " + ", ".join(f"{item.version} in {item.where}" for item in row.sources)
    now = f"{', '.join(row.now)} now" if row.now else "nothing now"
    return f"{now}{f', {row.wanted} wanted' if row.wanted else ''}: {row.remark}"


def hand_edits(
    base: Tree, live: Tree, paths: Sequence[str], rules: Callable[[str], Mapping[str, Rule]]
) -> TreeDifference:
    """How live files differ from the defaults they began from, over the files the vendor ships."""
    chosen = set(paths)
    return compare_trees(base, live, Comparison(wanted=lambda path: path in chosen, rules=rules, times=False, summed=0))


def _extensions(live: FolderTree, paths: Sequence[str]) -> tuple[Extension, ...]:
    look = FileProbe(live, live.root)
    files = (path for path in paths if live.entries()[path].kind is EntryKind.FILE)
    return tuple(found for path in files if (found := read_manifest(look, path)) is not None)


def _extension_troubles(installed: Sequence[Extension], engine: str, wanted: Sequence[Published]) -> Iterator[str]:
    """Companions that are missing, builds that stand there twice, builds for another engine, builds not wanted."""
    for extension, need in missing_companions(installed):
        yield f"{extension.path} needs {need}, which is not installed"
    for builds in duplicates(installed):
        yield f"{builds[0].name} is installed {len(builds)} times: {', '.join(item.path for item in builds)}"
    wishes = {item.name.lower(): item for item in wanted}
    for extension in installed:
        if engine and not fits_engine(extension, engine):
            yield f"{extension.path} was built for {extension.built_for}, the engine is {engine}"
        wish = wishes.get(extension.name.lower())
        if wish is None:
            continue
        remarks = (
            [f"wanted: {wish.source} {wish.problem}"]
            if wish.problem
            else drift.compared(extension.version, wish.version)
        )
        for remark in remarks:
            wish_shown = f", {wish.version} wanted" if wish.version else ""
            yield f"{extension.name}: {extension.version} now{wish_shown}: {remark}"


def _overlay_troubles(config: Config, live: FolderTree) -> Iterator[str]:
    """A framework whose archive is there, but whose files do not lie over the engine (any more)."""
    archives = [path for path in live.entries() if globs.matches(path, [config.updating.overlay])]
    if not config.updating.overlay or not archives:
        return
    from emberkeep.fs.archives import open_archive  # only where there is an overlay

    archive = max(archives, key=ordering)
    try:
        laid = open_archive(live.root / archive)
    except EmberKeepError as error:
        yield f"{archive}: {error.faults[0].what}"
        return
    files = [path for path, entry in laid.entries().items() if entry.kind is EntryKind.FILE]
    other = [path for path in files if not _is_laid(laid, live, path)]
    if other:
        yield (
            f"{archive} is not laid over the engine: {len(other)} of its {len(files)} files are not there "
            f"({', '.join(other[:3])}), so extensions are not loaded; an update lays it over again"
        )


def _is_laid(laid: Tree, live: Tree, path: str) -> bool:
    there = live.entries().get(path)
    return there is not None and there.size == laid.entries()[path].size and live.digest(path) == laid.digest(path)


def _broken(live: Tree, by_role: Mapping[str, Sequence[str]], edits: TreeDifference | None) -> Iterator[Fault]:
    """Files that are edited by hand and are not well-formed: named once, whatever found them."""
    seen = set()
    for fault in edits.faults if edits else ():
        seen.add(fault.place.file if fault.place else "")
        yield fault
    paths = [path for role in CHECKED for path in by_role.get(role, ()) if path not in seen][:MOST_CHECKED]
    for path in paths:
        entry = live.entries()[path]
        if entry.kind is not EntryKind.FILE or entry.size > LARGEST_DOCUMENT:
            continue
        try:
            registry.check(path, read(live, path))
        except EmberKeepError as error:
            yield from error.faults
        except RecursionError:
            yield Fault("records are nested too deeply", Place(path))


def _log_troubles(config: Config, live: FolderTree) -> Iterator[str]:
    """Lines of the newest log's end that say an extension failed."""
    failed = config.log.patterns.get("failed")
    within = globs.combined(config.log.within)
    paths = [path for path in live.entries() if failed and within.fullmatch(path)]
    if not failed or not paths:
        return
    newest = max(paths, key=lambda path: (live.entries()[path].mtime_ns, path))
    try:
        with (live.root / newest).open("rb") as handle:
            handle.seek(max(0, live.entries()[newest].size - LOG_TAIL))
            lines = handle.read(LOG_TAIL).decode("utf-8", "replace").splitlines()
    except OSError as error:
        yield f"{newest}: cannot be read: {reason(error)}"
        return
    failures = [line for line in lines if re.search(failed, line)]
    if failures:
        more = f" (and {len(failures) - 1} more like it)" if len(failures) > 1 else ""
        yield f"{newest}: {failures[-1].strip()[:120]}{more}"


def _leftover_temporaries(live: FolderTree) -> Iterator[str]:
    if live.leftovers:
        yield f"{len(live.leftovers)} temporary files of an interrupted run; the next restore sweeps them"


def _role_rows(live: Tree, by_role: Mapping[str, Sequence[str]]) -> tuple[RoleRow, ...]:
    entries = live.entries()
    return tuple(
        RoleRow(role, len(paths), sum(entries[p].size for p in paths), max(entries[p].mtime_ns for p in paths))
        for role, paths in sorted(by_role.items())
    )


def _counts(difference: TreeDifference) -> list[HandEdit]:
    rows = []
    for item in difference.files:
        kinds = Counter(detail.kind for detail in item.terms.details)
        if not item.terms.details:
            kinds[item.kind] += 1
        rows.append(HandEdit(item.path, kinds[Kind.CHANGED], kinds[Kind.ADDED], kinds[Kind.REMOVED], kinds[Kind.MOVED]))
    return rows


def pointer_of(keep: Keep, live: FolderTree) -> Pointer | None:
    """What the pointer of keep.toml leads to; None where it tells none."""
    pointer = keep.config.world.pointer
    if pointer is None:
        return None
    value = None
    if pointer.file in live.entries():
        value = edit.value(pointer.file, read(live, pointer.file), pointer.key)
    return Pointer(pointer.file, pointer.key, value, value is not None and _stands(value, live))


def _stands(value: str, live: Tree) -> bool:
    """Whether a folder or file is there that a value leads to, by the rule by which adopt finds one."""
    return bool(value.strip()) and any(leads_to(value, path) for path in live.entries())


def _pointer_troubles(pointer: Pointer | None) -> Iterator[str]:
    if pointer and not pointer.there:
        yield f"{pointer.file}: {pointer.key} = {pointer.value}, but there is no such folder or file"


def _stale(engine: str, fits: Sequence[Fit], lacks: Missing | None) -> Iterator[str]:
    """Default data of another release than the engine's: new content then never appears."""
    words = f"the engine is {engine}, but the default data fits {fits[0].version} best ({fits[0].share:.0%})"
    if lacks is not None and lacks.records:
        some = ", ".join(lacks.records[:4]) + (" …" if len(lacks.records) > 4 else "")
        words += f"; {len(lacks.records)} records that {lacks.version} brought are missing: {some}"
    yield words


def _since(last: Tree, live: Tree) -> Since:
    before, now = last.entries(), live.entries()
    changed = new = kept = 0
    for path, entry in now.items():
        was = before.get(path)
        if entry.kind is EntryKind.FOLDER:
            continue
        if was is None or was.kind is EntryKind.FOLDER:
            new += 1
            continue
        kept += 1
        changed += (entry.size, entry.mtime_ns, entry.points_at) != (was.size, was.mtime_ns, was.points_at)
    return Since(changed, new, sum(was.kind is not EntryKind.FOLDER for was in before.values()) - kept)
