"""A rehearsal: the server folder and its keep copied elsewhere, so that an update can be tried without touching either.

The copy's store shares the files of the real one by further names where the disk allows it; stores never change a file
in place, so neither sees what the other writes.
"""

from __future__ import annotations

import os
import shutil
from contextlib import suppress
from dataclasses import replace
from pathlib import Path

import tomlkit

from emberkeep import files
from emberkeep.errors import EmberKeepError, Refused, UsageError
from emberkeep.keep import Keep, make_like
from emberkeep.locate import FILE
from emberkeep.planned import Planned
from emberkeep.runs import restore, snapshot
from emberkeep.runs.journal import Journal
from emberkeep.runs.run import Room
from emberkeep.runs.update import Request
from emberkeep.servers import lifecycle
from emberkeep.store.intake import Progress, silent
from emberkeep.store.store import Store
from emberkeep.trees import FolderTree


def prepare(keep: Keep, store: Store, into: Path, progress: Progress = silent) -> Keep:
    """Copy server folder and keep below ``into``; the copy's keep.

    While the server runs, the newest snapshot of it is taken instead. Refused for a folder that is not empty.
    """
    restore.check_target(into, keep.server)
    if not keep.config.updating.set_for_rehearsal and keep.config.running.start is not None:
        raise UsageError(
            "a rehearsal starts the copy, and keep.toml does not tell which ports it takes then",
            hint='set [rehearse] set = { "keeper.properties" = { port = "28800" } }, or say --no-start',
        )
    server = into / keep.server.name
    source: restore.Source = Planned(FolderTree(keep.require_server(), "live"), 0)
    if lifecycle.is_running(keep):
        found = [about for about in snapshot.snapshots(store)[0] if not about.scope]
        if not found:
            raise Refused("the server runs, and there is no snapshot to rehearse with", hint="emberkeep snapshot")
        source = snapshot.find(store, keep, found[-1].label, found[-1].taken)
    plan = restore.plan(source, server, lambda path: True)
    restore.check_room(plan)
    restore.apply(plan, source, fresh=True, progress=progress)
    return _keep_beside(keep, into, server)


def _keep_beside(keep: Keep, into: Path, server: Path) -> Keep:
    folder = make_like(keep, into / f"{server.name}.keep", server).folder
    told = tomlkit.parse((folder / FILE).read_text(encoding="utf-8"))
    _other_ports(keep, told)
    _without_served(told)
    files.write_whole(folder / FILE, [tomlkit.dumps(told).encode()])
    if keep.store_folder.is_dir():
        shutil.copytree(keep.store_folder, folder / "store", copy_function=_linked)
    return Keep(folder, keep.environment)


def _without_served(told: tomlkit.TOMLDocument) -> None:
    """Leave out the databases of servers: there is only one of each, and a rehearsal must not change it."""
    items = told.get("database", [])
    for at in reversed(range(len(items))):
        if "file" not in items[at]:
            del items[at]
    if "database" in told and not items:
        del told["database"]


def _other_ports(keep: Keep, told: tomlkit.TOMLDocument) -> None:
    """Addresses of keep.toml whose ports the rehearsal sets otherwise go along."""
    from emberkeep.documents import edit

    changes = {}
    for path, key, value in keep.config.updating.set_for_rehearsal:
        with suppress(OSError, EmberKeepError):
            before = edit.value(path, (keep.server / path).read_bytes(), key)
            if before and before.isdigit() and value.isdigit():
                changes[before] = value
    for table in ("console", "process"):
        address = str(told.get(table, {}).get("address", ""))
        host, mark, port = address.rpartition(":")
        if mark and port in changes:
            told[table]["address"] = f"{host}:{changes[port]}"


def _linked(source: str, target: str) -> str:
    """A further name for a file that is never written to in place; a copy of what is, or where links cannot be."""
    if Path(source).suffix in (".pack", ".manifest"):
        with suppress(OSError):
            os.link(source, target)
            return target
    return str(shutil.copy2(source, target))


def request_for(request: Request) -> Request:
    """The same update as it is asked of the copy."""
    return replace(request, rehearsal=True)


def learn(keep: Keep, copy: Keep) -> None:
    """Remember how long the copy's starts took: the real one is foretold by them."""
    journal = Journal(keep.folder)
    for start in Journal(copy.folder).starts():
        journal.started(start)


def stop(room: Room) -> None:
    """Stop the copy's server, if it was started."""
    if not lifecycle.is_running(room.keep):
        return
    try:
        lifecycle.stop(room.keep, room.environment, room.say)
    except EmberKeepError:
        lifecycle.end(room.keep, room.told.get("pids", []))
