"""What could stop an update, a wipe, a start or an event, found beforehand: nothing is touched, nobody is told.

Each area of a run's work is looked over by the code that would meet the trouble later: the start by what starts
services, scopes by the clearing itself, recipes by their reader, vaults by opening them.
"""

from __future__ import annotations

import re
import shutil
from collections.abc import Callable, Iterator, Mapping
from contextlib import closing
from dataclasses import dataclass
from datetime import datetime, timedelta
from pathlib import Path

from emberkeep.errors import EmberKeepError, Fault, Place, Refused, reason
from emberkeep.fs import globs, private
from emberkeep.fs.folder_tree import FolderTree
from emberkeep.fs.overlay import Overlay
from emberkeep.fs.trees import Kind
from emberkeep.inventory import versions
from emberkeep.inventory.versions import ordering
from emberkeep.keep.keep import Keep
from emberkeep.merging import answers, orders
from emberkeep.migrating import recipe
from emberkeep.operations.flows import migrate, wipe_preview
from emberkeep.operations.record.due import DueRecords
from emberkeep.operations.record.journal import Journal
from emberkeep.operations.steps import merge
from emberkeep.process import console, lifecycle
from emberkeep.process.signs import signs
from emberkeep.store.shared import share_of, store_of
from emberkeep.store.store import Store
from emberkeep.survey.survey import pointer_of
from emberkeep.wiping.identifiers import unpacked
from emberkeep.wiping.scopes import WipeOperation

AHEAD = timedelta(days=1)
"""How far ahead of the clock a file may have been written."""
LOG_LOOKED_AT = 4 << 20
"""Bytes of a log's end in which the line is looked for that tells that the server is ready."""
ANSWERS_WITHIN = 10.0
"""Seconds within which the console of a running server lets somebody in."""
SPARE = 0.2
"""Share of the server folder's size that a run may need on the disk of the keep."""
Environment = Mapping[str, str]


@dataclass(frozen=True)
class Obstacle:
    """Something that would stop a run, or make it go wrong. ``area``: what was looked over."""

    area: str
    fault: Fault


@dataclass(frozen=True)
class Readiness:
    """What was found, and the areas in which there was nothing."""

    obstacles: tuple[Obstacle, ...]
    clear: tuple[str, ...]


@dataclass(frozen=True)
class _Checked:
    keep: Keep
    live: FolderTree
    environment: Environment
    now: datetime


def check(keep: Keep, environment: Environment, now: datetime) -> Readiness:
    """Look over everything that a run would rest on. Reads only."""
    checked = _Checked(keep, FolderTree(keep.require_server(), "live"), environment, now)
    found: list[Obstacle] = []
    clear = []
    for area, look in _AREAS.items():
        try:
            faults = list(look(checked))
        except EmberKeepError as error:
            faults = list(error.faults)
        except OSError as error:
            faults = [Fault(f"{area} cannot be looked over: {reason(error)}", Place(str(error.filename)))]
        found += [Obstacle(area, fault) for fault in faults]
        if not faults:
            clear.append(area)
    return Readiness(tuple(found), tuple(clear))


def _runs(checked: _Checked) -> Iterator[Fault]:
    waiting = Journal(checked.keep.folder).waiting()
    if waiting is not None:
        yield Fault(f"{waiting.words} waits to be finished", hint="'emberkeep resume --go' or 'emberkeep undo --go'")
    for question in checked.keep.config.questions:
        yield Fault(f"not confirmed: {question}", hint="'emberkeep adopt --ask' asks these one by one")


def _start(checked: _Checked) -> Iterator[Fault]:
    yield from lifecycle.obstacles(checked.keep.config, checked.live, checked.environment)


def _console(checked: _Checked) -> Iterator[Fault]:
    yield from lifecycle.unheard(checked.keep.config, checked.environment)
    console_settings = checked.keep.config.running.console
    if console_settings is not None and any(signs(checked.keep.server, None)):
        console.require_reached(console_settings, checked.environment, ANSWERS_WITHIN)


def _log(checked: _Checked) -> Iterator[Fault]:
    log = lifecycle.server_log(checked.keep.config)
    if not log.within:
        return
    within = globs.combined(log.within)
    logs = [
        path for path, entry in checked.live.entries().items() if entry.kind is Kind.FILE and within.fullmatch(path)
    ]
    if not logs:
        yield Fault(f"no log is there: {', '.join(log.within)} matches no file", hint="mend in of [log]")
        return
    newest = max(logs, key=lambda path: (checked.live.entries()[path].mtime_ns, path))
    ready = log.patterns.get("ready", "")
    if ready and not any(re.search(ready, line) for line in _last_lines(checked.keep.server / newest)):
        hint = "start the server once, or mend ready in [log]"
        yield Fault("no line of it says that the server is ready, as [log] ready has it", Place(newest), hint)


def _last_lines(path: Path) -> list[str]:
    """The last lines of a log, which may be large."""
    with path.open("rb") as log:
        log.seek(max(0, path.stat().st_size - LOG_LOOKED_AT))
        return unpacked(log.read()).decode("utf-8", "replace").splitlines()


def _versions(checked: _Checked) -> Iterator[Fault]:
    sources = checked.keep.config.versions
    names = {found.name for found in versions.find(checked.live, sources)}
    for source in sources:
        if source.name not in names:
            hint = "'emberkeep adopt --refresh' looks for it again"
            yield Fault(f"[versions.{source.name}] finds no version in {', '.join(source.within)}", hint=hint)


def _roles(checked: _Checked) -> Iterator[Fault]:
    entries = checked.live.entries()
    for role, patterns in checked.keep.config.roles:
        for pattern in patterns:
            fits = globs.combined([pattern, pattern.removesuffix("/**")])  # a folder may be empty for now
            if not any(fits.fullmatch(path) for path in entries):
                yield Fault(
                    f"the role {role} names {pattern}, and nothing there fits", hint="mend [roles] in keep.toml"
                )


def _world(checked: _Checked) -> Iterator[Fault]:
    pointer = pointer_of(checked.keep, checked.live)
    if pointer is not None and not pointer.there:
        what = "has no such key" if pointer.value is None else f"says {pointer.value}, and nothing there is called so"
        yield Fault(
            f"{pointer.key} should lead to the world: the file {what}", Place(pointer.file), "mend [world] pointer"
        )


def _scopes(checked: _Checked) -> Iterator[Fault]:
    """Each scope is cleared from a planned folder, as a wipe would."""
    config = checked.keep.config
    known = wipe_preview.known_of(checked.keep, checked.live)
    moment = int(checked.now.timestamp()) * 1_000_000_000
    with wipe_preview.served(checked.keep) as there:
        for scope in config.wiping.scopes:
            try:
                WipeOperation(Overlay(checked.live, moment), config, (scope.name,), known, served=there).run()
            except EmberKeepError as error:
                yield from error.faults


def _recipes(checked: _Checked) -> Iterator[Fault]:
    """They can be read, and lead from what the saves are to every newer release that is recorded."""
    keep = checked.keep
    if not keep.recipes.is_dir() or not recipe.read_all(keep.recipes):
        return
    with closing(store_of(keep)) as store:
        known = [version for version in store.versions() if ordering(version) > ordering(_saves(keep, store))]
        for version in known:
            wanted = migrate.Request(_saves(keep, store), version, migrate.folders(keep, None))
            try:
                migrate.recipes_for(wanted)
            except Refused as error:
                yield from error.faults


def _saves(keep: Keep, store: Store) -> str:
    return migrate.saves_version(keep, store, None)


def _merging(checked: _Checked) -> Iterator[Fault]:
    """Answers and standing orders can be read, and no question of the last merge is open."""
    keep = checked.keep
    answers.known(keep.answers_file)
    if keep.orders_file.exists():
        orders.read(keep.orders_file)
    with closing(store_of(keep)) as store:
        waits = merge.waiting(keep, store, checked.live) if store.names() else ()
    if waits:
        one = "one question" if len(waits) == 1 else f"{len(waits)} questions"
        what = f"{one} of the last merge {'is' if len(waits) == 1 else 'are'} open; yours stay until they are answered"
        yield Fault(what, Place(waits[0].asked.file), "'emberkeep merge --ask' asks them")


LONG_AGO = timedelta(hours=1)
"""As 'due' is to be called every five minutes."""


def _disk(checked: _Checked) -> Iterator[Fault]:
    size = sum(entry.size for entry in checked.live.entries().values())
    share, wanted = share_of(checked.keep), checked.keep.config.shared_store
    if wanted and (share is None or share.setting != wanted):
        what = f"keep.toml wants the snapshots in {wanted}, and they lie in {share.folder if share else 'the keep'}"
        yield Fault(what, Place(str(checked.keep.folder)), "'emberkeep store join --go' moves them there")
    with closing(store_of(checked.keep)) as store:
        free = store.free() if store.folder.is_dir() else shutil.disk_usage(checked.keep.folder).free
        needed = int(size * SPARE) if store.numbers() else size
    if free < needed:
        shortage = f"{free >> 20} MB are free where the snapshots lie; a run may need {needed >> 20} MB"
        yield Fault(shortage, Place(str(store.folder)), "make room, or thin old snapshots: 'emberkeep thin'")
    if private.is_open_to_others(checked.keep.folder):
        what = "others may read the keep, with all that is secret in the server folder: its disk keeps no rights"
        yield Fault(what, Place(str(checked.keep.folder)), "keep it on another disk, or mount this one for you alone")


def _clock(checked: _Checked) -> Iterator[Fault]:
    limit = int((checked.now + AHEAD).timestamp() * 1e9)
    late = [path for path, entry in checked.live.entries().items() if entry.mtime_ns > limit]
    if late:
        what = f"{len(late)} of its files are newer than now, {checked.now:%Y-%m-%d %H:%M}: a clock is wrong"
        yield Fault(what, Place(late[0]), "set the clock; times decide what changed")


def _events(checked: _Checked) -> Iterator[Fault]:
    """What events need is there, and somebody comes by to do what is due."""
    config = checked.keep.config
    last = DueRecords(checked.keep.folder).last_pass() if config.calendar.events else checked.now
    if last is None or checked.now - last > LONG_AGO:
        when = f"since {last.astimezone(config.tz):%Y-%m-%d %H:%M}" if last else "so far"
        what = f"keep.toml has events, and nothing has called 'emberkeep due --go' {when}"
        yield Fault(what, hint="'emberkeep calendar --install' shows what has cron, systemd or Windows call it")
    for event in config.calendar.events:
        if event.kind == "update" and event.source and not (checked.keep.folder / event.source).exists():
            yield Fault(
                f"the event {event.name} takes {event.source}, which is not there", hint="mend source in [[event]]"
            )


def _vaults(checked: _Checked) -> Iterator[Fault]:
    from emberkeep.vault import vault  # only where there are some

    for at in checked.keep.config.vaults:
        try:
            with vault.opened(at, checked.keep.folder, checked.environment) as there:
                there.open()
        except EmberKeepError as error:
            yield from error.faults


_AREAS: Mapping[str, Callable[[_Checked], Iterator[Fault]]] = {
    "runs and questions": _runs,
    "start": _start,
    "console": _console,
    "log": _log,
    "versions": _versions,
    "roles": _roles,
    "world": _world,
    "wipe scopes": _scopes,
    "recipes": _recipes,
    "merging": _merging,
    "disk": _disk,
    "clock": _clock,
    "events": _events,
    "vaults": _vaults,
}
