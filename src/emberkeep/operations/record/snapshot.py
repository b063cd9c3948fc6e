"""Taking snapshots of the live server, and finding them again."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from contextlib import ExitStack, closing, suppress
from dataclasses import dataclass, replace
from datetime import datetime
from pathlib import Path
from types import MappingProxyType
from typing import TYPE_CHECKING

from emberkeep.callbacks import Progress, no_op
from emberkeep.databases.live import LiveTree
from emberkeep.errors import Damage, Refused, UsageError
from emberkeep.fs import writing
from emberkeep.fs.scan import TEMPORARY
from emberkeep.inventory.roles import selection
from emberkeep.keep.config import Config
from emberkeep.keep.keep import Keep
from emberkeep.operations.record.written import remember_written
from emberkeep.process.signs import running_signs
from emberkeep.store import writer
from emberkeep.store.intake import Stream
from emberkeep.store.manifest import ASKED, About
from emberkeep.store.refs import resolve
from emberkeep.store.shared import store_of
from emberkeep.store.store import Store
from emberkeep.store.tree import SnapshotTree, snapshot_tree
from emberkeep.store.writer import Dumped, SnapshotResult

if TYPE_CHECKING:
    from emberkeep.fs.scan import Ahead
    from emberkeep.keep.tables.databases import Database

NOTHING: Mapping[str, str] = MappingProxyType({})


@dataclass(frozen=True)
class SnapshotRequest:
    """What is to be taken. ``only``: selectors, () for everything; ``while_running``: whether to copy even where a
    running server cannot hold its writes; ``why``: for the list of snapshots; ``rehash``: read every file, also those
    that nobody has written to since the last snapshot; ``pin``: whether no thinning may take it."""

    note: str = ""
    only: Sequence[str] = ()
    while_running: bool = False
    why: str = ASKED
    rehash: bool = False
    pin: bool = False


EVERYTHING = SnapshotRequest()


def take(
    keep: Keep,
    now: datetime,
    request: SnapshotRequest = EVERYTHING,
    *,
    environment: Mapping[str, str] = NOTHING,
    store: Store | None = None,
    progress: Progress = no_op,
    ahead: Ahead | None = None,
) -> SnapshotResult:
    """Snapshot the server folder.

    Refused while the server runs, unless its console can have it hold its writes meanwhile (secrets come from
    ``environment``) or the request says to copy all the same. ``ahead``: a look at the folder that was begun before.
    """
    server = keep.require_server()
    config = keep.config
    signs = running_signs(server, config)
    with ExitStack() as stack:
        if signs and not request.while_running:
            from emberkeep.process.console import can_hold, held

            if config.running.console is None or not can_hold(config.running.console):
                raise Refused(
                    f"the server is running ({signs[0]}); a copy taken now would be torn",
                    hint="stop it and try again; or tell keep.toml its [console], or say --while-running",
                )
            stack.enter_context(held(config.running.console, environment))
        chosen = _databases(request.only, config)
        streams = _streams(keep, chosen, now)
        store = store or stack.enter_context(closing(store_of(keep)))
        live = LiveTree(server, "live", room=store.own / f"{TEMPORARY}databases")
        stack.callback(_discard, live.room)
        names = tuple(one.name for one in chosen)
        about = About(
            "",
            now,
            request.why,
            request.note,
            tuple(request.only),
            running="; ".join(signs),
            pinned=request.pin,
            databases=names,
        )
        if request.only:
            about = replace(about, roles=config.roles, tiles=config.world.tiles)
        wanted = selection(request.only, config.roles, config.world.tiles) if request.only else None
        # a server that runs may have been told to save since
        glimpse = ahead.fingerprint(str(server)) if ahead and not signs else ""
        taken = writer.add(
            store,
            live,
            about,
            wanted=wanted,
            live=live,
            rehash=request.rehash,
            streams=streams,
            progress=progress,
            glimpse=glimpse,
        )
        remember_written(keep)
        return taken._replace(dumped=_dumped(store, taken.about)) if streams else taken


def _databases(only: Sequence[str], config: Config) -> tuple[Database, ...]:
    if config.databases_table is None:
        return ()
    from emberkeep.databases.access import meant  # only where there are some

    return meant(only, config.databases_table)


def _dumped(store: Store, about: About) -> tuple[Dumped, ...]:
    from emberkeep.operations.record import databases  # only where there are some

    tree = snapshot_tree(store, about.label)
    dumped = {name: databases.facts_in(tree, name) for name in about.databases}
    return tuple(
        Dumped(name, len(facts.tables), facts.rows, databases.size_in(tree, name)) for name, facts in dumped.items()
    )


def _streams(keep: Keep, chosen: Sequence[Database], now: datetime) -> list[Stream]:
    if not chosen:
        return []
    from emberkeep.operations.record import databases  # only where there are some

    return databases.streams(keep, chosen, now)


def _discard(room: Path) -> None:
    if room.is_dir():
        with suppress(OSError):
            writing.discard(room)


def take_in(
    keep: Keep, source: Path, now: datetime, *, note: str = "", pin: bool = False, progress: Progress = no_op
) -> SnapshotResult:
    """Take an archive or another folder in as a snapshot. UnreadableInput, with nothing taken, for what is no safe
    archive."""
    from emberkeep.fs.archives import open_source  # only here: loading tarfile and zipfile takes its time

    tree = open_source(source, partly=True)  # what is left out is told
    about = About("", now, ASKED, note, source=str(source), pinned=pin)
    with closing(store_of(keep)) as store:
        return writer.add(store, tree, about, progress=progress)


def clashes(keep: Keep, label: str) -> list[tuple[str, str]]:
    """Pairs of names in a snapshot that differ only in case."""
    with closing(store_of(keep)) as store:
        return alike(store.manifest(label).held)


def alike(paths: Iterable[str]) -> list[tuple[str, str]]:
    """Pairs of paths that differ only in case: on many systems they cannot stand side by side."""
    first: dict[str, str] = {}
    return [(first[low], path) for path in paths if first.setdefault(low := path.lower(), path) != path]


def snapshots(store: Store, newest: int | None = None) -> tuple[list[About], list[str]]:
    """The facts of all snapshots, or the ``newest`` so many, ascending, and what is wrong with those that cannot be
    read."""
    found: list[About] = []
    faults: list[str] = []
    numbers = store.numbers()
    for number in numbers if newest is None else numbers[-newest:]:
        try:
            found.append(store.about(str(number)))
        except Damage as error:
            faults.append(str(error))
    return found, faults


def meant(store: Store, keep: Keep, ref: str, now: datetime) -> About:
    """The facts of the snapshot that ``ref`` names. The newest are looked at first, and mostly one is enough."""
    return resolve(ref, _newest_first(store), now, keep.config.tz)


def _newest_first(store: Store) -> Iterator[About]:
    for number in reversed(store.numbers()):
        with suppress(Damage, UsageError):  # another program may have let it go just now
            yield store.about(str(number))


def find(store: Store, keep: Keep, ref: str, now: datetime) -> SnapshotTree:
    """The snapshot that ``ref`` names, as a tree."""
    about = meant(store, keep, ref, now)
    return snapshot_tree(store, about.label)


def pin(store: Store, keep: Keep, ref: str, now: datetime, *, pinned: bool) -> About:
    """Pin a snapshot, or let it go again; what is known of it afterwards."""
    about = meant(store, keep, ref, now)
    changed = replace(about, pinned=pinned)
    writer.amend(store, changed)
    return changed
