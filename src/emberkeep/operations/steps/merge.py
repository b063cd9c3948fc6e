"""Carrying new defaults into the live files: the merge of a keep, and writing what a merge decided."""

from __future__ import annotations

from collections.abc import Callable, Collection, Mapping, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from types import MappingProxyType

from emberkeep.comparing.fit import LEAST_SHARE
from emberkeep.databases.access import ROLE
from emberkeep.documents import registry
from emberkeep.errors import EmberKeepError, Place, Refused, UnreadableInput, UsageError
from emberkeep.fs.folder_tree import FolderTree
from emberkeep.fs.overlay import Overlay
from emberkeep.fs.trees import FILE, NoTree, Tree
from emberkeep.inventory.roles import require_some, selection
from emberkeep.inventory.versions import ordering
from emberkeep.keep.config import Config
from emberkeep.keep.keep import Keep
from emberkeep.merging import answers as answer_files
from emberkeep.merging import orders
from emberkeep.merging.answers import GIVEN, REMEMBERED, Answer, Answers
from emberkeep.merging.merge import merge_file, merge_trees
from emberkeep.merging.orders import Order
from emberkeep.merging.results import Breach, FileMerge, Merge, Outcome, Resolver
from emberkeep.merging.rules import in_turn, resolve_by
from emberkeep.operations.engine.step import FileStep, Notes, Plan, RunContext, Step
from emberkeep.operations.record import defaults
from emberkeep.operations.steps import questions
from emberkeep.store.store import Store

NOTHING: Mapping[str, str | None] = MappingProxyType({})


def load_answers(keep: Keep, given: Path | None) -> Answers:
    """Answers from a file and from the keep's memory; those of the file win."""
    return answer_files.gathered(given, keep.answers_file)


@dataclass(frozen=True)
class Request:
    """What a merge in a keep is asked to do. ``old``: the release the live files began from, None to merge without
    one; ``only``: selectors of files; ``checked``: whether the learned checks are made."""

    old: str | None
    new: str
    only: tuple[str, ...] = ()
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
    base = old or _merged_last(keep, known) or _best(keep, store, live)
    if ordering(base) > ordering(target):
        raise Refused(
            f"the live files come from {base}, which is newer than {target}; merging only goes forward",
            hint="to go back, restore a snapshot taken before",
        )
    return base, target


def began_from(keep: Keep, store: Store, live: FolderTree) -> str | None:
    """The recorded release that the live files began from; None, so that they are merged without one, where none is
    recorded. Refused where none fits."""
    return _best(keep, store, live) if defaults.versions(store) else None


def _merged_last(keep: Keep, known: Sequence[str]) -> str | None:
    """The release that the last merge brought in, while questions of it may wait: no guess is needed then."""
    waits = questions.pending(keep)
    return waits[-1].new if waits and waits[-1].new in known else None


def _best(keep: Keep, store: Store, live: FolderTree) -> str:
    best = defaults.fits(keep, store, live)[0]
    if best.files and best.share < LEAST_SHARE:
        raise Refused(
            f"no recorded release fits the live files: {best.version} fits best, by {best.share:.0%}",
            hint=f"record the release they began from; or --from {best.version} all the same, or --two-way without any",
        )
    return best.version


def merge_keep(
    keep: Keep,
    store: Store,
    wanted: Request,
    answers: Answers,
    live: Tree | None = None,
    after: Tree | None = None,
    of_tables: bool = True,
) -> Merge:
    """Merge the defaults of one release into the live files that began from those of another. Writes nothing.

    ``live``: what stands for the live files, where that is not the server folder; ``after``: the new release's files,
    where they are not recorded yet; ``of_tables``: whether contents of tables are merged too.
    """
    if live is None:
        live = FolderTree(keep.require_server(), "live")
    config = keep.config
    after = after or defaults.tree_of(store, wanted.new)
    before = defaults.tree_of(store, wanted.old) if wanted.old else NoTree()
    selected = selection(wanted.only, config.roles, config.world.tiles) if wanted.only else None
    paths = defaults.merged_paths(keep, before, after)
    chosen = [path for path in paths if selected is None or selected(path)]
    if selected is not None and not (of_tables and _tables_meant(wanted.only, config)):
        require_some(wanted.only, selected, paths, "what is merged")
    resolve, orders = in_turn(answers.resolve, resolve_by(config.rules)), load_orders(keep.orders_file)
    with registry.read_once():  # also where this is called by no command
        merged = merge_trees(before, after, live, chosen, rules=config.record_rules, resolve=resolve, orders=orders)
        merged = _with_pending(keep, store, merged, (before, live, after), resolve, orders, selected)
        breaches = check(keep, store, merged, live, wanted.new, after) if wanted.checked else ()
    passed = defaults.passed_over(keep, before, after, live)
    merged = replace(merged, passed=tuple(one for one in passed if selected is None or selected(one[0])))
    if of_tables:
        tables = _tables(keep, wanted, answers, before, after, live)
        idle = tuple(name for name in merged.idle if not any(name in item.met for item in tables))
        merged = replace(merged, files=(*merged.files, *tables), idle=idle)
    return replace(answers.completed(merged), breaches=breaches)


def _with_pending(
    keep: Keep,
    store: Store,
    merged: Merge,
    sides: tuple[Tree, Tree, Tree],
    resolve: Resolver,
    orders: Sequence[Order],
    selected: Callable[[str], bool] | None,
) -> Merge:
    """A merge with the questions that earlier ones left, and what answers to these make of the files."""
    waits = questions.pending(keep)
    if not waits:
        return merged
    before, live, after = sides
    again = questions.Again(keep, store, live, resolve, orders).files(waits, selected or (lambda path: True))

    def one(path: str, mine: bytes) -> FileMerge:
        old, new = questions.bytes_of(before, path), questions.bytes_of(after, path)
        return merge_file(path, old, mine, new, rules=keep.config.record_rules(path), resolve=resolve, orders=orders)

    return questions.with_pending(merged, again, one)


def _tables_meant(only: Sequence[str], config: Config) -> bool:
    """Whether selectors mean a database of which tables are merged."""
    return any(one.defaults and not {ROLE, f"{ROLE}/{one.name}"}.isdisjoint(only) for one in config.databases.all)


def _tables(keep: Keep, wanted: Request, answers: Answers, before: Tree, after: Tree, live: Tree) -> list[FileMerge]:
    if not any(one.defaults for one in keep.config.databases.all):
        return []
    from emberkeep.operations.steps import tables  # only where there are some

    resolve = in_turn(answers.resolve, resolve_by(keep.config.rules))
    ways = tables.Ways(resolve, load_orders(keep.orders_file))
    return tables.merge_tables(keep, before, after, live, ways, wanted.only)


def tables_step(
    keep: Keep, wanted: Request, given: Sequence[Answer], known: Merge | None = None, after: Tree | None = None
) -> list[Step]:
    """The step that merges the contents of tables; none where keep.toml names none. ``after``: as for MergeStep."""
    if not any(one.defaults for one in keep.config.databases.all):
        return []
    from emberkeep.operations.steps import tables  # only where there are some

    def merged(context: RunContext) -> Merge:
        answers = answers_of(context.keep, given)
        before = defaults.tree_of(context.store, wanted.old) if wanted.old else NoTree()
        new = after or defaults.tree_of(context.store, wanted.new)
        found = _tables(context.keep, wanted, answers, before, new, context.folder)
        return Merge(before.label, new.label, tuple(found))

    return [tables.TablesStep(wanted.new, wanted.only, merged, known)]


def check(keep: Keep, store: Store, merged: Merge, live: Tree, new: str, after: Tree) -> tuple[Breach, ...]:
    """Where the files of a merge break what the recorded releases teach, and ``new``, which may not be recorded yet:
    its files are those of ``after``."""
    from emberkeep.merging.inspection import inspect  # only where checks are made

    released = {**{version: defaults.tree_of(store, version) for version in defaults.versions(store)}, new: after}
    newest = [released[version] for version in sorted(released, key=ordering)[-MOST_RELEASES:]]
    return inspect(merged, newest, live, after, keep.config.record_rules, keep.config.silenced)


MOST_RELEASES = 4
"""Releases that checks are learned from, the newest ones."""


def load_orders(path: Path) -> list[Order]:
    """The standing orders in a file; none where there is no file."""
    return orders.read(path) if path.exists() else []


def into(folder: Overlay, merged: Merge) -> None:
    """Put the result of a merge into a planned folder. What the vendor dropped leaves no empty folder behind: some
    engines read whatever folders are there."""
    gone = [item.path for item in merged.to_write if item.data is None and item.outcome is Outcome.REMOVED]
    for item in merged.to_write:
        if item.data is not None:
            folder.write(item.path, item.data, item.mode)
    for path in gone:
        folder.remove(path)
    folder.remove_emptied(gone, lambda path: True)


class Once:
    """A merge, worked out once from what is the same: a run plans all its steps before anybody is told, and each again
    when it comes to it, with the server down."""

    def __init__(self) -> None:
        self._last: tuple[object, Merge] | None = None

    def of(self, given: object, work: Callable[[], Merge]) -> Merge:
        """The merge that ``work`` makes; ``given``: all that it goes by."""
        if self._last is None or self._last[0] != given:
            self._last = given, work()
        return self._last[1]


def stands(trees: Sequence[Tree], paths: Collection[str]) -> list[object]:
    """What stands in some trees at some paths, as far as a merge goes by it: kind, mode and contents, by digest."""
    return [_stands(tree, path) for tree in trees for path in paths]


def _stands(tree: Tree, path: str) -> object:
    entry = tree.entries().get(path)
    if entry is None or entry.kind is not FILE:
        return entry
    try:
        return entry.mode, tree.digest(path)
    except EmberKeepError as error:
        return entry.mode, str(error)


def _given(keep: Keep, store: Store, wanted: Request, answers: Answers, live: Tree, after: Tree) -> object:
    """All that a merge in a keep goes by and that may change while a run is under way."""
    before = defaults.tree_of(store, wanted.old) if wanted.old else NoTree()
    waits = questions.pending(keep)
    paths = dict.fromkeys([*defaults.merged_paths(keep, before, after), *(one.asked.file for one in waits)])
    return (
        stands((before, live, after), paths),
        defaults.passed_over(keep, before, after, live),
        {*defaults.versions(store), wanted.new},
        waits,
        answers.given,
        load_orders(keep.orders_file),
    )


def waiting(keep: Keep, store: Store, live: Tree) -> list[questions.Pending]:
    """The questions of earlier merges that are still open: neither answered nor void."""
    waits = questions.pending(keep)
    if not waits:
        return []
    again = questions.Again(keep, store, live, answers_of(keep, ()).resolve, load_orders(keep.orders_file))
    names = {(q.file, q.record, q.field) for file in again.files(waits).values() for q in file.questions if q.open}
    return [one for one in waits if one.asked.name in names]


class MergeStep(FileStep):
    """Merge the defaults of a release into the live files. ``based_on``: what the files were when the merge was
    looked at, by path, where that must still be so; ``known``: its result; ``after``: the new release's files, where
    they may not be recorded yet."""

    def __init__(
        self,
        wanted: Request,
        answers: Sequence[Answer],
        based_on: Mapping[str, str | None] = NOTHING,
        known: Merge | None = None,
        after: Tree | None = None,
    ) -> None:
        self.wanted, self.answers, self.based_on, self.known = wanted, answers, based_on, known
        self.after, self._once = after, Once()
        title = f"merge the defaults of {wanted.new} into the files edited by hand"
        super().__init__("merge", title, self._merge)

    def _merge(self, context: RunContext) -> Notes:
        folder = context.folder
        check_unchanged(folder, self.based_on)
        answers = answers_of(context.keep, self.answers)
        merged = self.known or self._worked_out(context, answers)
        if merged.faults:
            raise UnreadableInput.gathered(merged.faults)
        context.findings.merge = merged
        into(context.folder, merged)
        return _notes(merged)

    def _worked_out(self, context: RunContext, answers: Answers) -> Merge:
        keep, store, live = context.keep, context.store, context.folder
        after = self.after or defaults.tree_of(store, self.wanted.new)
        return self._once.of(
            _given(keep, store, self.wanted, answers, live, after),
            lambda: merge_keep(keep, store, self.wanted, answers, live, after, of_tables=False),
        )

    def act(self, context: RunContext, plan: Plan) -> None:
        """Write the merged files, and note the questions that stay open."""
        super().act(context, plan)
        merged = context.findings.merge
        assert merged is not None
        asked = questions.noted(merged, self.wanted.old, self.wanted.new, questions.pending(context.keep))
        context.note(**{questions.OPEN: asked})
        remember(context.keep, merged)


def check_unchanged(tree: Tree, based_on: Mapping[str, str | None]) -> None:
    """Refused where a file is not what it was when the merge was looked at."""
    for path, digest in based_on.items():
        if (tree.digest(path) if path in tree.entries() else None) != digest:
            raise Refused("this file changed while the merge was worked out", place=Place(path), hint="merge again")


def _notes(merged: Merge) -> Notes:
    taken = sum(len(item.taken) for item in merged.files)
    kept = sum(len(item.kept) for item in merged.files)
    warnings = [f"{len(merged.open)} questions wait for you; until then yours stay"] if merged.open else []
    warnings += [f"{len(merged.breaches)} learned checks are broken; see 'emberkeep merge'"] if merged.breaches else []
    left = [merged.left_alone] if merged.passed else []
    return Notes([f"{taken} of the vendor's changes taken, {kept} of your edits kept", *left], warnings)


def answers_of(keep: Keep, given: Sequence[Answer]) -> Answers:
    """Answers given for this run, and those of the keep's memory."""
    known = answer_files.known(keep.answers_file)
    return Answers.of((GIVEN, list(given)), (REMEMBERED, known))


def remember(keep: Keep, merge: Merge) -> None:
    """Have the keep remember the answers that a merge was given."""
    answer_files.remember(keep.answers_file, merge.questions)
