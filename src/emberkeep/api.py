"""The library's face: a keep, and what can be done with it. See docs/library.md.

Each call opens the store for itself and lets it go again. Nothing is printed and nothing asked; what goes wrong is one
of the errors of ``emberkeep.errors``, each with a hint and an exit code. Heavy parts are loaded when first used.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from contextlib import closing, contextmanager
from datetime import UTC, datetime
from pathlib import Path
from typing import TYPE_CHECKING, NamedTuple

from emberkeep.callbacks import Progress, no_op
from emberkeep.keep import keep as keeps
from emberkeep.store.shared import store_of
from emberkeep.store.store import Store

if TYPE_CHECKING:
    from emberkeep.comparing.files import TreeDifference
    from emberkeep.fs.trees import Tree
    from emberkeep.merging.results import Merge
    from emberkeep.operations.engine.restore_plan import RestorePlan
    from emberkeep.operations.record.defaults import Recorded
    from emberkeep.operations.record.facts import Run
    from emberkeep.store.manifest import About
    from emberkeep.store.verify import Verification
    from emberkeep.survey.survey import Survey

LIVE = "live"
"""The server folder as it is, where a snapshot could be named too."""


def now() -> datetime:
    """The time, in UTC."""
    return datetime.now(UTC)


class History(NamedTuple):
    """What the keep remembers: snapshots and runs, oldest first."""

    snapshots: tuple[About, ...]
    runs: tuple[Run, ...]


class Keep:
    """A keep: all that is known of one server, in a folder beside it.

    ``clock``: tells the time, with its zone; ``progress``: hears how many bytes of how many are done.
    """

    def __init__(self, folder: Path, *, clock: Callable[[], datetime] = now, progress: Progress = no_op) -> None:
        self._keep = keeps.Keep(folder)
        self._clock, self._progress = clock, progress

    @classmethod
    def open(cls, folder: str | Path, *, clock: Callable[[], datetime] = now, progress: Progress = no_op) -> Keep:
        """The keep in a folder. UnreadableInput, with every fault, where its keep.toml is not one."""
        return cls(Path(folder).absolute(), clock=clock, progress=progress)

    @classmethod
    def adopt(cls, server: str | Path, folder: str | Path | None = None, *, zone: str = "UTC") -> Keep:
        """Look a server folder over and make a keep for it, beside it unless ``folder`` says where. Refused where there
        is one. What could only be guessed stands in :attr:`questions`."""
        from emberkeep.operations.upkeep.adoption import adopt_server

        server = Path(server).absolute()
        place = Path(folder).absolute() if folder is not None else keeps.beside(server)
        adopt_server(server, place, zone)
        return cls.open(place)

    @property
    def folder(self) -> Path:
        """Where the keep lies."""
        return self._keep.folder

    @property
    def server(self) -> Path:
        """The server folder."""
        return self._keep.server

    @property
    def questions(self) -> tuple[str, ...]:
        """What adopting could only guess, until somebody confirms it in keep.toml."""
        return self._keep.config.questions

    @contextmanager
    def _store(self) -> Iterator[Store]:
        with closing(store_of(self._keep)) as store:
            yield store

    def _tree(self, store: Store, ref: str) -> Tree:
        from emberkeep.fs.folder_tree import FolderTree
        from emberkeep.operations.record import snapshot

        if ref == LIVE:
            return FolderTree(self._keep.require_server(), LIVE)
        return snapshot.find(store, self._keep, ref, self._clock())

    def survey(self) -> Survey:
        """What stands where: versions, files by role, hand edits, what wants attention. Asks no address."""
        from emberkeep.fs.folder_tree import FolderTree
        from emberkeep.operations.record.known import releases_known
        from emberkeep.survey.survey import survey

        with self._store() as store:
            live = FolderTree(self._keep.require_server(), LIVE)
            return survey(self._keep, live, releases_known(self._keep, store, live)[0])

    def history(self) -> History:
        """The snapshots and the runs."""
        from emberkeep.operations.record.journal import Journal
        from emberkeep.operations.record.snapshot import snapshots

        with self._store() as store:
            return History(tuple(snapshots(store)[0]), tuple(Journal(self.folder).runs()))

    def snapshot(self, note: str = "", *, only: Sequence[str] = (), pin: bool = False) -> About:
        """Take a snapshot of the server folder, or of what ``only`` selects of it (roles, paths, ranges of tiles).
        Refused while the server runs and its console cannot have it hold its writes."""
        from emberkeep.operations.record import snapshot

        taken = snapshot.take(
            self._keep, self._clock(), snapshot.SnapshotRequest(note=note, only=only, pin=pin), progress=self._progress
        )
        return taken.about

    def restore(self, ref: str, *, only: Sequence[str] = (), into: str | Path | None = None) -> RestorePlan:
        """Put a snapshot back, or what ``only`` selects of it: over the server folder, as a run that :meth:`undo` takes
        back, or into a new folder. Returns what was done. Refused while the server runs."""
        from emberkeep.errors import Damage
        from emberkeep.operations.engine import apply, fitness, restore_plan
        from emberkeep.operations.flows import restore
        from emberkeep.operations.record import snapshot

        with self._store() as store:
            tree = snapshot.find(store, self._keep, ref, self._clock())
            if into is None:
                found = restore.planned(self._keep, store, tree, tuple(only))
                if found.nothing:
                    return found.plan
                return restore.put_back(self._keep, store, found, tuple(only), self._clock, self._progress).plan
            target = Path(into).absolute()
            fitness.check_target(target, self.server)
            plan = restore_plan.plan(tree, target, restore_plan.scope_of(tree.manifest, only, self._keep.config))
            fitness.check_names(plan, tree)
            fitness.check_room(plan)
            faults = apply.elsewhere(plan, tree, self._progress)
            if faults:
                raise Damage.gathered(tuple(faults))
            return plan

    def diff(self, left: str = "latest", right: str = LIVE, *, only: Sequence[str] = ()) -> TreeDifference:
        """How two states differ, each file in its own terms. ``left`` and ``right``: a snapshot (number, note, age,
        ``latest``) or ``live``."""
        from emberkeep.comparing.files import Comparison, compare_trees
        from emberkeep.inventory.roles import Roles, selection
        from emberkeep.inventory.tiles import TileNames

        config = self._keep.config
        wanted = selection(only, config.roles, config.world.tiles) if only else None
        tiles = TileNames(config.world.tiles) if config.world.tiles else None
        with self._store() as store:
            return compare_trees(
                self._tree(store, left),
                self._tree(store, right),
                Comparison(wanted=wanted, rules=config.record_rules, role_of=Roles(config.roles).of, tiles=tiles),
            )

    def record(self, version: str, source: str | Path) -> Recorded:
        """Record the vendor's untouched files of a release, from a folder or an archive, for :meth:`merge`."""
        from emberkeep.operations.record import defaults

        with self._store() as store:
            return defaults.record(self._keep, store, version, Path(source), self._clock(), self._progress)

    def merge(
        self, new: str | None = None, old: str | None = None, *, answers: str | Path | None = None, go: bool = False
    ) -> Merge:
        """Carry the defaults of release ``new`` (the newest) into the files edited by hand, which began from ``old``
        (the one that fits best). Writes only with ``go``, as a run that :meth:`undo` takes back; where a question stays
        open, the admin's value does. ``answers``: a file of answered questions."""
        from emberkeep.fs.folder_tree import FolderTree
        from emberkeep.operations.flows.merge import write_merge
        from emberkeep.operations.steps import merge as merging

        given = Path(answers) if answers is not None else None
        with self._store() as store:
            live = FolderTree(self._keep.require_server(), LIVE)
            base, target = merging.choose_versions(self._keep, store, live, old, new)
            wanted = merging.Request(base, target)
            found = merging.merge_keep(self._keep, store, wanted, merging.load_answers(self._keep, given))
            if go:
                write_merge(self._keep, store, found, wanted, given, self._clock, self._progress)
            return found

    def verify(self, *, share: float = 1.0) -> Verification:
        """Read every stored byte, or ``share`` of them (0 to 1), and check that each snapshot finds all it names."""
        from emberkeep.store.verify import verify

        with self._store() as store:
            return verify(store, share=share, progress=self._progress)

    def undo(self, run: int | None = None) -> Run:
        """Take back the interrupted run, else the last one, or the one of number ``run``; which one it was. Refused
        where what it left was changed since, and for runs that changed a remote host."""
        from emberkeep.errors import Refused
        from emberkeep.operations.engine import registry, undo
        from emberkeep.operations.record.journal import Journal

        with self._store() as store:
            found = undo.select_run(Journal(self.folder), run)
            kind = registry.find(found.kind)
            if kind is not None and kind.undo is not None:
                hint = f"'emberkeep undo {found.number} --go' takes it back"
                raise Refused(f"what the {found.words} changed does not lie in the server folder", hint=hint)
            undo.undo(self._keep, store, undo.to_undo(self._keep, store, run), self._clock, self._progress)
            return found
