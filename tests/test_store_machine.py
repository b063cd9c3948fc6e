"""A store against plain copies: random trees, edits, snapshots, thinning, repairs and restores, in any order."""

from __future__ import annotations

import os
import random
import shutil
import tempfile
from datetime import UTC, datetime, timedelta
from pathlib import Path

from hypothesis import settings
from hypothesis import strategies as st
from hypothesis.stateful import RuleBasedStateMachine, invariant, precondition, rule

from emberkeep.fs.folder_tree import FolderTree
from emberkeep.keep.config import Config
from emberkeep.operations.engine import apply, fitness, restore_plan
from emberkeep.store import compact, writer
from emberkeep.store.manifest import About
from emberkeep.store.repair import repair
from emberkeep.store.store import Store
from emberkeep.store.tree import SnapshotTree
from emberkeep.store.verify import verify
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


TestKeeping = Keeping.TestCase
TestKeeping.settings = settings(
    max_examples=max(10, int(os.environ.get("EMBERKEEP_EXAMPLES", "60")) // 3), stateful_step_count=25
)
