"""Merging between paths, without a keep: three files, or three folders (or archives)."""

from __future__ import annotations

from pathlib import Path

from emberkeep import files
from emberkeep.archives import open_source
from emberkeep.errors import Refused, UnreadableInput, UsageError
from emberkeep.merging.answers import Answers
from emberkeep.merging.merge import merge_trees
from emberkeep.merging.results import Merge
from emberkeep.runs.defaults import best_root
from emberkeep.runs.merge import GIVEN, write_files
from emberkeep.runs.restore import deepest_first
from emberkeep.trees import FileTree, FolderTree, Kind, PartTree, Tree, read


def merge(old: Path, new: Path, mine: Path, answers: Answers) -> Merge:
    """Merge three files or three folders; a file goes under the name that mine has."""
    for path in (old, new, mine):
        if not path.exists():
            raise UsageError(f"{path} is not there")
    if mine.is_file():
        if old.is_dir() or new.is_dir():
            raise UsageError(f"{mine} is a file; the old and new defaults must then be files too")
        sides: tuple[Tree, Tree, Tree] = (FileTree(old, mine.name), FileTree(new, mine.name), FileTree(mine))
    else:
        live = FolderTree(mine)
        sides = (_vendor(old, live), _vendor(new, live), live)
    found = merge_trees(*sides, settle=answers.settle)
    return Merge(found.old, found.new, found.files, answers.unused(GIVEN))


def _vendor(source: Path, live: FolderTree) -> Tree:
    """A release from where its files line up with the admin's."""
    tree = open_source(source)
    below = best_root(tree, set(live.entries()))
    return PartTree(tree, below) if below else tree


def write(found: Merge, mine: Path, out: Path) -> None:
    """Write the merged file or folder as ``out``; nothing when a file could not be read.

    A folder comes out whole: merged files, and all that the merge left alone, with modes and times.
    """
    if found.faults:
        raise UnreadableInput.gathered(found.faults)
    if mine.is_file():
        _write_file(found, mine, out)
        return
    if mine in out.parents or out in mine.parents:
        raise Refused(f"{out} and {mine} lie inside one another", hint="name an OUT beside it")
    if out == mine:
        write_files(out, found.to_write)
        return
    _copy(mine, out, {item.path for item in found.to_write})
    write_files(out, [item for item in found.to_write if item.data is not None])


def _write_file(found: Merge, mine: Path, out: Path) -> None:
    item = found.files[0]
    data = item.data if item.data is not None else mine.read_bytes()
    files.write_whole(out, [data], mode=mine.stat().st_mode & 0o7777)


def _copy(mine: Path, out: Path, leave: set[str]) -> None:
    tree = FolderTree(mine)
    entries = tree.entries()
    files.make_folder(out)
    for path, entry in entries.items():
        if entry.kind is Kind.FOLDER:
            files.make_folder(out / path)
        elif entry.kind is Kind.LINK:
            files.place_link(out / path, entry.points_at, files.Facts(mtime_ns=entry.mtime_ns))
        elif path not in leave:
            files.write_whole(out / path, [read(tree, path)], mode=entry.mode, mtime_ns=entry.mtime_ns)
    for entry in deepest_first(entry for entry in entries.values() if entry.kind is Kind.FOLDER):
        files.io.utime(out / entry.path, entry.mtime_ns)
