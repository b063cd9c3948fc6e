"""Carrying new defaults into the live files: the merge of a keep, and writing what a merge decided."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from datetime import datetime
from pathlib import Path

from emberkeep import files
from emberkeep.errors import Place, Refused, RunFailed, UnreadableInput, UsageError
from emberkeep.keep import Keep
from emberkeep.merging import answers as answer_files
from emberkeep.merging.answers import Answer, Answers
from emberkeep.merging.merge import merge_trees
from emberkeep.merging.results import FileMerge, Merge, Outcome
from emberkeep.runs import defaults, restore, snapshot
from emberkeep.runs.journal import DONE, MERGE, TAKEN_BACK, Journal, Run
from emberkeep.servers.process import refuse_if_running
from emberkeep.servers.versions import ordering
from emberkeep.store.intake import Progress, silent
from emberkeep.store.manifest import About
from emberkeep.store.store import SnapshotTree, Store
from emberkeep.trees import FolderTree

REMEMBERED = "remembered"
GIVEN = "answers file"
WHY = MERGE


def load_answers(keep: Keep | None, given: Path | None) -> Answers:
    """Answers from a file and from the keep's memory; those of the file win."""
    told = answer_files.read(given) if given else []
    known = answer_files.read(keep.answers_file) if keep and keep.answers_file.exists() else []
    return Answers.of((GIVEN, told), (REMEMBERED, known))


def choose_versions(keep: Keep, store: Store, live: FolderTree, old: str | None, new: str | None) -> tuple[str, str]:
    """From which release to which: the best fitting one, and the newest, where they are not told."""
    known = defaults.versions(store)
    if not known:
        raise UsageError(
            "no defaults are recorded in this keep",
            hint="'emberkeep defaults record VERSION SOURCE' records a release",
        )
    target = new or known[-1]
    base = old or defaults.fits(keep, store, live)[0].version
    if ordering(base) > ordering(target):
        raise Refused(
            f"the live files come from {base}, which is newer than {target}; merging only goes forward",
            hint="to go back, restore a snapshot taken before",
        )
    return base, target


def merge_keep(
    keep: Keep,
    store: Store,
    old: str,
    new: str,
    answers: Answers,
    wanted: Callable[[str], bool] | None = None,
) -> Merge:
    """Merge the defaults of ``new`` into the live files that began from those of ``old``. Writes nothing."""
    live = FolderTree(keep.require_server(), "live")
    before, after = defaults.tree_of(store, old), defaults.tree_of(store, new)
    paths = defaults.merged_paths(keep, before, after)
    chosen = [path for path in paths if wanted is None or wanted(path)]
    merged = merge_trees(before, after, live, chosen, rules=keep.config.record_rules, settle=answers.settle)
    return Merge(merged.old, merged.new, merged.files, answers.unused(GIVEN))


def write_merge(keep: Keep, store: Store, merge: Merge, now: datetime, progress: Progress = silent) -> About | None:
    """Write a merge into the live files, after a snapshot; returns that snapshot, None when there is nothing to write.

    Refused when a file changed since the merge was worked out or the server runs. RunFailed when the system refuses
    half-way: the files are then put back from the snapshot.
    """
    if merge.faults:
        raise UnreadableInput.gathered(merge.faults)
    if not merge.to_write:
        _remember(keep, merge)
        return None
    server = keep.require_server()
    journal = Journal(keep.folder)
    journal.refuse_if_waiting()
    refuse_if_running(server, "it would overwrite edited settings when it exits")
    note = f"before merging {merge.new.removeprefix('defaults:')}"
    before = snapshot.take(keep, now, note=note, why=WHY, progress=progress)
    tree = SnapshotTree(store, store.manifest(before.about.label), f"snapshot {before.about.label}")
    _check_unchanged(merge, tree)
    paths = tuple(item.path for item in merge.to_write)
    run = journal.begin(Run(0, WHY, now, before.about.label, paths=paths))
    try:
        write_files(server, merge.to_write)
    except OSError as error:
        left = _roll_back(server, tree, merge)
        if not left:
            journal.end(run, TAKEN_BACK, now)
        done = "NOT all files could be put back" if left else "all files were put back"
        raise RunFailed(
            f"the merge could not be written ({error.strerror}); {done}",
            place=Place(str(error.filename or server)),
            hint="mend that, then 'emberkeep undo --go'" if left else "",
        ) from error
    except KeyboardInterrupt:
        if not _roll_back(server, tree, merge):
            journal.end(run, TAKEN_BACK, now)
        raise
    journal.end(run, DONE, now)
    _remember(keep, merge)
    return before.about


def _remember(keep: Keep, merge: Merge) -> None:
    known: list[Answer] = answer_files.read(keep.answers_file) if keep.answers_file.exists() else []
    answer_files.remember(keep.answers_file, known, merge.questions)


def _check_unchanged(merge: Merge, tree: SnapshotTree) -> None:
    for item in merge.to_write:
        held = tree.manifest.held.get(item.path)
        if (held.digest if held else None) != item.based_on:
            raise Refused(
                "this file changed while the merge was worked out", place=Place(item.path), hint="merge again"
            )


def _roll_back(server: Path, tree: SnapshotTree, merge: Merge) -> bool:
    """Put back what was written; True when something could not be."""
    changed = {item.path for item in merge.to_write}
    plan = restore.plan(tree, server, lambda path: path in changed)
    try:
        return bool(restore.apply(plan, tree))
    except OSError:
        return True


def write_files(folder: Path, items: Sequence[FileMerge]) -> None:
    """Write merged files below ``folder``: all staged beside their targets first, then renamed together."""
    staged = files.Stage()
    try:
        for item in items:
            if item.data is not None:
                staged.put(folder / item.path, [item.data], files.Facts(item.mode))
        staged.commit()
    except BaseException:
        staged.abandon()
        raise
    for item in items:
        if item.outcome is Outcome.REMOVED:
            files.io.unlink(folder / item.path)
