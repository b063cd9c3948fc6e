"""Taking snapshots of the live server, and finding them again."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime

from emberkeep.errors import Damage
from emberkeep.keep import Keep
from emberkeep.servers.process import refuse_if_running, running_signs
from emberkeep.servers.roles import selection
from emberkeep.store.manifest import ASKED, About, Manifest
from emberkeep.store.refs import resolve
from emberkeep.store.store import Progress, SnapshotTree, Store, silent
from emberkeep.trees import FolderTree


def take(
    keep: Keep,
    now: datetime,
    *,
    note: str = "",
    only: Sequence[str] = (),
    while_running: bool = False,
    why: str = ASKED,
    progress: Progress = silent,
) -> Manifest:
    """Snapshot the server folder, or what ``only`` selects of it. Refused while the server runs, unless told
    otherwise."""
    server = keep.require_server()
    if not while_running:
        refuse_if_running(server, "a copy taken now would be torn")
    signs = running_signs(server) if while_running else ()
    about = About("", now, why, note, tuple(only), keep.config.roles if only else (), running="; ".join(signs))
    wanted = selection(only, keep.config.roles) if only else None
    store = Store(keep.store_folder)
    try:
        return store.add(FolderTree(server, "live"), about, wanted=wanted, progress=progress)
    finally:
        store.close()


def snapshots(store: Store) -> tuple[list[About], list[str]]:
    """The facts of all snapshots, ascending, and what is wrong with those that cannot be read."""
    found: list[About] = []
    faults: list[str] = []
    for number in store.numbers():
        try:
            found.append(store.about(str(number)))
        except Damage as error:
            faults.append(str(error))
    return found, faults


def find(store: Store, keep: Keep, ref: str, now: datetime) -> SnapshotTree:
    """The snapshot that ``ref`` names, as a tree."""
    about = resolve(ref, snapshots(store)[0], now, keep.config.tz)
    return SnapshotTree(store, store.manifest(about.label), f"snapshot {about.label}")
