"""``emberkeep diff LEFT [RIGHT]``: compare any two of live, a snapshot, recorded defaults, a path."""

from __future__ import annotations

import argparse
import os
from collections.abc import Callable, Mapping, Sequence
from contextlib import ExitStack
from dataclasses import replace
from functools import cache
from pathlib import Path

from emberkeep.cli.context import add_only, answer, now, opened, the_keep, write_asked
from emberkeep.comparing.files import (
    Comparison,
    FileDifference,
    Rules,
    TreeDifference,
    compare_trees,
    find_text,
    holds_records,
)
from emberkeep.comparing.picking import condition
from emberkeep.comparing.terms import LARGEST_DETAIL, SMALL
from emberkeep.errors import EmberKeepError, UsageError
from emberkeep.fs.archives import is_archive, open_source
from emberkeep.fs.folder_tree import FolderTree
from emberkeep.fs.overlay import Overlay
from emberkeep.fs.trees import FileTree, Tree, stem
from emberkeep.inventory.roles import Roles, RoleTable, require_some, selection
from emberkeep.inventory.tiles import SECTOR, TileNames, seen_tiles
from emberkeep.keep.keep import Keep
from emberkeep.operations.record import defaults, snapshot
from emberkeep.show import differences as view
from emberkeep.show.console import Screen
from emberkeep.store.earlier import unwritten
from emberkeep.store.store import Store
from emberkeep.store.tree import SnapshotTree

EXAMPLES = (
    "emberkeep diff defaults:4.2            (your hand edits)",
    "emberkeep diff defaults:4.2 defaults:4.3",
    "emberkeep diff latest live --only economy --where kind=food",
    "emberkeep diff defaults:4.2 defaults:4.3 --find lantern      (is it there yet?)",
    "emberkeep diff latest --only world --map changed-tiles.png",
    "emberkeep diff latest --player Una",
    "emberkeep diff defaults:4.2 live --new defaults:4.3 --report beside.html    (old | mine | new)",
    "emberkeep diff old/stores.xml new/stores.xml",
)
EXITS = {
    0: "the two are alike; with --find: it was found",
    1: "they differ; with --find: it was not found",
    2: "a file could not be read in its own terms, or the call was wrong",
}


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """The two sides, and what of their differences is wanted."""
    parser.add_argument("left", metavar="LEFT", help="live, REF, defaults:VERSION, or a path")
    parser.add_argument("right", nargs="?", default="live", metavar="RIGHT", help="the same (default live)")
    parser.add_argument("--all", action="store_true", help="every file and every detail")
    parser.add_argument(
        "--where",
        action="append",
        default=[],
        metavar="TEST",
        help="only records with FIELD=VALUE, FIELD!=VALUE, FIELD<N, FIELD>N, or this in their path (repeatable)",
    )
    parser.add_argument(
        "--find", metavar="TEXT", help="where an item of this name stands on both sides, differing or not"
    )
    parser.add_argument("--player", metavar="WHO", help="only what is one player's: what 'restore --player' would do")
    parser.add_argument(
        "--rehash", action="store_true", help="read every file of live, also where nothing seems changed"
    )
    parser.add_argument("--totals", action="store_true", help="sum up numbers by kind in files of any size")
    parser.add_argument("--map", metavar="FILE.png", help="draw the changed tiles")
    parser.add_argument("--chart", metavar="FILE.png", help="draw the totals before and after")
    parser.add_argument(
        "--report", metavar="FILE.html", help="both sides beside each other, record by record, as a page"
    )
    parser.add_argument("--new", metavar="REF", help="with --report: a third side, as the vendor's new defaults")
    add_only(parser)


def run(args: argparse.Namespace, screen: Screen) -> int:
    """Exit code 1 when the two differ, 2 when a file could not be read in its own terms."""
    with ExitStack() as stack:
        sides = _Sides(args, stack)
        left, right = sides.open(args.left), sides.open(args.right)
        if isinstance(left, FileTree) and isinstance(right, FileTree):
            left = FileTree(left.path, right.path.name)
        if args.find is not None:
            return _find(args, screen, sides, left, right)
        staying: list[str] = []
        if args.player:
            left, staying = sides.with_player(args.player, left, right)
        wanted = sides.wanted(left, right)
        if not sides.databases_meant():
            require_some(args.only, wanted, (*left.entries(), *right.entries()), f"{left.label} and {right.label}")
        comparison = Comparison(
            wanted=wanted,
            rules=sides.rules(),
            times=sides.of_keep and not args.player and not (args.left + args.right).count("defaults:"),
            where=[condition(text) for text in args.where],
            role_of=sides.role_of(),
            who_is=sides.who_is(left, right),
            tiles=sides.tiles(left, right),
            summed=LARGEST_DETAIL if args.totals or args.chart else SMALL,
        )
        found = compare_trees(left, right, comparison)
        found = replace(found, files=(*found.files, *sides.databases(left, right)))
        if args.where and not found.files:
            _require_records(args.where, left, right, wanted, sides.rules())
        drawn = [*_draw(args, found), *_reported(args, sides, left, found, comparison)]
        code = 2 if found.faults else 1 if found.files else 0
        most = 0 if args.all else 40

        def text() -> None:
            view.difference(screen, found, most=most)
            for line in (*drawn, *staying):
                screen.line(line)

        result = {"difference": found, "by_role": found.by_role, "staying": staying}
        return answer(args, code, result, text)


def _require_records(
    where: Sequence[str], left: Tree, right: Tree, wanted: Callable[[str], bool], rules: Rules
) -> None:
    """UsageError where no record of either side is what ``--where`` asks for."""
    conditions = [condition(text) for text in where]
    for tree in (left, right):
        if any(holds_records(tree, path, conditions, rules) for path in filter(wanted, tree.entries())):
            return
    raise UsageError(
        f"no record of {left.label} or {right.label} is {' and '.join(map(repr, where))}",
        hint="FIELD=VALUE, FIELD<NUMBER, FIELD>NUMBER or a piece of a record's name is wanted",
    )


def _find(args: argparse.Namespace, screen: Screen, sides: _Sides, left: Tree, right: Tree) -> int:
    """Exit code 0 when it was found, 1 when not, as grep says it; 2 for what is broken."""
    if not args.find.strip():
        raise UsageError("--find wants a text to look for")
    found, faults = find_text(args.find, left, right, wanted=sides.wanted(left, right), rules=sides.rules())
    labels = (left.label, right.label)
    result = {"find": args.find, "found": found, "faults": faults}
    code = 2 if faults else 0 if found else 1
    return answer(args, code, result, lambda: view.finds(screen, args.find, labels, found, faults))


def _reported(
    args: argparse.Namespace, sides: _Sides, left: Tree, found: TreeDifference, comparison: Comparison
) -> list[str]:
    """Write the page that is asked for; what was written, in words."""
    if args.new and not args.report:
        raise UsageError("--new goes with --report")
    if not args.report:
        return []
    from emberkeep.comparing.beside import beside
    from emberkeep.show.files import beside as page  # only where one is asked for

    columns = [page.Column(found.left, "old"), page.Column(found.right, "mine")]
    third = None
    if args.new:
        new = sides.open(args.new)
        third = compare_trees(left, new, replace(comparison, wanted=sides.wanted(left, new), times=False))
        columns.append(page.Column(new.label, "new"))
    title = " | ".join(column.title for column in columns)
    text = page.html(beside(found, third), columns, title)
    write_asked(args.report, text.encode())
    return [f"Wrote {args.report}."]


def _draw(args: argparse.Namespace, found: TreeDifference) -> list[str]:
    """Draw what was asked for; what was drawn, or why not, in words."""
    notes = []
    title = f"{found.left} → {found.right}"
    if not args.map and not args.chart:
        return []
    from emberkeep.show.files import charts  # only where something is drawn

    sums = [each for item in found.files for each in item.terms.totals if each.changed]
    pictures: list[tuple[str | None, Sequence[object], str, Callable[[], bytes]]] = [
        (args.map, found.maps, "changed tiles", lambda: charts.tile_maps(found.maps, title)),
        (args.chart, sums, "totals", lambda: charts.totals(sums, title)),
    ]
    for wanted, there, name, make in pictures:
        if not wanted:
            continue
        if not there:
            notes.append(f"No {name} to draw: {wanted} was not written.")
            continue
        write_asked(wanted, make())
        notes.append(f"Drew {name} into {wanted}.")
    return notes


class _Sides:
    """Opens the two sides; the keep only when one of them needs it."""

    def __init__(self, args: argparse.Namespace, stack: ExitStack) -> None:
        self.args = args
        self.stack = stack
        self._keep: Keep | None = None
        self._store: Store | None = None
        self.of_keep = True

    def keep(self) -> tuple[Keep, Store]:
        if self._keep is None or self._store is None:
            self._keep = the_keep(self.args)
            self._store = self.stack.enter_context(opened(self._keep))
        return self._keep, self._store

    def open(self, text: str) -> Tree:
        path = Path(os.path.abspath(text))
        if text == "live":
            return self._live()
        if text.startswith("defaults:"):
            return defaults.tree_of(self.keep()[1], text.removeprefix("defaults:"))
        if os.sep in text or (path.exists() and not text.isdigit()):
            self.of_keep = False
            if not path.exists():
                raise UsageError(f"{text} is not there")
            return FileTree(path) if path.is_file() and not is_archive(path) else open_source(path, partly=True)
        keep, store = self.keep()
        return snapshot.find(store, keep, text, now())

    def _live(self) -> FolderTree:
        """The server folder; what nobody has written to since the last snapshot is known without reading."""
        keep, store = self.keep()
        live = FolderTree(keep.require_server(), "live")
        if not self.args.rehash:
            live.digests = {path: row.digest for path, row in unwritten(store, live).items()}
        return live

    def databases_meant(self) -> bool:
        """Whether ``--only`` means databases of servers."""
        try:
            databases = self.keep()[0].config.databases
        except UsageError:
            return False
        return bool(databases.served) and any(text.split("/")[0] == "databases" for text in self.args.only)

    def databases(self, left: Tree, right: Tree) -> list[FileDifference]:
        """How the databases of servers differ that both sides know of."""
        sides = (self.args.left, self.args.right)
        if self._keep is None or self.args.where or any(text.startswith("defaults:") for text in sides):
            return []
        if not self.of_keep or not self._keep.config.databases.served:
            return []
        from emberkeep.operations.record import databases  # only where there are some

        return databases.differences(self._keep, left, right, self.args.only)

    def wanted(self, left: Tree, right: Tree) -> Callable[[str], bool]:
        """What ``--only`` says, within what both sides can tell of: a snapshot of a part only that part.

        Against the vendor's defaults, and without ``--only``: what the vendor ships.
        """
        tests: list[Callable[[str], bool]] = [_scope(tree) for tree in (left, right)]
        if self.args.only:
            tests.append(selection(self.args.only, self._roles()))
        vendor = [tree for tree in (left, right) if tree.label.startswith("defaults:")]
        if len(vendor) == 1 and not self.args.only:
            tests.append(lambda path: path in vendor[0].entries())
        return lambda path: all(test(path) for test in tests)

    def _roles(self) -> RoleTable:
        """The keep's roles; none where only paths are compared and no keep is near."""
        try:
            return self.keep()[0].config.roles
        except UsageError:
            return ()

    def role_of(self) -> Callable[[str], str]:
        table = self._roles()
        return Roles(table).of if table else lambda path: ""

    def with_player(self, text: str, left: Tree, right: Tree) -> tuple[Tree, list[str]]:
        """``right`` with what is one player's as ``left`` has it; and what cannot be taken apart, a line each."""
        keep, _ = self.keep()
        from emberkeep.operations.flows import person
        from emberkeep.wiping import persons  # only where somebody is asked for

        planned = Overlay(right, 0, left.label)
        who = person.who(keep, text, left, right)
        found = persons.put_back(planned, left, Roles(keep.config.roles), who)
        return planned, found.staying

    def who_is(self, left: Tree, right: Tree) -> Callable[[str], str]:
        """Whose file a player's is, by the lists of people on both sides."""
        role_of = self.role_of()

        @cache
        def names() -> dict[str, str]:  # read where a player's file is named at all
            from emberkeep.detection.people import listed_people

            found: dict[str, str] = {}
            for tree in (left, right):
                listed = listed_people(tree, (path for path in tree.entries() if role_of(path) == "access"))
                found.update({ident: name for ident, name in listed.items() if name})
            return found

        return lambda path: names().get(stem(path), "") if role_of(path) == "players" else ""

    def tiles(self, left: Tree, right: Tree) -> TileNames | None:
        """How tiles are named: told by the keep, else seen in the names."""
        try:
            world = self.keep()[0].config.world
        except UsageError:
            return seen_tiles([*left.entries().values(), *right.entries().values()])
        return TileNames(world.tiles, world.sector or SECTOR) if world.tiles else None

    def rules(self) -> Callable[[str], Mapping[str, tuple[str, ...]]]:
        if self._keep is None:
            try:
                self._keep = the_keep(self.args)
            except EmberKeepError:
                return lambda path: {}
        return self._keep.config.record_rules


def _scope(tree: Tree) -> Callable[[str], bool]:
    about = tree.manifest.about if isinstance(tree, SnapshotTree) else None
    return selection(about.scope, about.roles, about.tiles) if about and about.scope else lambda path: True
