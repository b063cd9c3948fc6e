"""Whether what is to be put back can be: whole in the store, with room, with names that the disk can hold."""

from __future__ import annotations

import os
import re
import shutil
from collections.abc import Callable, Iterable
from pathlib import Path

from emberkeep.errors import Damage, Fault, Place, Refused
from emberkeep.fs.trees import FILE, parents
from emberkeep.operations.engine.restore_plan import RestorePlan
from emberkeep.operations.record.snapshot import alike
from emberkeep.store.tree import SnapshotTree

ELSEWHERE = "restore the rest with --only, or --into another folder"


def check_whole(plan: RestorePlan, snapshot: SnapshotTree, hint: str = ELSEWHERE) -> None:
    """Read all that will be written; Damage, naming every file, before anything is touched. ``hint``: the way on."""
    faults = []
    for entry in plan.write:
        if entry.kind is not FILE or entry.same_as:
            continue
        try:
            for _ in snapshot.chunks(entry.path):
                pass
        except Damage as error:
            faults += [Fault(fault.what, fault.place, hint) for fault in error.faults]
    if faults:
        raise Damage.gathered(tuple(faults))


def check_room(plan: RestorePlan) -> None:
    """Refused when the disk has too little room for what will be written beside what stands there."""
    place = nearest(plan.target)
    free = shutil.disk_usage(place).free
    if plan.bytes > free:
        raise Refused(
            f"{plan.bytes} bytes are to be written, and the disk has room for {free}",
            place=Place(str(place)),
            hint="make room, or restore a part with --only",
        )


_UNFIT = re.compile(
    r'[<>:"|?*\\\x00-\x1f]|[. ]\Z|\A(?:con|prn|aux|nul|com[1-9]|lpt[1-9])(?:\..*)?\Z', re.IGNORECASE | re.DOTALL
)
"""Names that Windows, and disks made for it, do not hold (Microsoft, "Naming Files, Paths, and Namespaces")."""


_NARROW = ("vfat", "msdos", "exfat", "ntfs", "ntfs3", "fuseblk", "cifs", "smb3", "smbfs")
"""File systems that hold no such names."""


def kind_of_disk(folder: Path) -> str:
    """What the system calls the file system that a folder lies on; "" where it does not tell."""
    import psutil  # only where names are asked about

    whole = os.path.realpath(folder)
    found = [
        part
        for part in psutil.disk_partitions(all=True)
        if whole == part.mountpoint or whole.startswith(part.mountpoint.rstrip(os.sep) + os.sep)
    ]
    if not found:
        return ""
    nearby = max(found, key=lambda part: len(part.mountpoint))
    kind = str(nearby.fstype).lower()
    return (_by_its_first_bytes(nearby.device) or kind) if kind.startswith("fuse") else kind


def _by_its_first_bytes(device: str) -> str:
    """What a disk behind a driver in user space says that it is, in its boot sector; "" where it does not."""
    try:
        with open(device, "rb") as disk:  # noqa: PTH123 - a device or an image of one
            head = disk.read(90)
    except OSError:
        return ""
    names = ((head[3:11], b"NTFS    ", "ntfs"), (head[3:11], b"EXFAT   ", "exfat"))
    fat = head[54:57] == b"FAT" or head[82:85] == b"FAT"
    return next((kind for there, name, kind in names if there == name), "vfat" if fat else "")


def unfit(paths: Iterable[str], folder: Path) -> list[str]:
    """The paths whose names the disk below a folder cannot hold."""
    odd = [path for path in paths if any(_UNFIT.search(part) for part in path.split("/"))]
    return odd if odd and (os.name == "nt" or kind_of_disk(folder) in _NARROW) else []


def nearest(folder: Path) -> Path:
    """A folder, or the nearest above it that is there."""
    return next(one for one in (folder, *folder.parents) if one.is_dir())


def fitting(snapshot: SnapshotTree, into: Path) -> Callable[[str], bool]:
    """Which paths of a snapshot the disk at ``into`` can hold, of names that it takes for one the first."""
    place, paths = nearest(into), snapshot.entries()
    out = set(unfit(paths, place))
    if _folds_case(place):
        out.update(second for _, second in alike(paths))
    return lambda path: path not in out and not any(parent in out for parent in parents(path))


def check_names(plan: RestorePlan, snapshot: SnapshotTree, hint: str = "restore the others with --only") -> None:
    """Refused when the disk cannot hold a name, or takes names that differ only in case for one."""
    odd = unfit((entry.path for entry in (*plan.write, *plan.make)), nearest(plan.target))
    if odd:
        raise Refused(
            f"the disk of {plan.target} holds no name like {odd[0]!r} of {snapshot.label} ({len(odd)} such)", hint=hint
        )
    found = alike(entry.path for entry in (*plan.write, *plan.make))
    if found and _folds_case(nearest(plan.target)):
        one, other = found[0]
        raise Refused(
            f"{one} and {other} of {snapshot.label} would be one file here: names that differ only in "
            f"case are the same on this disk ({len(found)} such)",
            hint=hint,
        )


def _folds_case(folder: Path) -> bool:
    """Whether the file system takes names that differ only in case for one: asked by a name in the folder, as the
    folder itself may be where another disk begins, else by its own."""
    inside = next((path for path in folder.iterdir() if path.name.swapcase() != path.name), None)
    path = inside or folder
    other = path.with_name(path.name.swapcase())
    return other.name != path.name and other.exists() and other.samefile(path)


def check_target(into: Path, server: Path) -> None:
    """Refused unless ``into`` is new or empty and lies outside the server folder."""
    into = Path(os.path.realpath(into))
    server = Path(os.path.realpath(server))
    if into == server or server in into.parents:
        raise Refused(f"{into} lies in the server folder", hint="leave out --into to restore in place")
    if into.exists() and (not into.is_dir() or any(into.iterdir())):
        raise Refused(f"{into} is not empty", hint="name a folder that is not there yet")
