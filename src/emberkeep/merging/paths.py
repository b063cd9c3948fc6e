"""Merging between paths, without a keep: three files, or three folders (or archives)."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path

from emberkeep.documents import registry
from emberkeep.errors import Refused, UnreadableInput, UsageError
from emberkeep.fs import metadata, system, writing
from emberkeep.fs.folder_tree import FolderTree
from emberkeep.fs.trees import Entry, FileTree, Kind, NoTree, PartTree, Tree, best_root, deepest_first, read
from emberkeep.merging.answers import Answers
from emberkeep.merging.merge import merge_trees, no_rules
from emberkeep.merging.orders import Order
from emberkeep.merging.results import FileMerge, Merge, Outcome


def merge(
    old: Path | None, new: Path, mine: Path, answers: Answers, orders: Sequence[Order] = (), *, checked: bool = True
) -> Merge:
    """Merge three files or three folders; a file goes under the name that mine has. ``old`` None: two-way.

    ``checked``: whether what always holds in the vendor's files is learned and looked for in the result.
    """
    for path in (old, new, mine):
        if path is not None and not path.exists():
            raise UsageError(f"{path} is not there")
    before, after, live = sides(old, new, mine)
    with registry.read_once():
        found = answers.completed(merge_trees(before, after, live, resolve=answers.resolve, orders=orders))
        if not checked:
            return found
        from emberkeep.merging.inspection import inspect  # only where checks are made

        releases = [after] if old is None else [before, after]
        return replace(found, breaches=inspect(found, releases, live, after, no_rules))


def sides(old: Path | None, new: Path, mine: Path) -> tuple[Tree, Tree, Tree]:
    """The old and new defaults, lined up with the admin's files, and these."""
    if mine.is_file():
        if new.is_dir() or (old is not None and old.is_dir()):
            raise UsageError(f"{mine} is a file; the old and new defaults must then be files too")
        return FileTree(old, mine.name) if old else NoTree(), FileTree(new, mine.name), FileTree(mine)
    live = FolderTree(mine)
    return _vendor(old, live) if old else NoTree(), _vendor(new, live), live


def _vendor(source: Path, live: FolderTree) -> Tree:
    """A release from where its files line up with the admin's."""
    tree: Tree = FolderTree(source)
    if not source.is_dir():
        from emberkeep.fs.archives import open_archive  # only here: loading tarfile and zipfile takes its time

        tree = open_archive(source)
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
        _write_files(out, found.to_write)
        return
    with system.durable():
        folders = _copy(mine, out, {item.path for item in found.to_write})
        _write_files(out, [item for item in found.to_write if item.data is not None])
        for entry in folders:  # whose times what was written in them has changed
            metadata.set_folder_metadata(out / entry.path, metadata.Metadata(entry.mode, entry.mtime_ns))


def _write_file(found: Merge, mine: Path, out: Path) -> None:
    item = found.files[0]
    data = item.data if item.data is not None else mine.read_bytes()
    writing.write_whole(out, [data], mode=mine.stat().st_mode & 0o7777)


def _write_files(folder: Path, items: Sequence[FileMerge]) -> None:
    """Write merged files below ``folder``: all staged beside their targets first, then renamed together."""
    staged = writing.Stage()
    try:
        for item in items:
            if item.data is not None:
                staged.put(folder / item.path, [item.data], metadata.Metadata(item.mode))
        staged.commit()
    except BaseException:
        staged.abandon()
        raise
    for item in items:
        if item.outcome is Outcome.REMOVED:
            system.io.unlink(folder / item.path)


def _copy(mine: Path, out: Path, leave: set[str]) -> list[Entry]:
    """Copy a folder but for some files; its folders, deepest first."""
    tree = FolderTree(mine)
    entries = tree.entries()
    writing.make_folder(out)
    for path, entry in entries.items():
        if entry.kind is Kind.FOLDER:
            writing.make_folder(out / path)
        elif entry.kind is Kind.LINK:
            writing.place_link(out / path, entry.points_at, metadata.Metadata(mtime_ns=entry.mtime_ns))
        elif path not in leave:
            writing.write_whole(out / path, [read(tree, path)], mode=entry.mode, mtime_ns=entry.mtime_ns)
    return deepest_first(entry for entry in entries.values() if entry.kind is Kind.FOLDER)
