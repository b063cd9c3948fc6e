"""Changes of the local copy put onto the far side, as a run: what stood there is taken into a snapshot first.

Each file is written beside its target and renamed over it; what goes, goes last. What was sent is noted file by file,
so a run that was broken off goes on with the rest, and taking it back puts the snapshot's files there again.
"""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Iterable, Iterator, Mapping
from contextlib import suppress
from dataclasses import dataclass, replace

from blake3 import blake3

from emberkeep.callbacks import Progress
from emberkeep.errors import EmberKeepError, Place, Refused, RunFailed, UnreadableInput, first_of
from emberkeep.fs import globs
from emberkeep.fs.overlay import Change, What
from emberkeep.fs.scan import TEMPORARY
from emberkeep.fs.trees import Entry, Kind, Tree, parents
from emberkeep.keep.keep import Keep
from emberkeep.operations.engine.kind import RunKind
from emberkeep.operations.engine.step import Plan, RunContext, Step
from emberkeep.operations.record.facts import BEGUN, DONE, UNDONE
from emberkeep.operations.upkeep.fetch_plan import Local
from emberkeep.store import writer
from emberkeep.store.manifest import About
from emberkeep.store.store import Store
from emberkeep.store.tree import snapshot_tree
from emberkeep.transfer.pool import ConnectionPool, RemoteConnection
from emberkeep.transfer.protocol import RemoteEntry, RemoteError, RemoteFileSystem
from emberkeep.transfer.state import Known, RemoteState
from emberkeep.transfer.walk import Listing, RemoteTree, now_there, walk


@dataclass(frozen=True)
class SendPlan:
    """What is to be sent. ``put``: files to write there; ``make``: folders; ``remove``: files and links that go;
    ``fold``: folders that go; ``left``: what cannot be sent, and why."""

    put: tuple[Entry, ...]
    make: tuple[str, ...]
    remove: tuple[str, ...]
    fold: tuple[str, ...]
    left: tuple[str, ...]

    @property
    def bytes(self) -> int:
        """Bytes to send."""
        return sum(entry.size for entry in self.put)

    @property
    def nothing(self) -> bool:
        """True when there is nothing to send."""
        return not (self.put or self.make or self.remove or self.fold)


def send_plan(
    listing: Listing, known: Mapping[str, Known], local: Local, wanted: Callable[[str], bool], address: object
) -> SendPlan:
    """What was changed here since it was fetched. Refused where the far side changed at the same paths meanwhile."""
    put, make, remove, fold, left, stale = [], [], [], [], [], []
    for path in sorted({*local.entries, *known}):
        if not wanted(path) or not local.changed(path):
            continue
        now, then, there = local.entries.get(path), known.get(path), listing.entries.get(path)
        if now is not None and now.kind is Kind.FOLDER and (then is None or then.entry.kind is Kind.FOLDER):
            make += [path] if there is None else []
            continue
        if then is not None and then.entry.kind is Kind.FOLDER and now is None:
            fold += [path] if there is not None else []
            continue
        if not _as_known(then, there):
            stale.append(path)
        elif now is None:
            remove += [path] if there is not None else []
        elif now.kind is Kind.FILE and (there is None or there.kind is Kind.FILE):
            put.append(now)
        else:
            left.append(f"{path}: only files can be sent, and only where none but files stand")
    if stale:
        raise Refused(
            f"changed there since it was fetched: {first_of(stale, 5)}",
            place=Place(str(address)),
            hint="'emberkeep mirror fetch' first; it says what was changed on both sides",
        )
    return SendPlan(tuple(put), tuple(make), tuple(remove), tuple(reversed(fold)), tuple(left))


def _as_known(then: Known | None, there: RemoteEntry | None) -> bool:
    if then is None or there is None:
        return then is None and there is None
    return there.same_as(then.entry)


# --- the run ---------------------------------------------------------------------


@dataclass(frozen=True)
class Asked:
    """What a send is to do, as the journal keeps it. ``new``: paths among ``put`` where nothing stood before;
    ``to``: the address, for people."""

    put: tuple[str, ...]
    new: tuple[str, ...]
    make: tuple[str, ...]
    remove: tuple[str, ...]
    fold: tuple[str, ...]
    to: str = ""


def asked_of(plan: SendPlan, listing: Listing, to: object) -> Asked:
    """What the journal keeps of a plan."""
    put = tuple(entry.path for entry in plan.put)
    new = tuple(path for path in put if path not in listing.entries)
    return Asked(put, new, plan.make, plan.remove, plan.fold, str(to))


def _pool(context: RunContext) -> ConnectionPool:
    assert context.pool is not None
    return context.pool


class BeforeStep(Step):
    """The snapshot of what stands there at the paths that will be written or go."""

    name = "snapshot"
    title = "take what stands there into a snapshot"

    def __init__(self, asked: Asked) -> None:
        self.asked = asked

    def plan(self, context: RunContext) -> Plan:
        """How many files are taken."""
        return Plan(notes=(f"{len(self._paths())} files",))

    def _paths(self) -> set[str]:
        return {*self.asked.put, *self.asked.remove} - {*self.asked.new}

    def act(self, context: RunContext, plan: Plan) -> None:
        """Take what stands there at those paths into a snapshot."""
        paths = self._paths()
        if not paths:
            return
        pool = _pool(context)
        tree = RemoteTree(pool.first, walk(pool), lambda path: path in paths)
        about = About("", context.clock(), KIND.name, "before sending", source=str(pool.settings.address))
        about = replace(
            about, scope=tuple(globs.escape(path) for path in sorted(paths)), roles=context.keep.config.roles
        )
        taken = writer.add(context.store, tree, about, progress=context.progress)
        context.note(snapshot=taken.about.label)


class SendStep(Step):
    """Write files beside their targets and rename them, then take away what goes."""

    name = "send"
    title = "send what was changed, and then take away what goes"

    def __init__(self, asked: Asked) -> None:
        self.asked = asked

    def plan(self, context: RunContext) -> Plan:
        """The files that still differ from what was sent, and those that go."""
        state = RemoteState(context.keep.folder)
        local = Local(context.keep.server, state.known())
        changes = [
            Change(path, What.WRITE if path in self.asked.new else What.REPLACE, local.entries[path].size)
            for path in self.asked.put
            if path in local.entries and local.changed(path)
        ]
        changes += [Change(path, What.DELETE) for path in self.asked.remove]
        return Plan(tuple(changes))

    def act(self, context: RunContext, plan: Plan) -> None:
        """Send what still differs, each file noted once it is checked. Refused where one is not here any more."""
        state, pool = RemoteState(context.keep.folder), _pool(context)
        context.findings.on_back.append(lambda: put_back(context))
        local = Local(context.keep.server, state.known())
        assert local.tree is not None
        missing = [path for path in self.asked.put if path not in local.entries]
        if missing:
            raise Refused(f"{missing[0]} is not here any more", hint="'emberkeep undo --go' takes the run back")
        entries = [local.entries[path] for path in self.asked.put if local.changed(path)]
        _put(pool, state, local.tree, entries, self.asked.make, context.progress, here=True)
        _take_away(pool, state, self.asked.remove, self.asked.fold)
        known = state.known()
        context.journal.touch(context.run, [(path, known[path].digest) for path in self.asked.put if path in known])


def steps(keep: Keep, store: Store, asked: Asked) -> list[Step]:
    """The steps of a send."""
    return [BeforeStep(asked), SendStep(asked)]


def _put(
    pool: ConnectionPool,
    state: RemoteState,
    source: Tree,
    entries: Iterable[Entry],
    make: Iterable[str],
    progress: Progress,
    *,
    here: bool,
) -> None:
    """Write files there, some at a time, each noted once it is checked. ``here``: whether ``source`` is the copy."""
    entries = list(entries)
    total, done = sum(entry.size for entry in entries), [0]

    def one(line: RemoteConnection, entry: Entry) -> None:
        digest, there = line.do(lambda host: _write(host, source, entry), f"cannot send {entry.path}")
        state.put([Known(there, digest, (entry.size, entry.mtime_ns) if here else (-1, -1))])
        done[0] += entry.size
        progress(min(done[0], total), total)

    try:
        for folder in sorted({*make, *(parent for entry in entries for parent in parents(entry.path))}):
            _with(pool, _make, folder)
        state.put(Known(RemoteEntry(path, Kind.FOLDER, 0)) for path in make)
        pool.each(entries, one)
    except RemoteError as error:
        hint = "make room there" if error.full else "see what the host allows"
        raise UnreadableInput(
            f"the host refuses: {error}", place=Place(str(pool.settings.address)), hint=hint
        ) from None


def _with(pool: ConnectionPool, act: Callable[[RemoteFileSystem, str], None], path: str) -> None:
    pool.first.do(lambda host: act(host, path), f"cannot change {path}")


def _make(host: RemoteFileSystem, folder: str) -> None:
    there = now_there(host, folder)
    if there is None:
        host.make_folder(folder)
    elif there.kind is not Kind.FOLDER:
        raise RemoteError(f"{folder} is no folder there")


def _write(host: RemoteFileSystem, source: Tree, entry: Entry) -> tuple[str, RemoteEntry]:
    """One file, beside its target, checked and renamed over it; its BLAKE3 and what the host tells of it then."""
    beside = _beside(entry.path)
    ours, theirs = blake3(), hashlib.new(host.hash_name) if host.hash_name else None

    def read() -> Iterator[bytes]:
        for chunk in source.chunks(entry.path):
            ours.update(chunk)
            if theirs is not None:
                theirs.update(chunk)
            yield chunk

    try:
        host.write(beside, read())
        size = host.size(beside)
        if size is not None and size != entry.size:
            raise RemoteError(f"{entry.path}: {entry.size} bytes were sent and the host counts {size}")
        if theirs is not None and host.digest(beside) != theirs.hexdigest():
            raise RemoteError(f"{entry.path}: the host has other bytes than were sent")
        host.set_metadata(beside, entry.mtime_ns, entry.mode)
        _rename_over(host, beside, entry.path)
    except RemoteError:
        with suppress(RemoteError):
            host.remove(beside)
        raise
    there = now_there(host, entry.path)
    if there is None or there.size not in (entry.size, -1):
        raise RemoteError(f"{entry.path} was sent, and the host does not show it so")
    return ours.hexdigest(), there


def _rename_over(host: RemoteFileSystem, beside: str, path: str) -> None:
    try:
        host.rename(beside, path)
    except RemoteError:
        if now_there(host, path) is None:
            raise
        host.remove(path)  # a host that renames over nothing; the snapshot holds what stood there
        host.rename(beside, path)


def _take_away(pool: ConnectionPool, state: RemoteState, remove: Iterable[str], fold: Iterable[str]) -> None:
    for path in remove:
        try:
            _with(pool, _remove, path)
        except RemoteError as error:
            place = Place(str(pool.settings.address))
            raise UnreadableInput(f"{path} cannot be taken away there: {error}", place=place) from None
        state.forget([path])
    for path in fold:
        with suppress(RemoteError):  # something stands in it that is not ours to take
            _with(pool, _fold, path)
            state.forget([path])


def _remove(host: RemoteFileSystem, path: str) -> None:
    if now_there(host, path) is not None:
        host.remove(path)


def _fold(host: RemoteFileSystem, path: str) -> None:
    if now_there(host, path) is not None:
        host.remove_folder(path)


# --- taking it back --------------------------------------------------------------


def put_back(context: RunContext) -> None:
    """Make the far side as it was before a send, at the paths that it touched; what is still so is left alone."""
    store, run, pool = context.store, context.run, _pool(context)
    asked, state = KIND.request_of(run), RemoteState(context.keep.folder)
    listing, known = walk(pool), state.known()
    sweep(pool, listing, asked)  # first: a folder with such a file in it is not taken away
    labels = [step.facts.get("snapshot", "") for step in context.journal.steps(run).values()]
    label = next((str(label) for label in labels if label), "")
    if label:
        tree = snapshot_tree(store, label)

        def is_so(path: str) -> bool:
            then, there = known.get(path), listing.entries.get(path)
            return then is not None and then.digest == tree.digest(path) and _is_still(then, there)

        back = [entry for path, entry in tree.entries().items() if not is_so(path)]
        _put(pool, state, tree, back, (), context.progress, here=False)
    _take_away(pool, state, (path for path in asked.new if path in listing.entries), ())
    _take_away(pool, state, (), (path for path in reversed(asked.make) if path in listing.entries))
    state.forget(asked.new)
    for folder in reversed(asked.fold):
        if folder not in listing.entries:
            try:
                _with(pool, _make, folder)
            except RemoteError as error:
                place = Place(str(pool.settings.address))
                raise UnreadableInput(f"{folder} cannot be made there again: {error}", place=place) from None
        state.put([Known(RemoteEntry(folder, Kind.FOLDER, 0))])


def sweep(pool: ConnectionPool, listing: Listing, asked: Asked) -> None:
    """Take away what a send that was broken off left beside its targets."""
    ours = {_beside(path) for path in asked.put}
    for path in listing.leftovers:
        if path in ours:
            with suppress(RemoteError):
                _with(pool, _remove, path)


def _beside(path: str) -> str:
    folder, _, name = path.rpartition("/")
    return f"{folder}/{TEMPORARY}{name}".lstrip("/")


def undo(context: RunContext) -> None:
    """Take a send back. Refused where the far side changed since at the paths that it touched. RunFailed when the host
    cannot be brought to it; saying it again goes on."""
    run, journal, pool = context.run, context.journal, _pool(context)
    state = RemoteState(context.keep.folder)
    if run.state == DONE:
        listing, known = walk(pool), state.known()
        asked = KIND.request_of(run)
        left = journal.touched(run)
        stale = [
            path
            for path in asked.put
            if (then := known.get(path)) is None
            or then.digest != left.get(path)
            or not _is_still(then, listing.entries.get(path))
        ]
        stale += [path for path in asked.remove if path in listing.entries]
        if stale:
            raise Refused(
                f"run {run.number} ({run.words}) cannot be taken back: changed there since is {', '.join(stale[:8])}",
                place=Place(str(pool.settings.address)),
                hint="fetch what is there now ('emberkeep mirror fetch'), and change it by hand",
            )
        journal.change(replace(run, undoing=True))
        journal.end(run, BEGUN, context.clock())  # broken off from here on, it waits to be taken back wholly
    try:
        put_back(context)
    except EmberKeepError as error:
        raise RunFailed(
            f"not all could be put back: {error}",
            place=Place(str(pool.settings.address)),
            hint="'emberkeep undo --go' again",
        ) from error
    journal.end(run, UNDONE, context.clock())


def _is_still(then: Known, there: RemoteEntry | None) -> bool:
    return there is not None and there.same_as(then.entry)


KIND = RunKind("send", Asked, title=lambda asked: f"sending to {asked.to}", steps=steps, undo=undo, remote=True)
