"""A store that several keeps of one owner share: what they hold alike, as the files of one game, lies there once.

::

    STORE/
      packs, index, damaged, lock …    of all keeps, see ``store``
      keeps/NAME/
        snapshots, defaults, seen      of one keep
        keep                           UTF-8: the folder of that keep
    KEEP/store.json                    in a keep that shares one: {"folder": "…", "name": "NAME"}; the folder may be
                                       relative to the keep

That file alone tells where the snapshots of a keep lie; ``[store] shared`` of keep.toml says where the admin wants
them, and ``operations.flows.move_store`` moves them there.
"""

from __future__ import annotations

import json
import re
from collections.abc import Collection, Container, Iterable, Mapping
from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path

from emberkeep.errors import Damage, Place, Refused, UsageError
from emberkeep.fs import system, writing
from emberkeep.fs.trees import FILE, Entry
from emberkeep.keep.keep import Keep
from emberkeep.keep.locate import SUFFIX, inside, is_keep
from emberkeep.store import extents
from emberkeep.store import manifest as manifests
from emberkeep.store.manifest import ManifestName
from emberkeep.store.store import KEEPS, Store
from emberkeep.store.table import FileRow

MARKER = "store.json"
OWNER = "keep"


@dataclass(frozen=True)
class Share:
    """A keep's part of a store that several share: the store's folder, as it is written in the keep (``setting``) and
    in full, and the keep's name there."""

    setting: str
    folder: Path
    name: str

    @property
    def own(self) -> Path:
        """What is of this keep alone."""
        return self.folder / KEEPS / self.name


def share_of(keep: Keep) -> Share | None:
    """The part that a keep has in a shared store; None where its store is its own. Refused where its note of that
    cannot be read."""
    return _share_at(keep.folder)


def _share_at(folder: Path) -> Share | None:
    path = folder / MARKER
    try:
        found = json.loads(path.read_text(encoding="utf-8"))
        return _share(folder, str(found["folder"]), str(found["name"]))
    except FileNotFoundError:
        return None
    except (ValueError, LookupError, TypeError):
        raise Refused(
            "this file, which tells where the snapshots of the keep lie, is damaged",
            place=Place(str(path)),
            hint='write it as {"folder": "/the/shared/store", "name": "the name of a folder in its keeps/"}',
        ) from None


def share_in(keep: Keep, setting: str, name: str) -> Share:
    """The part called ``name`` of the shared store that keep.toml would name as ``setting``. ValueError for no name."""
    return _share(keep.folder, setting, name)


def _share(folder: Path, setting: str, name: str) -> Share:
    if not name or Path(name).name != name or name in (".", ".."):
        raise ValueError(name)
    return Share(setting, Path(inside(str(folder), setting)), name)


def note_share(keep: Keep, setting: str, name: str) -> None:
    """Have the snapshots of a keep lie in a shared store from now on."""
    writing.write_whole(keep.folder / MARKER, [marker(setting, name)])


def marker(setting: str, name: str) -> bytes:
    """What the note of a keep holds that has a part of a shared store."""
    return (json.dumps({"folder": setting, "name": name}, indent=1) + "\n").encode()


def owner(folder: Path) -> bytes:
    """What the note in a part of a shared store holds that is of the keep in ``folder``."""
    return f"{folder}\n".encode("utf-8", "surrogateescape")


def forget_share(keep: Keep) -> None:
    """Have the snapshots of a keep lie in its own store from now on."""
    with suppress(FileNotFoundError):
        system.io.unlink(keep.folder / MARKER)
    system.io.sync_folder(keep.folder)


def store_of(keep: Keep) -> Store:
    """The store of a keep, its own or its part of a shared one. Refused where a shared one is not there, or where
    another keep has that part."""
    share = share_of(keep)
    store = Store(share.folder, member=share.name) if share else Store(keep.store_folder)
    store.still = lambda: share_of(keep) == share
    if share is None:
        return store
    if not share.own.is_dir():
        raise Refused(
            f"the shared store with the snapshots of this keep is not there: {share.own}",
            place=Place(str(keep.folder / MARKER)),
            hint="is its disk mounted? where it was moved, write its new folder into that file",
        )
    _check_ours(keep, share)
    return store


def _check_ours(keep: Keep, share: Share) -> None:
    """Refused where the part of a shared store is another keep's, of which this one is a copy; a keep that was moved
    is noted at its new place."""
    if is_anothers(keep, share):
        raise Refused(
            f"this keep is a copy of {owner_of(share.own)}, whose snapshots lie in {share.own}",
            place=Place(str(keep.folder / MARKER)),
            hint="delete that file to have this keep begin with no snapshots, in a store of its own",
        )
    was = owner_of(share.own)
    if was is None or not _is_same(was, keep.folder):
        with suppress(OSError):
            note_owner(share.own, keep)


def is_anothers(keep: Keep, share: Share) -> bool:
    """Whether a part of a shared store is that of another keep which is there and says so."""
    was = owner_of(share.own)
    if was is None or _is_same(was, keep.folder) or not is_keep(str(was)):
        return False
    with suppress(Refused):
        theirs = _share_at(was)
        return theirs is not None and theirs.name == share.name and _is_same(theirs.folder, share.folder)
    return False


def _is_same(one: Path, other: Path) -> bool:
    """Whether two paths lead to one folder, as by a link."""
    with suppress(OSError):
        return one.samefile(other)
    return one == other


def owner_of(own: Path) -> Path | None:
    """The folder of the keep that has a part of a shared store; None where that is not known."""
    try:
        return Path((own / OWNER).read_text(encoding="utf-8", errors="surrogateescape").rstrip("\n"))
    except OSError:
        return None


def note_owner(own: Path, keep: Keep) -> None:
    """Note which keep has a part of a shared store."""
    writing.write_whole(own / OWNER, [owner(keep.folder)])


def _is_mine(own: Path, keep: Keep) -> bool:
    was = owner_of(own)
    return was is not None and _is_same(was, keep.folder)


def free_name(folder: Path, keep: Keep) -> str:
    """The name that a keep can have in a shared store: that of its folder, with a number where another has it."""
    called = re.sub(r"[^\w.-]+", "-", keep.folder.name.removesuffix(SUFFIX)).strip("-.") or "keep"
    taken = {path.name.lower() for path in (folder / KEEPS).glob("*") if not _is_mine(path, keep)}
    names = (called, *(f"{called}-{number}" for number in range(2, len(taken) + 3)))
    return next(name for name in names if name.lower() not in taken)


LOOKED_AT = 24
"""Manifests of other keeps in which a new snapshot looks for what it need not store: more cost more than they find."""


def elsewhere(store: Store, sizes: Collection[int]) -> Mapping[str, FileRow]:
    """Contents of some ``sizes`` (bytes) that other keeps hold, by digest, those that are all there: what a new
    snapshot need not store again. Looked for in the :data:`LOOKED_AT` latest of their newest snapshots and recorded
    defaults."""
    names = []
    for other in store.others() if sizes else ():
        names += [ManifestName(str(number), keep=other.member) for number in other.numbers()[-1:]]
        names += [ManifestName(version, True, other.member) for version in other.versions()]
    latest = sorted(names, key=lambda name: store.path_of(name).stat().st_mtime_ns, reverse=True)
    return contents_of(store, latest[:LOOKED_AT], sizes)


def contents_of(store: Store, names: Iterable[ManifestName], sizes: Container[int]) -> dict[str, FileRow]:
    """Contents of some ``sizes`` (bytes) that manifests name, by digest, those that are all there."""
    found: dict[bytes, tuple[int, extents.Place]] = {}
    for name in names:
        with suppress(Damage, UsageError):
            there = manifests.parse_contents(*store.manifest_file(name), sizes)
            found.update({digest: (size, place) for place, (size, digest) in there.items()})
    rows = (FileRow(Entry("", FILE, 0, 0, size), digest.hex(), place) for digest, (size, place) in found.items())
    return {row.digest: row for row in rows if store.holds(row)}
