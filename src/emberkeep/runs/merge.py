"""Carrying new defaults into the live files: the merge of a keep, and writing what a merge decided."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from datetime import datetime
from pathlib import Path

from emberkeep import files
from emberkeep.comparing.fit import LEAST_SHARE
from emberkeep.errors import Place, Refused, RunFailed, UnreadableInput, UsageError
from emberkeep.keep import Keep
from emberkeep.merging import answers as answer_files
from emberkeep.merging import orders
from emberkeep.merging.answers import GIVEN, Answer, Answers
from emberkeep.merging.merge import merge_trees
from emberkeep.merging.orders import Order
from emberkeep.merging.results import FileMerge, Merge, Outcome, Question
from emberkeep.merging.rules import in_turn, settle_by
from emberkeep.runs import defaults, restore, snapshot
from emberkeep.runs.journal import DONE, MERGE, TAKEN_BACK, Journal, Run
from emberkeep.servers.process import refuse_if_running
from emberkeep.servers.versions import ordering
from emberkeep.store.intake import Progress, silent
from emberkeep.store.manifest import About
from emberkeep.store.store import SnapshotTree, Store
from emberkeep.trees import FolderTree, NoTree

REMEMBERED = "remembered"
WHY = MERGE


def load_answers(keep: Keep | None, given: Path | None, *, new: bool = False) -> Answers:
    """Answers from a file and from the keep's memory; those of the file win. ``new``: the file need not be there."""
    told = answer_files.read(given) if given and (given.exists() or not new) else []
    known = answer_files.read(keep.answers_file) if keep and keep.answers_file.exists() else []
    return Answers.of((GIVEN, told), (REMEMBERED, known))


@dataclass(frozen=True)
class Request:
    """What a merge in a keep is asked to do. ``old``: the release the live files began from, None to merge without
    one; ``only``: which files; ``checked``: whether the learned checks are made."""

    old: str | None
    new: str
    only: Callable[[str], bool] | None = None
    checked: bool = True


def choose_versions(
    keep: Keep, store: Store, live: FolderTree, old: str | None, new: str | None, *, two_way: bool = False
) -> tuple[str | None, str]:
    """From which release to which: the best fitting one, and the newest, where they are not told.

    Refused where none fits, unless told. ``two_way``: from none.
    """
    known = defaults.versions(store)
    if not known:
        raise UsageError(
            "no defaults are recorded in this keep",
            hint="'emberkeep defaults record VERSION SOURCE' records a release",
        )
    target = new or known[-1]
    if two_way:
        return None, target
    base = old or _best(keep, store, live)
    if ordering(base) > ordering(target):
        raise Refused(
            f"the live files come from {base}, which is newer than {target}; merging only goes forward",
            hint="to go back, restore a snapshot taken before",
        )
    return base, target


def _best(keep: Keep, store: Store, live: FolderTree) -> str:
    best = defaults.fits(keep, store, live)[0]
    if best.files and best.share < LEAST_SHARE:
        raise Refused(
            f"no recorded release fits the live files: {best.version} fits best, by {best.share:.0%}",
            hint=f"record the release they began from; or --from {best.version} all the same, or --two-way without any",
        )
    return best.version


def merge_keep(keep: Keep, store: Store, wanted: Request, answers: Answers) -> Merge:
    """Merge the defaults of one release into the live files that began from those of another. Writes nothing."""
    live = FolderTree(keep.require_server(), "live")
    after = defaults.tree_of(store, wanted.new)
    before = defaults.tree_of(store, wanted.old) if wanted.old else NoTree()
    paths = defaults.merged_paths(keep, before, after)
    chosen = [path for path in paths if wanted.only is None or wanted.only(path)]
    config = keep.config
    merged = merge_trees(
        before,
        after,
        live,
        chosen,
        rules=config.record_rules,
        settle=in_turn(answers.settle, settle_by(config.rules)),
        orders=load_orders(keep.orders_file),
    )
    merged = answers.completed(merged)
    if not wanted.checked:
        return merged
    from emberkeep.merging.inspection import inspect  # only where checks are made

    releases = [defaults.tree_of(store, version) for version in defaults.versions(store)[-MOST_RELEASES:]]
    found = inspect(merged, releases, live, after, config.record_rules, config.silenced)
    return replace(merged, breaches=found)


MOST_RELEASES = 4
"""Releases that checks are learned from, the newest ones."""


def load_orders(path: Path) -> list[Order]:
    """The standing orders in a file; none where there is no file."""
    return orders.read(path) if path.exists() else []


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
    remember(keep.answers_file, merge.questions)


def remember(path: Path, questions: Sequence[Question]) -> None:
    """Add the answers of ``questions`` to a file of answers, which need not be there yet."""
    known: list[Answer] = answer_files.read(path) if path.exists() else []
    answer_files.remember(path, known, questions)


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
