"""A rehearsal: the server folder and its keep copied elsewhere, so that an update can be tried without touching either.

The copy's store shares the files of the real one by further names where the disk allows it; stores never change a file
in place, so neither sees what the other writes. Texts, links and commands that name the live folder by its full path
name the copy there; what leads the copy elsewhere outside of it is refused.
"""

from __future__ import annotations

import os
import re
import shutil
import socket
from collections.abc import Sequence
from contextlib import closing, suppress
from dataclasses import replace
from pathlib import Path

import tomlkit

from emberkeep.callbacks import Progress, no_op
from emberkeep.documents.encoding import decode
from emberkeep.errors import Damage, EmberKeepError, Fault, Place, Refused, UsageError
from emberkeep.fs import writing
from emberkeep.fs.folder_tree import FolderTree
from emberkeep.fs.overlay import Overlay
from emberkeep.fs.trees import FILE as A_FILE
from emberkeep.fs.trees import LINK, Tree, whole
from emberkeep.inventory.roles import Roles
from emberkeep.keep.edit import make_like
from emberkeep.keep.keep import Keep
from emberkeep.keep.locate import FILE
from emberkeep.operations.engine import apply, fitness, restore_plan
from emberkeep.operations.engine.step import RunContext
from emberkeep.operations.flows.update_request import Request
from emberkeep.operations.record import snapshot
from emberkeep.operations.record.starts import Starts
from emberkeep.process import lifecycle
from emberkeep.process.signs import pid_files
from emberkeep.store.shared import store_of
from emberkeep.store.store import Store

LARGEST_TEXT = 4 << 20
"""Bytes of a text in which the live folder's path is looked for."""
WRITTEN = ("world", "players", "progress", "databases", "access", "extension-data", "settings", "unsorted")
"""Roles of what a server may write to."""


def prepare(
    keep: Keep,
    store: Store,
    into: Path,
    progress: Progress = no_op,
    source: restore_plan.Source | None = None,
    *,
    starts: bool = True,
) -> Keep:
    """Copy server folder and keep below ``into``; the copy's keep.

    While the server runs, the newest snapshot of it is taken instead; ``source``: this is copied, and no snapshots
    beside it; ``starts``: whether the copy is started later. Refused for a folder that is not empty.
    """
    fitness.check_target(into, keep.server)
    roles = Roles(keep.config.roles)
    if starts and keep.config.running.start is not None:
        if not ports(keep):
            raise UsageError(
                "the copy is started, and keep.toml does not tell which ports it takes then",
                hint=f'set [rehearse] set = {{ "{keep.config.launch.script or "server.ini"}" = {{ KEY = "PORT" }} }}, '
                "with the key of its port and a free one; 'update --rehearse DIR --no-start' goes without",
            )
        lifecycle.require_entry(keep.config, into)
    server = into / keep.server.name
    copied = source or _live(keep, store)
    _refuse_ways_out(keep, copied)
    left = {path for path, entry in copied.entries().items() if entry.kind is A_FILE and roles.of(path) == "scratch"}
    plan = restore_plan.plan(copied, server, lambda path: path not in left)
    fitness.check_room(plan)
    faults = apply.apply(plan, copied, fresh=True, progress=progress)
    if faults:
        raise Damage.gathered(tuple(faults))
    for mark in pid_files(server, keep.config.running.process.pid_file):
        if mark.resolve().is_relative_to(server.resolve()):  # else it is the live one, as keep.toml may name it
            mark.unlink(missing_ok=True)  # some scripts start nothing while it is there
    return _keep_beside(keep, into, server, with_store=source is None)


def _live(keep: Keep, store: Store) -> restore_plan.Source:
    """The live folder, or while its server runs the newest snapshot of it."""
    if not lifecycle.is_running(keep):
        return Overlay(whole(FolderTree(keep.require_server(), "live")), 0)
    found = [about for about in snapshot.snapshots(store)[0] if not about.scope]
    if not found:
        raise Refused("the server runs, and there is no snapshot to rehearse with", hint="emberkeep snapshot")
    return snapshot.find(store, keep, found[-1].label, found[-1].taken)


def _refuse_ways_out(keep: Keep, source: Tree) -> None:
    """Refused where links lead out of the folder to what a server writes: the copy would write there, too."""
    roles = Roles(keep.config.roles)
    wrong = []
    for path, entry in source.entries().items():
        if entry.kind is LINK and roles.of(path) in WRITTEN:
            target = Path(os.path.normpath(keep.server / Path(path).parent / entry.points_at))
            if not any(target.is_relative_to(here) for here in _spellings(keep.server)) and target.exists():
                wrong.append(Fault(f"it leads to {target}, which the copy would write to", Place(path)))
    if wrong:
        raise Refused.gathered(tuple(wrong))


def _spellings(folder: Path) -> list[Path]:
    """The full paths by which a folder may be named."""
    return list(dict.fromkeys((Path(os.path.abspath(folder)), Path(os.path.realpath(folder)))))


def rehouse(keep: Keep, copy: Keep) -> list[str]:
    """Have the copy's texts and links that name the live folder by its full path name the copy; which did."""
    found = []
    roles = Roles(keep.config.roles)
    for path, entry in FolderTree(copy.server).entries().items():
        place = copy.server / path
        if roles.of(path) in ("logs", "scratch"):
            continue
        if entry.kind is LINK and (target := _moved(entry.points_at, keep.server, copy.server)) != entry.points_at:
            place.unlink()
            place.symlink_to(target)
            found.append(path)
        elif entry.kind is A_FILE and 0 < entry.size <= LARGEST_TEXT:
            data = place.read_bytes()
            source = decode(data) if b"\0" not in data[:4096] or data[:2] in (b"\xff\xfe", b"\xfe\xff") else None
            text = _moved(source.text, keep.server, copy.server) if source else ""
            if source and text != source.text:
                writing.write_whole(place, [source.encode(text)], otherwise=entry.mode)
                os.utime(place, ns=(entry.mtime_ns, entry.mtime_ns))
                found.append(path)
    return found


def _moved(text: str, live: Path, copy: Path) -> str:
    """A text in which full paths into the live folder lead into the copy, also as Windows spells them."""
    for folder in map(str, _spellings(live)):
        for old, new in ((folder, str(copy)), (folder.replace("/", "\\"), str(copy).replace("/", "\\"))):
            parts = re.split(rf"{re.escape(old)}(?![\w.-])", text) if old in text else [text]
            text = new.join(parts)
    return text


def fingerprint(keep: Keep) -> str:
    """Of the live folder, to be compared with afterwards; "" while its server runs, which changes it."""
    return "" if lifecycle.is_running(keep) else FolderTree(keep.require_server()).fingerprint()


def touched(keep: Keep, before: str) -> str:
    """What is wrong where the live folder is no more what it was before the rehearsal; "" where nothing is, or where
    its server runs, which changes it. ``before``: its fingerprint then."""
    if not before or FolderTree(keep.server).fingerprint() == before or lifecycle.is_running(keep):
        return ""
    return f"{keep.server} is not as it was before the rehearsal: something in the copy leads there"


FARTHER = 1000
"""How far above the live port the copy's is looked for."""
HIGHEST_PORT = 65535


def ports(keep: Keep) -> tuple[tuple[str, str, str], ...]:
    """What is set in the copy so that it takes other ports: as keep.toml tells it, else the port of the launch script
    to one that is free. File, key and value."""
    changes = keep.config.updating.set_for_rehearsal
    script, key = keep.config.launch.script, keep.config.launch.keys.get("port", "")
    place = keep.server / script
    if changes or not key or not place.is_file():
        return changes
    from emberkeep.documents import edit

    port = edit.value(script, place.read_bytes(), key) or ""
    return ((script, key, str(_free_port(int(port) + FARTHER))),) if port.isdigit() else ()


def _free_port(first: int) -> int:
    for port in range(first, HIGHEST_PORT):
        with socket.socket() as probe, suppress(OSError):
            probe.bind(("127.0.0.1", port))
            return port
    raise Refused(f"no port from {first} on is free", hint="tell one in [rehearse] set")


def _keep_beside(keep: Keep, into: Path, server: Path, *, with_store: bool) -> Keep:
    folder = make_like(keep, into / f"{server.name}.keep", server).folder
    text = (folder / FILE).read_text(encoding="utf-8")
    document = tomlkit.parse(_moved(text, keep.server, server))
    changes = ports(keep)
    if not keep.config.updating.set_for_rehearsal and changes:
        document["rehearse"] = {"set": {path: {key: value} for path, key, value in changes}}
    _other_ports(keep, document, changes)
    _apart_from_live(keep, document, server)
    _without_served(document)
    writing.write_whole(folder / FILE, [tomlkit.dumps(document).encode()])
    if with_store:
        _copy_store(keep, folder / "store")
    return Keep(folder, keep.environment)


def _apart_from_live(keep: Keep, document: tomlkit.TOMLDocument, server: Path) -> None:
    """Leave out what still leads to the live server: a console on which the copy would be told to stop, signs that show
    that it runs."""
    console = document.get("console", {})
    kind = console.get("kind", "line")
    address, path = str(console.get("address", "")), str(console.get("path", ""))
    live = keep.config.running.console
    same = live is not None and (
        kind in ("tmux", "screen", "command")
        or (kind in ("line", "packet") and address == live.address)
        or (kind == "fifo" and not Path(path).is_relative_to(server))
    )
    if same:
        del document["console"]
        stop = document.setdefault("stop", tomlkit.table())
        stop.setdefault("terminate", "30 s")
    process, process_of_live = document.get("process", {}), keep.config.running.process
    for key in ("address", "command"):
        if key in process and str(process[key]) == getattr(process_of_live, key):
            del process[key]


def _without_served(document: tomlkit.TOMLDocument) -> None:
    """Leave out the databases of servers: there is only one of each, and a rehearsal must not change it."""
    items = document.get("database", [])
    for at in reversed(range(len(items))):
        if "file" not in items[at]:
            del items[at]
    if "database" in document and not items:
        del document["database"]


def _other_ports(keep: Keep, document: tomlkit.TOMLDocument, wanted: Sequence[tuple[str, str, str]]) -> None:
    """Addresses of keep.toml whose ports the rehearsal sets otherwise go along."""
    from emberkeep.documents import edit

    changes = {}
    for path, key, value in wanted:
        with suppress(OSError, EmberKeepError):
            before = edit.value(path, (keep.server / path).read_bytes(), key)
            if before and before.isdigit() and value.isdigit():
                changes[before] = value
    for table in ("console", "process"):
        address = str(document.get(table, {}).get("address", ""))
        host, mark, port = address.rpartition(":")
        if mark and port in changes:
            document[table]["address"] = f"{host}:{changes[port]}"


def _copy_store(keep: Keep, into: Path) -> None:
    """What the keep needs of its store, as a store of the copy's own."""
    with closing(store_of(keep)) as store:
        for name, path in store.needed_files().items():
            if path.is_file():
                writing.make_folder((into / name).parent, private=True)
                _linked(str(path), str(into / name))


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
    starts = Starts(keep.folder)
    for start in Starts(copy.folder).all():
        starts.add(start)


def stop(context: RunContext) -> None:
    """Stop the copy's server, if it was started."""
    if not lifecycle.is_running(context.keep):
        return
    try:
        lifecycle.stop(context.keep, context.environment, context.say)
    except EmberKeepError:
        lifecycle.end(context.keep, context.findings.pids)
