"""Runs stopped at any file operation: resuming ends as an unbroken run does, undoing as if it had never begun."""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
from collections.abc import Callable
from contextlib import closing, suppress
from dataclasses import dataclass
from pathlib import Path
from types import ModuleType
from typing import Any

import pytest

from emberkeep.errors import EmberKeepError, Refused, RunFailed, UnreadableInput, UsageError
from emberkeep.fs import system
from emberkeep.keep.keep import Keep
from emberkeep.keep.tables.wiping import SetText
from emberkeep.merging.answers import Answer
from emberkeep.operations.engine import registry, runner
from emberkeep.operations.engine import undo as undoing
from emberkeep.operations.engine.kind import RunKind
from emberkeep.operations.engine.step import FileStep, Notes, Plan, RunContext, Step
from emberkeep.operations.flows import (
    carry,
    import_world,
    merge,
    migrate,
    move_store,
    person,
    restore,
    send,
    set_back,
    start,
    update,
    update_request,
    wipe,
    wipe_preview,
)
from emberkeep.operations.record import snapshot
from emberkeep.operations.record.facts import Run
from emberkeep.operations.record.journal import Journal
from emberkeep.operations.record.starts import StartRecord, Starts
from emberkeep.operations.steps.snapshot import SnapshotStep
from emberkeep.store.store import Store
from emberkeep.store.verify import verify
from emberkeep.wiping.values import Values
from tests import depth
from tests.conftest import Moorings, tree_state
from tests.faults import FaultyIO, Stop, count_calls, moments
from tests.helpers import NOW, clock, new_keep, undo
from tests.program import run_program

STOPS = (Stop, EmberKeepError, OSError)


def context(keep: Keep, store: Store, run: Run) -> RunContext:
    return RunContext(keep, store, Journal(keep.folder), run, clock)


def the_update(keep: Keep, store: Store) -> tuple[Run, list[Step]]:
    place = keep.folder.parent
    request = update_request.Request(
        place / "releases" / "skerrylight-4.3.zip",
        "4.3",
        "4.2.0",
        "4.2",
        "4.2",
        (keep.recipes,),
        place / "releases" / "extensions-4.3",
        start=False,
    )
    return update.KIND.run(request, NOW), update.steps(keep, store, request)


def the_migration(keep: Keep, store: Store) -> tuple[Run, list[Step]]:
    if "4.3" not in (keep.server / "RELEASE").read_text():
        shutil.copy2(keep.folder.parent / "RELEASE-4.3", keep.server / "RELEASE")
    request = migrate.Request("4.2", "4.3", (keep.recipes,))
    return migrate.KIND.run(request, NOW), migrate.steps(keep, store, request)


def the_import(keep: Keep, store: Store) -> tuple[Run, list[Step]]:
    request = import_world.Request(keep.folder.parent / "from-a-friend", "far-isles")
    return import_world.KIND.run(request, NOW), import_world.steps(keep, store, request)


def the_restore(keep: Keep, store: Store) -> tuple[Run, list[Step]]:
    if not store.numbers():
        snapshot.take(keep, NOW, store=store)
        (keep.server / "RELEASE").unlink()
        (keep.server / "cast-off.sh").write_text("wrecked\n")
        os.utime(keep.server / "cast-off.sh", ns=(0, 1_700_000_000_000_000_000))
        (keep.server / "outer-skerries" / "stray").mkdir()
    request = restore.Request("1")
    return restore.KIND.run(request, NOW), restore.steps(keep, store, request)


def the_carry(keep: Keep, store: Store) -> tuple[Run, list[Step]]:
    request = carry.Request(keep.folder.parent / "old-rock", keep.server, "4.2")
    return carry.KIND.run(request, NOW), carry.steps(keep, store, request)


def the_wipe(keep: Keep, store: Store) -> tuple[Run, list[Step]]:
    values = Values(1, "1 June 2026", "18072", "4096", "map, players and progress", "Gannet Rock")
    texts = (SetText("cast-off.sh", "SEED", "{seed}"), SetText("keeper.properties", "greeting", "Tide {number}"))
    scopes = ("map", "players", "progress", "extension-data")
    request = wipe_preview.Request(scopes, values, texts, "770421", warn=False, start=False)
    return wipe.KIND.run(request, NOW), wipe.steps(keep, store, request)


KINDS: dict[str, Callable[[Keep, Store], tuple[Run, list[Step]]]] = {
    "update": the_update,
    "migrate": the_migration,
    "import": the_import,
    "restore": the_restore,
    "carry": the_carry,
    "wipe": the_wipe,
}


@pytest.fixture(scope="module")
def built(tmp_path_factory: pytest.TempPathFactory, moorings: Moorings) -> Path:
    """A small server with its keep, a fresh install of 4.3 beside it, a world from elsewhere."""
    place = tmp_path_factory.mktemp("runs") / "rock"
    rock = moorings(place, "cove")
    shutil.copytree(rock.server / "outer-skerries", place / "from-a-friend" / "saves" / "isles", symlinks=True)
    (place / "from-a-friend" / "readme.txt").write_text("have fun")
    shutil.unpack_archive(place / "releases" / "skerrylight-4.3.zip", place / "unpacked")
    shutil.copyfile(place / "unpacked" / "skerrylight-4.3" / "RELEASE", place / "RELEASE-4.3")
    return place


def copy_of(built: Path, place: Path, kind: str) -> Keep:
    shutil.copytree(built, place, symlinks=True)
    if kind == "carry":
        (place / "gannet-rock").rename(place / "old-rock")
        (place / "unpacked" / "skerrylight-4.3").rename(place / "gannet-rock")
    keep = Keep(place / "gannet-rock.keep")
    if kind in ("restore", "migrate"):
        with closing(Store(keep.store_folder)) as store:
            KINDS[kind](keep, store)
    for folder in (place, *place.rglob("*")):  # what copying changed is set to one time
        if folder.is_dir() and not folder.is_symlink():
            os.utime(folder, ns=(0, 1_600_000_000_000_000_000))
    return keep


def carry_out(keep: Keep, kind: str) -> None:
    with closing(Store(keep.store_folder)) as store:
        run, steps = KINDS[kind](keep, store)
        runner.carry_out(context(keep, store, run), steps)


@pytest.mark.parametrize("kind", depth.choose(["import", "wipe"], [*KINDS]))
def test_stopped_anywhere_it_is_finished_or_taken_back(built: Path, tmp_path: Path, kind: str) -> None:
    whole = copy_of(built, tmp_path / "good", kind)
    start = tree_state(whole.server)
    carry_out(whole, kind)
    end = tree_state(whole.server)
    assert start != end
    counted = copy_of(built, tmp_path / "count", kind)
    calls = count_calls(lambda: carry_out(counted, kind))
    waited = 0
    for at in moments(calls, 1, 9):
        mine = copy_of(built, tmp_path / f"at{at}", kind)
        with system.use(FaultyIO(at, Stop())), suppress(*STOPS):
            carry_out(mine, kind)
        run = Journal(mine.folder).waiting()
        if run is None:
            state = tree_state(mine.server)
            assert state == end if at > calls else state in (start, end), at
            continue
        waited += 1
        other = tmp_path / f"other{at}"
        shutil.copytree(mine.folder.parent, other, symlinks=True)
        for path in mine.folder.parent.rglob("*"):  # copying folders changes their times
            if path.is_dir() and not path.is_symlink():
                shutil.copystat(path, other / path.relative_to(mine.folder.parent))
        with closing(Store(mine.store_folder)) as store:
            if kind == "carry":  # its request names the folders
                run = Journal(mine.folder).change(run)
            runner.resume(context(mine, store, run))
        assert tree_state(mine.server) == end, (kind, at)
        again = Keep(other / "gannet-rock.keep")
        with closing(Store(again.store_folder)) as store:
            undoing.undo(again, store, undoing.to_undo(again, store, None), clock)
        assert tree_state(again.server) == start, (kind, at)
        assert verify(Store(again.store_folder)).sound
        shutil.rmtree(mine.folder.parent)
        shutil.rmtree(other)
    assert waited


@pytest.mark.parametrize("kind", depth.choose(["migrate"], [*KINDS]))
def test_failing_anywhere_all_is_put_back(built: Path, tmp_path: Path, kind: str) -> None:
    whole = copy_of(built, tmp_path / "good", kind)
    start = tree_state(whole.server)
    calls = count_calls(lambda: carry_out(whole, kind))
    end = tree_state(whole.server)
    back = 0
    for at in moments(calls, 1, 9):
        mine = copy_of(built, tmp_path / f"at{at}", kind)
        try:
            with system.use(FaultyIO(at, OSError(28, "No space left on device"))):
                carry_out(mine, kind)
            assert tree_state(mine.server) == end
        except (RunFailed, OSError) as error:
            assert tree_state(mine.server) == start, (kind, at)
            back += "all was put back" in str(error)
        assert Journal(mine.folder).waiting() is None
        shutil.rmtree(mine.folder.parent)
    assert back


# --- older runs -------------------------------------------------------------------


@pytest.fixture
def keep(tmp_path: Path) -> Keep:
    server = tmp_path / "server"
    (server / "world").mkdir(parents=True)
    for name in ("a", "b", "c"):
        (server / "world" / name).write_text(name)
    return new_keep(tmp_path)


def write(keep: Keep, path: str, text: str) -> None:
    def change(context: RunContext) -> Notes:
        context.folder.write(path, text.encode())
        return Notes()

    with closing(Store(keep.store_folder)) as store:
        steps: list[Step] = [SnapshotStep("before", "test"), FileStep("write", "write", change)]
        runner.carry_out(context(keep, store, Run(0, "test", NOW, title=f"writing {path}")), steps)


def test_an_older_run_is_taken_back_while_what_it_changed_has_not_changed_since(keep: Keep) -> None:
    write(keep, "world/a", "1")
    write(keep, "world/b", "2")
    write(keep, "world/c", "3")
    undo(keep, 2)
    texts = [(keep.server / "world" / name).read_text() for name in ("a", "b", "c")]
    assert texts == ["1", "b", "3"]
    (keep.server / "world" / "a").write_text("edited since")
    with pytest.raises(Refused, match="changed since then are world/a"):
        undo(keep, 1)
    with pytest.raises(Refused, match="undone already"):
        undo(keep, 2)
    with pytest.raises(EmberKeepError, match="no run 9"):
        undo(keep, 9)
    undo(keep)
    assert (keep.server / "world" / "c").read_text() == "c"
    assert (keep.server / "world" / "a").read_text() == "edited since"


def test_a_server_that_was_started_meanwhile_is_not_copied(keep: Keep) -> None:
    """Seen when the snapshot is to be taken, whatever was seen before; nothing is written."""
    keep = new_keep(keep.folder.parent, '[process]\npid-file = "here.pid"')
    with subprocess.Popen([sys.executable, "-c", "import time; time.sleep(60)"]) as process:
        (keep.server / "here.pid").write_text(f"{process.pid}\n")
        before = tree_state(keep.server)
        try:
            with pytest.raises(RunFailed, match="the server is running"):
                write(keep, "world/a", "1")
        finally:
            process.kill()
    assert tree_state(keep.server) == before
    assert Journal(keep.folder).waiting() is None
    write(keep, "world/a", "1")
    assert (keep.server / "world" / "a").read_text() == "1"


def test_an_undo_that_was_stopped_waits_and_is_finished(keep: Keep) -> None:
    """From its first write on, the run counts as begun again: nothing else may start until it is taken back wholly."""
    for name in ("a", "b", "c"):
        write(keep, f"world/{name}", name * 5)

    class Stops(system.SystemIO):
        def replace(self, source: Path, target: Path) -> None:
            if target.name == "c":
                raise Stop
            super().replace(source, target)

    with system.use(Stops()), pytest.raises(Stop):
        undo(keep)
    waiting = Journal(keep.folder).waiting()
    assert waiting is not None and (waiting.number, waiting.undoing) == (3, True)
    with pytest.raises(Refused, match="interrupted half-way"):
        write(keep, "world/a", "1")
    with closing(Store(keep.store_folder)) as store:
        runner.resume(context(keep, store, waiting))
    assert Journal(keep.folder).waiting() is None
    assert (keep.server / "world" / "c").read_text() == "c"


def test_what_a_step_notes_is_there_when_it_is_resumed(keep: Keep) -> None:
    """The plan's fingerprint and the step's own facts reach the journal before the step acts."""
    found: list[dict[str, object]] = []

    class Noting(FileStep):
        def act(self, context: RunContext, plan: Plan) -> None:
            found.append(dict(context.facts))
            if "pids" not in context.facts:
                context.note(pids=[7], more="x")
                raise Stop
            super().act(context, plan)

    def change(context: RunContext) -> Notes:
        context.folder.write("world/a", b"whole")
        return Notes()

    steps: list[Step] = [SnapshotStep("before", "test"), Noting("write", "write", change)]
    with closing(Store(keep.store_folder)) as store, pytest.raises(Stop):
        runner.carry_out(context(keep, store, Run(0, "test", NOW, title="a test")), steps)
    waiting = Journal(keep.folder).waiting()
    assert waiting is not None
    step = Journal(keep.folder).steps(waiting)[1]
    assert (step.facts["pids"], step.facts["more"], step.ended) == ([7], "x", None)
    assert step.facts["plan"] == found[0]["plan"]
    with closing(Store(keep.store_folder)) as store:
        runner.go_on(context(keep, store, waiting), steps)
    assert found[1]["pids"] == [7]
    assert (keep.server / "world" / "a").read_text() == "whole"
    with pytest.raises(UsageError, match="nothing to resume"):
        runner.waiting(keep)


def test_a_run_whose_plan_is_another_now_is_only_taken_back(keep: Keep) -> None:
    text = {"now": b"one"}

    def change(context: RunContext) -> Notes:
        context.folder.write("world/a", text["now"])
        return Notes()

    class Stops(FileStep):
        def act(self, context: RunContext, plan: Plan) -> None:
            raise Stop

    steps: list[Step] = [SnapshotStep("before", "test"), Stops("write", "write", change)]
    with closing(Store(keep.store_folder)) as store, pytest.raises(Stop):
        runner.carry_out(context(keep, store, Run(0, "test", NOW, title="a test")), steps)
    text["now"] = b"another"
    waiting = runner.waiting(keep)
    with (
        closing(Store(keep.store_folder)) as store,
        pytest.raises(EmberKeepError, match="not there any more as it was"),
    ):
        runner.go_on(context(keep, store, waiting), [steps[0], FileStep("write", "write", change)])
    assert (keep.server / "world" / "a").read_text() == "a"


def test_all_that_changed_since_is_counted_and_some_of_it_named(keep: Keep) -> None:
    names = [f"f{number}" for number in range(undoing.MOST_NAMED + 2)]

    def change(context: RunContext) -> Notes:
        for name in names:
            context.folder.write(f"world/{name}", b"1")
        return Notes()

    with closing(Store(keep.store_folder)) as store:
        steps: list[Step] = [SnapshotStep("before", "test"), FileStep("write", "write", change)]
        runner.carry_out(context(keep, store, Run(0, "test", NOW, title="many")), steps)
    write(keep, "world/a", "1")
    for number, more in ((undoing.MOST_NAMED, ""), (undoing.MOST_NAMED + 1, " and 1 more")):
        for name in names[:number]:
            (keep.server / "world" / name).write_text("edited since")
        with pytest.raises(Refused) as caught:
            undo(keep, 1)
        told = ", ".join(f"world/{name}" for name in sorted(names[:number])[: undoing.MOST_NAMED])
        assert str(caught.value).endswith(f"changed since then are {told}{more}")
        assert "restore 1" in caught.value.faults[0].hint


def test_while_one_run_waits_no_other_begins(keep: Keep) -> None:
    def broken(context: RunContext) -> Notes:
        raise OSError(5, "Input/output error")

    with closing(Store(keep.store_folder)) as store:
        steps: list[Step] = [SnapshotStep("before", "test"), FileStep("no", "no", broken)]
        with pytest.raises(RunFailed, match="stays as it is"):
            runner.carry_out(context(keep, store, Run(0, "test", NOW, title="a test")), steps, stay=True)
    with pytest.raises(Refused, match="interrupted half-way"):
        write(keep, "world/a", "1")
    undo(keep)
    write(keep, "world/a", "1")


def test_the_second_ctrl_c_goes_back(keep: Keep) -> None:
    before = tree_state(keep.server)

    def pressed(context: RunContext) -> Notes:
        (keep.server / "world" / "a").write_text("half")
        context.folder.write("world/a", b"whole")
        return Notes()

    class Pressed(FileStep):
        def act(self, context: RunContext, plan: Plan) -> None:
            super().act(context, plan)
            raise KeyboardInterrupt

    def asked() -> bool:
        raise KeyboardInterrupt

    with closing(Store(keep.store_folder)) as store:
        steps: list[Step] = [SnapshotStep("before", "test"), Pressed("write", "write", pressed)]
        there = context(keep, store, Run(0, "test", NOW, title="a test"))
        there.interrupted = asked
        with pytest.raises(EmberKeepError, match="all was put back"):
            runner.carry_out(there, steps)
    assert tree_state(keep.server) == before
    assert Journal(keep.folder).waiting() is None


# --- starts in the journal -----------------------------------------------------------------------------


def test_starts_are_remembered_in_their_order_where_there_is_a_keep(keep: Keep, tmp_path: Path) -> None:
    told = [StartRecord(NOW, "4.2", 100, 3.5, False, "ready"), StartRecord(NOW, "4.3", 120, 90.0, True, "late")]
    for one in told:
        Starts(keep.folder).add(one, run=7)
    assert Starts(keep.folder).all() == told
    elsewhere = Starts(tmp_path / "nowhere")
    elsewhere.add(told[0])
    assert elsewhere.all() == [] and not (tmp_path / "nowhere").exists()


# --- kinds ------------------------------------------------------------------------------------------

A = Answer("economy/stores.xml", "good[id=rope]", "price", "= 7", "5", None, "6")
REQUESTS: list[tuple[RunKind[Any], object]] = [
    (restore.KIND, restore.Request("7", ("world",), ("ledger",), (), (("world", ("sea/*",)),), "{x}", NOW)),
    (person.KIND, person.Request("7", "Ada")),
    (merge.KIND, merge.Request("4.2", "4.3", ("economy",), False, (A,), {"a.xml": "00", "b.xml": None})),
    (
        update.KIND,
        update_request.Request(Path("/r"), "4.3", "4.2.0", None, "4.2", (Path("/b\udcff"),), None, {"x": "keep"}, (A,)),
    ),
    (migrate.KIND, migrate.Request("4.2", "4.3", (Path("/a"),), Path("/sql"))),
    (carry.KIND, carry.Request(Path("/old"), Path("/new"), None, (A,), True)),
    (import_world.KIND, import_world.Request(Path("/w.zip"), "isles")),
    (
        wipe.KIND,
        wipe_preview.Request(
            ("map",), Values(3, "1 June", "5", "", "map", "x"), (SetText("a", "b", "", "S"),), start=False
        ),
    ),
    (send.KIND, send.Asked(("a",), ("a",), (), ("b",), (), "ftp://x")),
    (start.KIND, start.Request((start.OnceRequest("a.ini", "k", "v"),))),
    (set_back.KIND, set_back.Request()),
    (move_store.KIND, move_store.Request("/srv/stores/game", "gannet-rock", "../other", "gannet")),
]


def test_every_kind_is_registered_under_its_own_name() -> None:
    assert {name: registry.kind_of(name).name for name in registry.KINDS} == {name: name for name in registry.KINDS}
    assert {kind.name for kind, _ in REQUESTS} == set(registry.KINDS)


@pytest.mark.parametrize(("kind", "request_"), REQUESTS, ids=[kind.name for kind, _ in REQUESTS])
def test_what_a_run_was_asked_for_comes_back_from_the_journal(
    kind: RunKind[Any], request_: object, tmp_path: Path
) -> None:
    folder = new_keep(tmp_path).folder
    Journal(folder).begin(kind.run(request_, NOW))
    (known,) = Journal(folder).runs()
    assert kind.request_of(known) == request_
    assert known.title == kind.title(request_)


EARLIER: list[tuple[str, dict[str, object], object]] = [
    ("restore", {"target": "1", "only": []}, restore.Request("1")),
    ("carry", {"old": "/o", "new": "/n", "base": "4.2"}, carry.Request(Path("/o"), Path("/n"), "4.2", (), True)),
    ("start", {"once": [["a.ini", "k", "v"]]}, start.Request((start.OnceRequest("a.ini", "k", "v"),))),
    ("back", {}, set_back.Request()),
    ("migrate", {"old": "1", "new": "2", "folders": ["/r"]}, migrate.Request("1", "2", (Path("/r"),))),
    ("send", {"put": ["a"], "new": [], "make": [], "remove": [], "fold": []}, send.Asked(("a",), (), (), (), ())),
    ("player", {"target": "1", "player": "Ada", "of another time": 1}, person.Request("1", "Ada")),
]


@pytest.mark.parametrize(("kind", "written", "request_"), EARLIER, ids=[kind for kind, _, _ in EARLIER])
def test_requests_that_an_earlier_ember_keep_wrote_are_read(
    kind: str, written: dict[str, object], request_: object
) -> None:
    assert registry.kind_of(kind).read(written, "it") == request_


def test_a_request_that_is_none_is_told_with_the_field(keep: Keep) -> None:
    with pytest.raises(UnreadableInput, match=r"what run 5 \(migration\) was asked for cannot be read: .*folders"):
        migrate.KIND.request_of(Run(5, "migrate", NOW, title="migration", request={"old": "1", "new": "2"}))
    with pytest.raises(Refused, match="an earlier Ember Keep began cannot go on"):
        merge.KIND.request_of(Run(5, "merge", NOW, request={"paths": []}))


@dataclass(frozen=True)
class Lantern:
    """What a kind of run is asked for that nobody has made yet."""

    file: str
    light: str


def test_a_new_kind_of_run_is_one_module_and_one_line(
    keep: Keep, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Nothing else has to know it to be stopped, resumed, listed and undone."""
    stops = [Stop()]

    class Lights(FileStep):
        def __init__(self, request: Lantern) -> None:
            self.request = request
            super().__init__("light", "light it", self._light)

        def _light(self, context: RunContext) -> Notes:
            context.folder.write(self.request.file, self.request.light.encode())
            return Notes()

        def act(self, context: RunContext, plan: Plan) -> None:
            if stops:
                raise stops.pop()
            super().act(context, plan)

    def steps(keep: Keep, store: Store, request: Lantern) -> list[Step]:
        return [SnapshotStep("before lighting", "lantern"), Lights(request)]

    kind = RunKind("lantern", Lantern, title=lambda request: f"lighting {request.file}", steps=steps)
    module = ModuleType("lantern")
    vars(module)["KIND"] = kind
    monkeypatch.setitem(sys.modules, "emberkeep.operations.flows.lantern", module)
    monkeypatch.setitem(registry.KINDS, "lantern", "lantern")
    before, request = tree_state(keep.server), Lantern("lantern.txt", "bright")
    with closing(Store(keep.store_folder)) as store, pytest.raises(Stop):
        runner.carry_out(context(keep, store, kind.run(request, NOW)), steps(keep, store, request))

    def program(*words: str) -> str:
        done = run_program("--keep", keep.folder, *words, cwd=tmp_path)
        assert done.code == 0, done.err
        return done.out

    shown = program("resume")
    assert "lighting lantern.txt" in shown
    assert "light it" in shown
    program("resume", "--go")
    assert (keep.server / "lantern.txt").read_text() == "bright"
    assert "lighting lantern.txt" in program("history")
    program("undo", "--go")
    assert tree_state(keep.server) == before
