"""Stores against plain copies: random trees, edits, snapshots, thinning, repairs, restores and moves, in any order; of one
keep, and of three that share a store."""

from __future__ import annotations

import os
import random
import shutil
import tempfile
from collections import defaultdict
from dataclasses import dataclass, replace
from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest
from hypothesis import settings
from hypothesis import strategies as st
from hypothesis.stateful import RuleBasedStateMachine, initialize, invariant, precondition, rule

from emberkeep.fs import folder_tree, sorted_paths
from emberkeep.fs.folder_tree import FolderTree
from emberkeep.fs.trees import only
from emberkeep.keep.config import Config
from emberkeep.operations.engine import apply, fitness, restore_plan
from emberkeep.store import compact, intake, manifest, moving, table, writer
from emberkeep.store.extents import HOLE, all_extents
from emberkeep.store.manifest import About, ManifestName
from emberkeep.store.needs import needed
from emberkeep.store.packs import BlockId
from emberkeep.store.repair import repair
from emberkeep.store.store import Store
from emberkeep.store.tree import SnapshotTree
from emberkeep.store.verify import verify
from tests import depth
from tests.conftest import tree_state

NAMES = st.sampled_from(["a", "b", "deep/a", "deep/er/a", "dump-1.sql", "dump-2.sql", "É", "e\u0301"])
SIZES = st.sampled_from([0, 1, 700, 40_000, 300_000, 1_200_000])
SEEDS = st.integers(0, 5)
CONFIG = Config("x", "server", "UTC")


class Keeping(RuleBasedStateMachine):
    """``states`` holds, by label, what the folder was when its snapshot was taken."""

    def __init__(self) -> None:
        super().__init__()
        self.place = Path(tempfile.mkdtemp(prefix="machine-"))
        self.root = self.place / "server"
        self.root.mkdir()
        self.store = Store(self.place / "store")
        self.states: dict[str, dict[str, tuple[object, ...]]] = {}
        self.clock = datetime.now(UTC) + timedelta(seconds=5)

    def teardown(self) -> None:
        self.store.close()
        shutil.rmtree(self.place)

    @rule(name=NAMES, size=SIZES, seed=SEEDS)
    def write(self, name: str, size: int, seed: int) -> None:
        path = self.root / name
        path.parent.mkdir(parents=True, exist_ok=True)
        self._away(path)
        path.write_bytes(random.Random(seed).randbytes(size))

    @rule(name=NAMES, seed=SEEDS, length=st.sampled_from([1, 4096, 100_000]))
    def patch(self, name: str, seed: int, length: int) -> None:
        path = self.root / name
        if path.is_file() and not path.is_symlink() and path.stat().st_size:
            some = random.Random(seed)
            with path.open("r+b") as handle:
                handle.seek(some.randrange(path.stat().st_size))
                handle.write(some.randbytes(length))

    @rule(name=NAMES, seed=SEEDS)
    def insert(self, name: str, seed: int) -> None:
        path = self.root / name
        if path.is_file() and not path.is_symlink():
            data, some = path.read_bytes(), random.Random(seed)
            at = some.randrange(len(data) + 1)
            path.write_bytes(data[:at] + some.randbytes(33) + data[at:])

    @rule(name=NAMES)
    def remove(self, name: str) -> None:
        self._away(self.root / name)

    @rule(name=NAMES, other=NAMES, hard=st.booleans())
    def link(self, name: str, other: str, hard: bool) -> None:
        path, target = self.root / name, self.root / other
        path.parent.mkdir(parents=True, exist_ok=True)
        if hard and target.is_file() and not target.is_symlink() and path != target:
            self._away(path)
            os.link(target, path)
        elif not hard:
            self._away(path)
            path.symlink_to(other)

    @rule(name=NAMES, mode=st.sampled_from([0o600, 0o644, 0o755]))
    def change_mode(self, name: str, mode: int) -> None:
        if (self.root / name).is_file() and not (self.root / name).is_symlink():
            (self.root / name).chmod(mode)

    @rule(trusting=st.booleans())
    def snapshot(self, trusting: bool) -> None:
        self.clock += timedelta(seconds=60 if trusting else 0)
        live = FolderTree(self.root)
        label = writer.add(self.store, live, About("", self.clock, "asked"), live=live).about.label
        self.states[label] = self._state()

    @precondition(lambda self: self.states)
    @rule(data=st.data())
    def restore(self, data: st.DataObject) -> None:
        label = data.draw(st.sampled_from(sorted(self.states)))
        tree = SnapshotTree(self.store, self.store.manifest(label), label)
        plan = restore_plan.plan(tree, self.root, restore_plan.scope_of(tree.manifest, (), CONFIG), self.store)
        fitness.check_whole(plan, tree)
        assert apply.apply(plan, tree) == []
        assert self._state() == self.states[label]

    @precondition(lambda self: len(self.states) > 1)
    @rule(data=st.data())
    def thin(self, data: st.DataObject) -> None:
        going = data.draw(st.lists(st.sampled_from(sorted(self.states)), unique=True, max_size=len(self.states) - 1))
        newest = max(self.states, key=int)
        going = [label for label in going if label != newest]
        compact.release(self.store, going)
        for label in going:
            del self.states[label]

    @rule()
    def open_again(self) -> None:
        self.store.close()
        self.store = Store(self.store.folder)

    @precondition(lambda self: self.states)
    @rule()
    def mend(self) -> None:
        assert repair(self.store, FolderTree(self.root)).after.sound

    @invariant()
    def all_is_whole(self) -> None:
        assert sorted(map(str, self.store.numbers())) == sorted(self.states)
        assert verify(self.store).sound
        assert needed(self.store, self.store.all_names()).stretches == self._needed()

    def _needed(self) -> dict[BlockId, list[tuple[int, int]]]:
        """Place by place, what is named of each block."""
        rows = [row for name in self.store.all_names() for row in self.store.manifest_of(name).held.values()]
        extents = {e for row in rows if row.place for e in all_extents(row.place, self.store.block)}
        found = defaultdict[BlockId, list[tuple[int, int]]](list)
        for block, offset, length in sorted(extent for extent in extents if extent.block != HOLE):
            stretches = found[block]
            if stretches and offset <= stretches[-1][1]:
                start, end = stretches.pop()
                stretches.append((start, max(end, offset + length)))
            else:
                stretches.append((offset, offset + length))
        return found

    def _away(self, path: Path) -> None:
        if path.is_dir() and not path.is_symlink():
            shutil.rmtree(path)
        else:
            path.unlink(missing_ok=True)

    def _state(self) -> dict[str, tuple[object, ...]]:
        names: dict[int, str] = {}
        state = tree_state(self.root)
        for path in sorted(state):
            names.setdefault((self.root / path).lstat().st_ino, path)
        return {path: (*facts, names[(self.root / path).lstat().st_ino]) for path, facts in state.items()}


@dataclass
class Keeper:
    """One of the keeps that share a store: its folder, what its snapshots hold, and the store as it sees it."""

    root: Path
    store: Store
    states: dict[str, dict[str, tuple[object, ...]]]


class Sharing(Keeping):
    """The same with three keeps that share a store, and may leave it and come back; each rule is about the one whose
    turn it is."""

    def __init__(self) -> None:
        super().__init__()
        self.shared = self.place / "shared"
        self.keepers = {name: self._keeper(name) for name in "abc"}
        self.turn("a")

    def _keeper(self, name: str) -> Keeper:
        (self.place / name).mkdir()
        return Keeper(self.place / name, Store(self.shared, member=name), {})

    @rule(name=st.sampled_from("abc"))
    def turn(self, name: str) -> None:
        self.name, keeper = name, self.keepers[name]
        self.root, self.store, self.states = keeper.root, keeper.store, keeper.states

    @rule()
    def open_again(self) -> None:
        self._to(Store(self.store.folder, member=self.store.member))

    @initialize(seeds=st.tuples(SEEDS, SEEDS, SEEDS))
    def all_begin(self, seeds: tuple[int, ...]) -> None:
        for name, seed in zip("cba", seeds, strict=True):
            self.turn(name)
            self.write("a", 700, seed)
            self.write("deep/a", 300_000, seed)
            self.snapshot(trusting=True)

    @precondition(lambda self: self.states)
    @rule(data=st.data(), hours=st.booleans())
    def thin(self, data: st.DataObject, hours: bool) -> None:
        going = data.draw(st.lists(st.sampled_from(sorted(self.states)), unique=True))
        compact.release(self.store, going)
        for label in going:
            del self.states[label]
        for mark in self.shared.glob(f"packs/*{compact.IDLE_MARK}") if hours else ():
            os.utime(mark, ns=(0, mark.stat().st_mtime_ns - 2 * 3600 * 10**9))
        if hours and self.store.member:
            assert compact.release(self.store, []).later == 0

    @precondition(lambda self: self.states)
    @rule()
    def move(self) -> None:
        own = Store(self.place / f"{self.name}.own")
        source, target = (self.store, own) if self.store.member else (self.store, Store(self.shared, member=self.name))
        with source.writing(), target.writing():
            moving.clear_own(target)
            moving.Move(source, target).carry_out()
        moving.remove_own(source)
        self._to(target)

    def _to(self, store: Store) -> None:
        self.store.close()
        self.store = self.keepers[self.name].store = store

    @invariant()
    def all_is_whole(self) -> None:
        for keeper in self.keepers.values():
            assert sorted(map(str, keeper.store.numbers())) == sorted(keeper.states)
            found = verify(keeper.store)
            assert found.sound
            assert found.snapshots >= len(keeper.states)


class KeepingMany(Keeping):
    """The same where every tree and every snapshot counts as one of very many files, which are kept in columns."""

    def __init__(self) -> None:
        self.patch = pytest.MonkeyPatch()
        for module in (folder_tree, table, intake):
            self.patch.setattr(module, "VERY_MANY", 1)
        self.patch.setattr(intake, "SIFTED", 2)
        self.patch.setattr(sorted_paths, "_STRETCH", 2)
        super().__init__()

    def teardown(self) -> None:
        super().teardown()
        self.patch.undo()

    @invariant()
    def what_is_scanned_is_told_alike(self) -> None:
        many, few = FolderTree(self.root), FolderTree(self.root)
        with pytest.MonkeyPatch.context() as patch:
            patch.setattr(folder_tree, "VERY_MANY", 1000)
            assert list(few.entries().items()) == list(many.entries().items())
        assert list(many.entries().values()) == [many.entries()[path] for path in many.entries()]
        assert dict(few.stamps) == dict(many.stamps)
        assert few.fingerprint() == many.fingerprint()
        assert few._sparse == many._sparse

    @precondition(lambda self: self.states)
    @invariant()
    def what_is_held_is_told_alike(self) -> None:
        data, name = self.store.manifest_file(ManifestName(max(self.states, key=int)))
        many = manifest.parse(data, name)
        with pytest.MonkeyPatch.context() as patch:
            patch.setattr(table, "VERY_MANY", 1000)
            few = manifest.parse(data, name)
        assert isinstance(few.held, dict)
        assert list(few.held.items()) == list(many.held.items())
        assert dict(table.entries_of(many.held, "/")) == dict(table.entries_of(few.held, "/"))
        assert manifest.serialize(many) == manifest.serialize(few) == data
        odd = only(many.held, lambda path, row: len(path) % 2 == 1)
        again = manifest.serialize(replace(many, held=odd))
        assert dict(manifest.parse(again, name).held) == {p: row for p, row in few.held.items() if len(p) % 2 == 1}


TestKeeping, TestSharing, TestKeepingMany = Keeping.TestCase, Sharing.TestCase, KeepingMany.TestCase
TestKeeping.settings = TestSharing.settings = TestKeepingMany.settings = settings(
    max_examples=depth.number("EXAMPLES", 15, 60) // 3, stateful_step_count=25
)
