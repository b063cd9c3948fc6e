"""Wipes: what goes is what the preview said, to the byte, and comes back; values; announcements; what is refused."""

from __future__ import annotations

import json
import math
import shutil
import sqlite3
import threading
from collections.abc import Iterator
from contextlib import closing, contextmanager
from datetime import UTC, date, datetime, timedelta
from pathlib import Path
from typing import Any

import pytest

from emberkeep.demo.webhook_receiver import Receiver
from emberkeep.errors import Refused, RunFailed, UnreadableInput, UsageError
from emberkeep.fs.folder_tree import FolderTree
from emberkeep.keep.keep import Keep
from emberkeep.keep.tables.schedule import Webhook
from emberkeep.operations.engine import runner, undo
from emberkeep.operations.engine.codec import to_json
from emberkeep.operations.engine.step import RunContext
from emberkeep.operations.flows import due, wipe, wipe_preview
from emberkeep.operations.record.facts import Run
from emberkeep.operations.record.journal import Journal
from emberkeep.operations.record.snapshot import snapshots
from emberkeep.process import announce
from emberkeep.process.announce import Message, post, time_left
from emberkeep.schedule.attendance import Tide, attendance, by_day, fit, online, visits
from emberkeep.store.store import Store
from emberkeep.wiping import values
from emberkeep.wiping.scopes import UNASKED
from emberkeep.wiping.values import Asked, Wiped
from tests import depth
from tests.conftest import Moorings, Rock, killed_at_each, tree_state
from tests.helpers import moor
from tests.program import Ran, run_program

NOW = datetime(2026, 6, 5, 18, 0, tzinfo=UTC)
SCOPES = ("map", "players", "progress", "extension-data")


@pytest.fixture
def keep(moorings: Moorings, tmp_path: Path) -> Keep:
    return Keep(moorings(tmp_path / "rock", "cove").keep)


def add(keep: Keep, text: str) -> Keep:
    with (keep.folder / "keep.toml").open("a") as told:
        told.write("\n" + text + "\n")
    return Keep(keep.folder)


def replaced(keep: Keep, old: str, new: str) -> Keep:
    path = keep.folder / "keep.toml"
    assert old in path.read_text()
    path.write_text(path.read_text().replace(old, new, 1))
    return Keep(keep.folder)


def request_of(keep: Keep, *scopes: str, **further: Any) -> wipe_preview.Request:
    further.setdefault("start", False)
    return wipe_preview.request_of(keep, scopes, NOW, warn=False, **further)


def carry_out(
    keep: Keep, request: wipe_preview.Request, environment: dict[str, str] | None = None
) -> tuple[RunContext, Run]:
    with closing(Store(keep.store_folder)) as store:
        asked = wipe.KIND.run(request, NOW)
        context = RunContext(keep, store, Journal(keep.folder), asked, lambda: NOW, environment=environment or {})
        return context, runner.carried_out(context, wipe.steps(keep, store, request))


def contents(folder: Path) -> dict[str, bytes]:
    return {
        path.relative_to(folder).as_posix(): path.read_bytes()
        for path in folder.rglob("*")
        if path.is_file() and not path.is_symlink()
    }


# --- the folder after equals the preview ------------------------------------------------------


@pytest.mark.parametrize(
    "scopes", depth.some([*((scope,) for scope in SCOPES), ("players", "extension-data"), SCOPES], 3)
)
def test_what_goes_is_what_the_preview_said_and_comes_back(keep: Keep, scopes: tuple[str, ...]) -> None:
    before, state = contents(keep.server), tree_state(keep.server)
    request = request_of(keep, *scopes, asked=Asked("18072"))
    found = wipe_preview.preview(keep, request, {}, NOW)
    assert tree_state(keep.server) == state
    going = {path for one in found.cleared.scopes for path in one.files}
    assert going
    carry_out(keep, request)
    after = contents(keep.server)
    expected = {path: data for path, data in before.items() if path not in going}
    script = "cast-off.sh"
    expected[script] = expected[script].replace(b"SEED=770421", b"SEED=18072")
    assert after == expected
    with closing(Store(keep.store_folder)) as store:
        taken = snapshots(store)[0][-1]
        assert (taken.pinned, taken.note) == (True, f"before wipe 1: {', '.join(scopes)}")
        undo.undo(keep, store, undo.to_undo(keep, store, None), lambda: NOW)
    assert tree_state(keep.server) == state


def test_each_scope_clears_what_it_is_called_after(keep: Keep) -> None:
    found = wipe_preview.preview(keep, request_of(keep, *SCOPES), {}, NOW)
    told = {one.scope: one for one in found.cleared.scopes}
    assert len([path for path in told["map"].files if path.endswith(".sea")]) == 8
    assert (len(told["players"].files), told["players"].players) == (4, 4)
    assert (told["progress"].files, told["progress"].players) == (("outer-skerries/logbook.5.db",), 4)
    assert "extensions/tarline/tallies.json" in told["extension-data"].files
    kept = {one.role: one for one in found.cleared.kept}
    assert (kept["extension-data"].files, kept["access"].files) == (2, 5)
    assert "definitions" in kept["extension-data"].why


def test_folders_that_a_scope_empties_go_with_it_and_others_stay(keep: Keep) -> None:
    world = keep.server / "outer-skerries"
    for folder, name in (("caches/deep/deeper", "a.cache"), ("caches/mixed", "b.cache"), ("caches/mixed", "note.txt")):
        (world / folder).mkdir(parents=True, exist_ok=True)
        (world / folder / name).write_text("x")
    (world / "caches" / "empty").mkdir()
    path = keep.folder / "keep.toml"
    start, end = (path.read_text().index(mark) for mark in ("[scopes.map]", '[records."mission'))
    scopes = '[scopes.caches]\nfiles = ["outer-skerries/caches/**/*.cache", "outer-skerries/caches/deep/**"]\n'
    path.write_text(path.read_text()[:start] + scopes + path.read_text()[end:])
    keep = Keep(keep.folder)
    carry_out(keep, request_of(keep, "caches"))
    left = sorted(str(path.relative_to(world)) for path in (world / "caches").rglob("*"))
    assert left == ["caches/deep", "caches/empty", "caches/mixed", "caches/mixed/note.txt"]


@pytest.mark.long
def test_the_same_on_a_server_of_another_shape(tmp_path: Path) -> None:
    root = moor(tmp_path)
    assert run_program("adopt", "moor", cwd=tmp_path).code == 0
    keep = Keep(tmp_path / "moor.keep")
    before, state = contents(root), tree_state(root)
    for scopes in (("map",), ("players",), ("map", "players")):
        request = request_of(keep, *scopes, asked=Asked("4711"))
        found = wipe_preview.preview(keep, request, {}, NOW)
        going = {path for one in found.cleared.scopes for path in one.files}
        _, run = carry_out(keep, request)
        expected = {path: data for path, data in before.items() if path not in going}
        expected["go.bat"] = expected["go.bat"].replace(b"+worldseed 8812", b"+worldseed 4711")
        assert contents(root) == expected
        assert len(going) == {"map": 2, "players": 5}[scopes[0]] + (5 if len(scopes) > 1 else 0)
        with closing(Store(keep.store_folder)) as store:
            undo.undo(keep, store, undo.to_undo(keep, store, run.number), lambda: NOW)
        assert tree_state(root) == state


def test_records_and_rows_go_and_what_stands_beside_them_stays(keep: Keep) -> None:
    people = [one["id"] for one in json.loads((keep.server / "roll.json").read_text())]
    book = {"shops": [{"shop": "chandler"}], "balances": {ident: n for n, ident in enumerate(people)}, "rate": 0.1}
    path = keep.server / "extensions" / "tarline" / "book.json"
    path.write_text(json.dumps(book, indent=2) + "\n")
    keep = add(
        keep,
        """[scopes.economy-of-players]
records = [{ file = "extensions/tarline/*.json", at = "balances/*", where = "value!=0" }]
rows = [{ database = "outer-skerries/logbook.*.db", table = "learned", where = "craft = 'signals'" }]
""",
    )
    rows = _rows(keep)
    request = request_of(keep, "economy-of-players")
    found = wipe_preview.preview(keep, request, {}, NOW).cleared.scopes[0]
    assert [(one.file, one.count, one.line) for one in found.records] == [("extensions/tarline/book.json", 3, 9)]
    assert [(one.table, one.count, one.of) for one in found.rows] == [("learned", 4, 12)]
    assert found.players == 4
    carry_out(keep, request)
    assert json.loads(path.read_text()) == {**book, "balances": {people[0]: 0}}
    assert _rows(keep) == [row for row in rows if row[1] != "signals"]


def _rows(keep: Keep) -> list[Any]:
    with closing(sqlite3.connect(next((keep.server / "outer-skerries").glob("logbook.*")))) as database:
        return database.execute("select * from learned order by 1, 2").fetchall()


@contextmanager
def in_use(keep: Keep) -> Iterator[sqlite3.Connection]:
    """The logbook in write-ahead mode, with a row that stands only in its log."""
    with closing(sqlite3.connect(next((keep.server / "outer-skerries").glob("logbook.*.db")))) as database:
        database.execute("pragma journal_mode = wal")
        with database:
            database.execute("insert into learned values ('nobody', 'signals', 3)")
        yield database


def test_a_preview_counts_rows_of_a_database_that_is_in_use(keep: Keep) -> None:
    keep = add(
        keep,
        '[scopes.signals]\nrows = [{ database = "**/logbook.*.db", table = "learned", where = "craft = \'signals\'" }]',
    )
    with in_use(keep):
        found = wipe_preview.preview(keep, request_of(keep, "signals"), {}, NOW).cleared.scopes[0]
        assert [(one.count, one.of) for one in found.rows] == [(5, 13)]


def test_the_logs_of_a_database_go_and_stay_with_it(keep: Keep) -> None:
    with in_use(keep):
        for scope, goes in (("map", False), ("progress", True)):
            found = wipe_preview.preview(keep, request_of(keep, scope), {}, NOW).cleared.scopes[0]
            assert [path.endswith("-wal") for path in found.files].count(True) == goes, scope
            assert ("outer-skerries/logbook.5.db" in found.files) is goes
        keep = replaced(
            keep, "[scopes.map]", '[[survives]]\nname = "crafts"\nfiles = ["**/logbook.5.db"]\n[scopes.map]'
        )
        found = wipe_preview.preview(keep, request_of(keep, "map", "progress", lenient=True), {}, NOW).cleared
        assert not [path for one in found.scopes for path in one.files if "logbook" in path]
        assert found.survives == {"crafts": 1}


def test_some_things_survive_on_purpose(keep: Keep) -> None:
    people = [one["id"] for one in json.loads((keep.server / "roll.json").read_text())]
    (keep.server / "extensions" / "tarline" / "ranks.json").write_text(
        json.dumps({ident: {"rank": "paid" if n == 1 else "free"} for n, ident in enumerate(people)}, indent=1)
    )
    keep = replaced(
        keep,
        '"extensions/tarline/tallies.json"]',
        '"extensions/tarline/tallies.json"]\nrecords = [{ file = "**/ranks.json", at = "*" }]',
    )
    keep = add(
        keep,
        """[[survives]]
name = "the lantern's plot"
files = ["outer-skerries/tiles:0,0..0,0"]
[[survives]]
name = "paid ranks"
records = [{ file = "**/ranks.json", at = "*", where = "rank=paid" }]
[[survives]]
name = "the wardens' perches and crafts"
files = ["extensions/gullpost/perches/*"]
rows = [{ database = "**/logbook.*.db", table = "learned" }]
of = "wardens.json"
[scopes.crafts]
rows = [{ database = "**/logbook.*.db", table = "learned" }]
""",
    )
    request = request_of(keep, "map", "extension-data", "crafts")
    found = wipe_preview.preview(keep, request, {}, NOW)
    assert dict(found.cleared.survives) == {
        "the lantern's plot": 1,
        "paid ranks": 1,
        "the wardens' perches and crafts": 3 + 9,
    }
    tile = (keep.server / "outer-skerries" / "chart" / "strip.0.0.sea").read_bytes()
    carry_out(keep, request)
    assert [path.name for path in (keep.server / "outer-skerries" / "chart").iterdir()] == ["strip.0.0.sea"]
    assert (keep.server / "outer-skerries" / "chart" / "strip.0.0.sea").read_bytes() == tile
    ranks = json.loads((keep.server / "extensions" / "tarline" / "ranks.json").read_text())
    assert ranks == {people[1]: {"rank": "paid"}}
    wardens = {one["id"] for one in json.loads((keep.server / "wardens.json").read_text())}
    assert {path.stem for path in (keep.server / "extensions" / "gullpost" / "perches").iterdir()} == wardens
    assert {row[0] for row in _rows(keep)} == wardens


def test_a_preview_that_has_become_untrue_is_said_and_asked_again(rock: Rock) -> None:
    state = tree_state(rock.server)
    line = ("wipe", "players", "extension-data", "--no-start")
    unseen = rock.run(*line, "--go")
    assert (unseen.code, "not seen a preview" in unseen.err) == (3, True)
    assert rock.run(*line).code == 0
    (rock.server / "extensions" / "tarline" / "tallies.json").unlink()
    keeper = rock.server / "outer-skerries" / "keepers" / "0b9c7c3e-0000-4000-8000-000000000001.json"
    keeper.write_text("{}")
    again = rock.run(*line, "--go")
    assert again.code == 3
    assert f"players: {keeper.relative_to(rock.server)} would go now and would not before" in again.err
    assert "tallies.json would have gone and is not there now" in again.err
    assert {**tree_state(rock.server)}.keys() - state.keys() == {str(keeper.relative_to(rock.server))}
    shutil.copytree(rock.server, rock.server.with_name("before"))
    assert rock.run(*line, "--go").code == 0
    assert not keeper.exists()
    shutil.copytree(rock.server.with_name("before"), rock.server, dirs_exist_ok=True)
    spent = rock.run(*line, "--go")
    assert (spent.code, "not seen a preview" in spent.err) == (3, True), spent.err


# --- values --------------------------------------------------------------------------------------


def chosen(keep: Keep, seed: str, *earlier: Wiped) -> str:
    return values.choose(keep.config, FolderTree(keep.server), ["map"], earlier, Asked(seed), NOW).seed


def test_seeds_are_drawn_from_the_range_and_never_one_used_lately(keep: Keep) -> None:
    keep = add(keep, "[wipe]\nseed-range = [1, 4]\nunused-for = 2")
    earlier = [Wiped(NOW, "1", "4"), Wiped(NOW, "2", "1"), Wiped(NOW, "3", "2")]
    assert {chosen(keep, "random", *earlier) for _ in range(40)} == {"4"}
    with pytest.raises(Refused, match="every seed from 1 to 4"):
        chosen(add(keep, ""), "random", *earlier, Wiped(NOW, "4", "1"), Wiped(NOW, "2", "3"))
    with pytest.raises(Refused, match="used within the last 2 wipes"):
        chosen(keep, "3", *earlier)
    for wrong in ("5", "0", "-1", "one"):
        with pytest.raises(UsageError, match="seed"):
            chosen(keep, wrong)
    assert chosen(keep, "same") == "770421"


def test_seeds_of_a_list_are_taken_in_turn(keep: Keep) -> None:
    keep = add(keep, '[wipe]\nseed = "list"\nseeds = ["11", "22", "33"]\nunused-for = 1')
    earlier: list[Wiped] = []
    found = []
    for _ in range(5):
        found.append(chosen(keep, "", *earlier))
        earlier.append(Wiped(NOW, found[-1]))
    assert found == ["11", "22", "33", "11", "22"]


def test_the_range_is_learned_from_the_comment_above_the_seed(keep: Keep) -> None:
    script = keep.server / "cast-off.sh"
    script.write_text(script.read_text().replace("# the chart:", "# a seed is from 1 to 65,535; the chart:"))
    assert values.limits_of(keep.config, FolderTree(keep.server)) == (1, 65535)
    with pytest.raises(UsageError, match="out of the engine's range, 1 to 65535"):
        chosen(keep, "65536")


def test_used_seeds_are_those_of_wipes_that_were_not_taken_back(keep: Keep) -> None:
    first = request_of(keep, "players", asked=Asked("111"))
    carry_out(keep, first)
    with closing(Store(keep.store_folder)) as store:
        undo.undo(keep, store, undo.to_undo(keep, store, None), lambda: NOW)
    assert wipe_preview.wipes(Journal(keep.folder)) == []
    carry_out(keep, request_of(keep, "players", asked=Asked("222")))
    (only,) = wipe_preview.wipes(Journal(keep.folder))
    assert (only.seed, only.left, only.when, only.scopes) == ("222", "770421", NOW, ("players",))


def test_values_are_set_in_settings_and_script_and_secrets_stay_unsaid(keep: Keep, tmp_path: Path) -> None:
    keep = add(
        keep,
        """[wipe]
name = "Gannet Rock, tide {number}"
size = ["2048", "8192"]
earlier = [2026-04-03, 2026-05-01]
[wipe.set."keeper.properties"]
greeting = "Tide {number} since {date}, {scopes} wiped, seed {seed}"
join-word = { env = "JOIN" }
""",
    )
    request = request_of(keep, "players", "progress", asked=Asked("random"))
    found = wipe_preview.preview(keep, request, {"JOIN": "open sesame"}, NOW)
    with pytest.raises(Refused, match="JOIN is not set"):
        wipe_preview.preview(keep, request, {}, NOW)
    assert "open sesame" not in json.dumps([found.outcome, to_json(request)])
    carry_out(keep, request, {"JOIN": "open sesame"})
    script, settings = ((keep.server / name).read_text() for name in ("cast-off.sh", "keeper.properties"))
    seed = request.values.seed
    assert f"SEED={seed}\nSPAN=2048\n" in script
    assert 'TITLE="Gannet Rock, tide 3"' in script
    assert f"greeting=Tide 3 since 5 June 2026, players and progress wiped, seed {seed}" in settings
    assert "join-word=open sesame" in settings
    journal = (keep.folder / "journal.db").read_bytes() + b"".join(
        p.read_bytes() for p in keep.folder.glob("journal.db-*")
    )
    assert b"open sesame" not in journal


@pytest.mark.parametrize(
    ("text", "wrong"),
    [
        ('[wipe]\nseed = "list"\nseeds = []', "this one is empty"),
        ('[wipe]\nseeds = ["9"]\nseed-range = [1, 5]', "out of the engine's range"),
        ("[wipe]\nseed-range = [5, 1]", "the least and the most"),
        ('[wipe]\nname = "Rock {tide}"', "no placeholder {tide}"),
        ('[wipe]\nname = "Rock {number"', "make no sense"),
        ('[wipe]\nname = "Rock {number.real}"', "no placeholder"),
        ('[wipe.set."../../etc/passwd"]\nx = "y"', "leads out of the server folder"),
        ('[scopes.wild]\nfiles = ["../other/**"]', "leads out of the server folder"),
        ('[scopes.wild]\nfiles = ["/srv/x"]', "leads out of the server folder"),
        ('[scopes.wild]\nfiles = ["C:\\\\x"]', "leads out of the server folder"),
        ("[scopes.wild]", "clears nothing"),
        ('[scopes.wild]\nrecords = [{ file = "a.json" }]', "lacks the key 'at'"),
        ('[scopes.wild]\nrecords = [{ file = "a.json", at = "*", where = "paid" }]', "no condition"),
        ('[[survives]]\nname = "x"', "nothing survives by this"),
        ('[wipe.unsorted]\n"attic/*" = "burn"', "'burn' is no choice here"),
        ('[[webhook]]\nname = "x"', "where the address stands"),
        ('[[webhook]]\nname = "x"\naddress = { env = "X" }\nbody = { text = "{who}" }', "no placeholder {who}"),
    ],
)
def test_what_cannot_be_meant_is_told_with_its_line(keep: Keep, text: str, wrong: str) -> None:
    with pytest.raises(UnreadableInput) as caught:
        add(keep, text)
    assert any(wrong in fault.what and fault.place and fault.place.line for fault in caught.value.faults), str(
        caught.value
    )


@pytest.mark.parametrize(
    ("scope", "wrong"),
    [
        ('files = ["nowhere/**"]', "would clear nothing"),
        ('files = ["**"]', "would clear everything"),
        ('rows = [{ database = "**/logbook.*.db", table = "lernt" }]', "no such table: lernt"),
        ('rows = [{ database = "**/logbook.*.db", table = "learned", where = "1; attach" }]', "learned"),
        (
            """rows = [{ database = "**/logbook.*.db", table = "learned", where = '"sort" <> "knots"' }]""",
            "no such column: sort",
        ),
        ('rows = [{ database = "keeper.properties", table = "x" }]', "no SQLite database"),
        ('records = [{ file = "una-notes.txt", at = "*" }]', "no keys and values"),
    ],
)
def test_a_scope_that_cannot_be_is_refused_and_touches_nothing(keep: Keep, scope: str, wrong: str) -> None:
    state = tree_state(keep.server)
    keep = add(keep, f"[scopes.wild]\n{scope}")
    with pytest.raises((Refused, UnreadableInput), match=wrong):
        wipe_preview.preview(keep, request_of(keep, "wild"), {}, NOW)
    with pytest.raises((Refused, UnreadableInput)):
        carry_out(keep, request_of(keep, "wild"))
    assert tree_state(keep.server) == state
    assert Journal(keep.folder).waiting() is None


def test_what_is_unsorted_is_never_wiped_unasked(keep: Keep) -> None:
    """A scope may name it: it stays, is told, and goes only when keep.toml says so too."""
    (keep.server / "attic").mkdir()
    (keep.server / "attic" / "old.chest").write_text("gold")
    keep = add(keep, '[scopes.wild]\nfiles = ["attic/**", "outer-skerries/keepers/*.json"]')
    request = request_of(keep, "wild")
    found = wipe_preview.preview(keep, request, {}, NOW).cleared.scopes[0]
    assert [(one.path, one.why, one.count) for one in found.stays] == [("attic/old.chest", UNASKED, 1)]
    assert found.files and "attic/old.chest" not in found.files
    carry_out(keep, request)
    assert (keep.server / "attic" / "old.chest").read_text() == "gold"
    assert not list((keep.server / "outer-skerries" / "keepers").glob("*.json"))
    with pytest.raises(Refused, match=r"all that it reaches stays: attic/old\.chest \(no role covers it") as caught:
        wipe_preview.preview(keep, request, {}, NOW)
    assert "--unsorted 'GLOB=clear'" in caught.value.faults[0].hint
    (keep.server / "attic" / "older.chest").write_text("silver")
    with pytest.raises(Refused, match=r"attic/old\.chest and 1 more \(no role covers it"):
        wipe_preview.preview(keep, request, {}, NOW)
    keep = add(keep, '[wipe.unsorted]\n"attic/*" = "clear"')
    carry_out(keep, request_of(keep, "wild"))
    assert not (keep.server / "attic" / "old.chest").exists()


def test_an_unknown_scope_is_told_with_the_nearest(keep: Keep) -> None:
    with pytest.raises(UsageError) as caught:
        request_of(keep, "playrs")
    assert caught.value.faults[0].hint == "did you mean 'players'?"


def test_nothing_is_cleared_when_its_snapshot_cannot_be_read_back(keep: Keep, monkeypatch: pytest.MonkeyPatch) -> None:
    state = tree_state(keep.server)
    real = wipe.verify

    def damaged(store: Store, only: str | None = None, **further: Any) -> Any:
        pack = max(store.packs.glob("*.pack"), key=lambda path: path.stat().st_size)
        data = bytearray(pack.read_bytes())
        data[len(data) // 2] ^= 1
        pack.write_bytes(data)
        return real(store, only, **further)

    monkeypatch.setattr(wipe, "verify", damaged)
    with pytest.raises(RunFailed, match="could not be read back"):
        carry_out(keep, request_of(keep, "players"))
    assert tree_state(keep.server) == state


# --- with the engine running ---------------------------------------------------------------------------


@pytest.mark.long
def test_a_wipe_of_a_running_server_from_the_warning_to_the_announcement(rock: Rock, tmp_path: Path) -> None:
    with receiving(tmp_path) as receiver:
        with (rock.keep / "keep.toml").open("a") as told:
            told.write(
                '\n[wipe]\nseed = "random"\n[announce]\nfile = "said.jsonl"\ndone = "{event} of {server} is done"\n'
                '[[webhook]]\nname = "chat"\naddress = { env = "HOOK" }\nbody = { text = "{text}", by = "keep" }\n'
            )
        assert rock.run("start", "--go").code == 0
        assert rock.run("wipe", "map", "players").code == 1  # perches and tallies are not wiped with them
        done = rock.run("wipe", "map", "players", "--go", HOOK=receiver.address)
    log = (rock.server / "log" / "latest.log").read_text()
    seed = next(word for word in (rock.server / "cast-off.sh").read_text().split() if word.startswith("SEED="))[5:]
    assert f"chart seed {seed}," in log, done.err
    assert seed != "770421"
    assert f"the log tells the seed {seed}" in done.out
    assert "moor your boats" in (rock.server / "log" / "earlier.2.log").read_text()
    assert "a cry over the water: Wipe 1 of Gannet Rock is done" in log
    posted = json.loads((tmp_path / "posted.jsonl").read_text())
    assert posted == {"text": "Wipe 1 of Gannet Rock is done", "by": "keep"}
    assert json.loads((rock.keep / "said.jsonl").read_text())["text"] == posted["text"]
    everything = (
        done.out
        + done.err
        + "".join(path.read_text(errors="replace") for path in rock.keep.rglob("*") if path.is_file())
    )
    assert receiver.path not in everything
    assert rock.run("stop", "--now", "--go").code == 0
    back = rock.run("undo", "--go")
    assert back.code == 0, back.err
    assert "SEED=770421" in (rock.server / "cast-off.sh").read_text()
    assert len(list((rock.server / "outer-skerries" / "keepers").iterdir())) == 4


@pytest.mark.parametrize(
    ("fault", "told"),
    [("crash", "ended after"), ("refuse-save", "ended after"), ("hang", "nothing moved")],
)
@pytest.mark.long
def test_a_start_that_fails_brings_everything_back(rock: Rock, fault: str, told: str) -> None:
    path = rock.keep / "keep.toml"
    path.write_text(path.read_text().replace("[start]", '[start]\nsilent = "2 s"'))
    line = ("wipe", "map", "players", "--seed", "4711")
    state = tree_state(rock.server)
    assert rock.run(*line).code == 1
    done = rock.run(*line, "--go", SKERRYLIGHT_FAULTS=fault)
    assert (done.code, told in done.err) == (5, True), done.err
    assert tree_state(rock.server) == state


def test_a_server_that_begins_with_another_seed_is_taken_back(rock: Rock) -> None:
    script = rock.server / "cast-off.sh"
    script.write_text(script.read_text().replace('--seed "$SEED"', "--seed 99"))
    state = contents(rock.server / "outer-skerries")
    line = ("wipe", "map", "--seed", "4711")
    rock.run(*line)
    done = rock.run(*line, "--go")
    assert (done.code, "began with the seed 99, not 4711" in done.err) == (5, True), done.err
    assert contents(rock.server / "outer-skerries") == state


def test_what_was_made_by_hand_and_is_gone_after_the_start_brings_all_back(rock: Rock) -> None:
    script = rock.server / "cast-off.sh"
    script.write_text(script.read_text().replace("exec ", "rm extensions/tarline/shops.json\nexec "))
    line = ("wipe", "players")
    rock.run(*line)
    done = rock.run(*line, "--go")
    assert (done.code, "extensions/tarline/shops.json" in done.err) == (5, True), done.err
    assert (rock.server / "extensions" / "tarline" / "shops.json").exists()
    assert len(list((rock.server / "outer-skerries" / "keepers").iterdir())) == 4


def test_players_of_before_that_are_there_again_after_the_start_are_told(rock: Rock, tmp_path: Path) -> None:
    keepers = rock.server / "outer-skerries" / "keepers"
    first, *_ = sorted(keepers.iterdir())
    shutil.copy(first, tmp_path / first.name)
    script = rock.server / "cast-off.sh"
    again, own = f"cp {tmp_path / first.name} outer-skerries/keepers/", "touch outer-skerries/keepers/new.kpr"
    script.write_text(script.read_text().replace("exec ", f"{again}\n{own}\nexec "))
    rock.run("wipe", "players")
    done = rock.run("wipe", "players", "--go")
    assert f"1 players of before are there again: outer-skerries/keepers/{first.name}" in done.out, done.out + done.err


@pytest.mark.long
def test_killed_at_any_moment_a_wipe_is_taken_back_or_finished(rock: Rock) -> None:
    """The engine's start included; its preview is asked for anew each time, as a run that ended forgets it."""
    line = ["wipe", "map", "players", "extension-data", "--seed", "4711"]
    names = ("snapshot", "verify", "clear", "values", "start", "announce")
    reached = killed_at_each(rock, [*line, "--go"], names, lambda: rock.run(*line))
    assert len(reached) >= 3, reached


def test_keeping_the_map_over_a_release_tells_what_it_takes(rock: Rock) -> None:
    told = rock.run("wipe", "--skip", "--to", "4.3")
    assert told.code == 1
    assert "the defaults of 4.3 are not recorded" in told.out
    assert rock.run("defaults", "record", "4.3", "releases/skerrylight-4.3.zip").code == 0
    told = rock.run("wipe", "--skip", "--to", "4.3")
    assert told.code == 0
    for line in ("seed 770421", "size 4096", "4.3 reads number 18", "4.3 passes over saves of format 17", "undo --go"):
        assert line in told.out
    shutil.copytree(rock.server / "outer-skerries", rock.place / "fresh")
    tile = rock.place / "fresh" / "chart" / "strip.0.0.sea"
    tile.write_bytes(bytes(4096))
    same = rock.run("wipe", "--skip", "--to", "4.3", "--fresh", "fresh", "--json").json["keeping"]["fresh"]
    assert (same["tiles"], same["sectors"], same["same"]) == (4, 4, 3)
    for path in (rock.place / "fresh" / "chart").iterdir():
        path.write_bytes(bytes(4096))
    other = rock.run("wipe", "--skip", "--to", "4.3", "--fresh", "fresh")
    assert "not one of 4 sectors in 4 tiles the same" in other.out
    assert rock.run("wipe", "--skip", "--to", "9.9").code == 1


# --- announcements ----------------------------------------------------------------------------------------


@contextmanager
def receiving(folder: Path, faults: str = "") -> Iterator[Receiver]:
    receiver = Receiver(folder, faults)
    thread = threading.Thread(target=receiver.serve_forever, kwargs={"poll_interval": 0.02}, daemon=True)
    thread.start()
    try:
        yield receiver
    finally:
        receiver.shutdown()
        receiver.server_close()


@pytest.mark.parametrize(
    ("faults", "tries", "why", "posts"),
    [
        ("", 3, "", 1),
        ("fail=1", 3, "", 2),
        ("fail=9", 2, "it answered 503 (2 tries)", 2),
        ("refuse", 3, "it answered 403", 1),
        ("hang", 1, "no answer within 1 second", 1),
        ("drip", 1, "no answer within 1 second", 1),
    ],
)
def test_a_webhook_is_tried_again_while_that_may_help(
    tmp_path: Path, faults: str, tries: int, why: str, posts: int
) -> None:
    with receiving(tmp_path, faults) as receiver:
        hook = Webhook("chat", "HOOK", tries=tries, limit=timedelta(seconds=1))
        assert post(hook, receiver.address, {"text": "ahoy"}) == why
        assert receiver.count == posts


@pytest.mark.parametrize(
    "address",
    ["ftp://x.example/secret-path", "secret-path", "http://[::1/secret-path", "http://127.0.0.1:9/secret-path"],
)
def test_an_address_that_cannot_be_posted_to_is_told_without_naming_it(address: str) -> None:
    why = post(Webhook("chat", "HOOK", tries=1), address, {})
    assert why
    assert "secret-path" not in why


def test_texts_are_filled_in_and_one_failing_way_does_not_stop_the_others(keep: Keep, tmp_path: Path) -> None:
    keep = add(
        keep,
        '[announce]\nfile = "said.jsonl"\n[[webhook]]\nname = "dead"\naddress = { env = "DEAD" }\ntries = 1\n'
        '[[webhook]]\nname = "chat"\naddress = { file = "' + str(tmp_path / "hook") + '" }\n'
        'body = { rows = ["{text}", { left = "{time}" }], plain = 4 }',
    )
    with receiving(tmp_path) as receiver:
        (tmp_path / "hook").write_text(receiver.address)
        (tmp_path / "hook").chmod(0o600)
        message = Message('the "big" wipe', "map and players", NOW + timedelta(hours=1), 3)
        told = announce.announce(keep, {}, message, "{event} {scopes} {number} in {time}, {utc}", NOW)
    assert {one.way: one.why for one in told} == {
        "file said.jsonl": "",
        "webhook chat": "",
        "webhook dead": "its address is not there: DEAD is not set in the environment",
    }
    text = 'the "big" wipe map and players 3 in 1 hour, 2026-06-05 19:00 UTC'
    assert json.loads((tmp_path / "posted.jsonl").read_text()) == {"rows": [text, {"left": "1 hour"}], "plain": 4}


@pytest.mark.parametrize(
    ("left", "words"),
    [
        (timedelta(days=1), "1 day"),
        (timedelta(days=1, minutes=-3), "1 day"),
        (timedelta(hours=23), "23 hours"),
        (timedelta(hours=1, seconds=-40), "1 hour"),
        (timedelta(minutes=55), "55 minutes"),
        (timedelta(minutes=90), "90 minutes"),
        (timedelta(minutes=10, seconds=-5), "10 minutes"),
        (timedelta(seconds=30), "30 seconds"),
        (timedelta(seconds=-4), "a moment"),
        (timedelta(days=6, hours=20), "7 days"),
    ],
)
def test_the_time_left_in_words(left: timedelta, words: str) -> None:
    assert time_left(left) == words


def test_a_wipe_that_is_due_is_carried_out_and_announced_ahead(rock: Rock, tmp_path: Path) -> None:
    with (rock.keep / "keep.toml").open("a") as told:
        told.write(
            '\n[wipe]\nseed = "random"\n[announce]\nfile = "said.jsonl"\n[[event]]\nname = "our wipe"\nkind = "wipe"\n'
            'when = "second Friday 19:00"\nscopes = ["map", "players", "extension-data"]\ntell = ["1 day"]\n'
            'set = { "keeper.properties" = { greeting = "Tide {number}" } }\n'
        )
    keep = Keep(rock.keep)
    clock = {"now": datetime(2026, 6, 11, 12, tzinfo=UTC)}

    def context(store: Store, asked: Run) -> RunContext:
        environment = {"ROCK_CONSOLE": "x", "SKERRYLIGHT_PACE": "0.1", "PATH": "/usr/bin:/bin:/usr/local/bin"}
        return RunContext(keep, store, Journal(keep.folder), asked, lambda: clock["now"], environment=environment)

    hands = due.Hands(context, lambda: clock["now"], {"ROCK_CONSOLE": "x"})
    assert due.do(keep, hands) == []
    clock["now"] = datetime(2026, 6, 11, 19, 5, tzinfo=UTC)
    assert [(one.part, one.state) for one in due.do(keep, hands)] == [("tell 1 day", "told")]
    assert json.loads((rock.keep / "said.jsonl").read_text())["text"].startswith(
        "our wipe in 1 day (Friday 12 June 19:00"
    )
    clock["now"] = datetime(2026, 6, 12, 19, 2, tzinfo=UTC)
    (came,) = due.do(keep, hands)
    assert (came.event, came.state) == ("our wipe", "done"), came.words
    assert "greeting=Tide 1" in (rock.server / "keeper.properties").read_text()
    assert list((rock.server / "outer-skerries" / "keepers").iterdir()) == []
    assert due.do(keep, hands) == []
    assert [one.number for one in Journal(keep.folder).runs()] == [1]


def test_what_waits_until_few_players_are_on(rock: Rock) -> None:
    with (rock.keep / "keep.toml").open("a") as told:
        told.write('\n[[event]]\nname = "nightly"\nkind = "snapshot"\nwhen = "daily 04:00"\nplayers-at-most = 1\n')
    keep = Keep(rock.keep)
    event = keep.config.calendar.events[0]
    assert due.players_online(keep) == 0
    assert rock.run("start", "--go").code == 0
    with (rock.server / "log" / "latest.log").open("a") as log:
        log.write("20:00:00 Ann comes ashore\n20:01:00 Bo comes ashore\n")
    assert due.why_not_yet(keep, event) == "2 players are there, 1 at most"
    with (rock.server / "log" / "latest.log").open("a") as log:
        log.write("20:02:00 Ann casts off\n")
    assert due.why_not_yet(keep, event) == ""


# --- attendance ---------------------------------------------------------------------------------------------


def logs_of(keep: Keep, half_life: float, wipes: list[date], days: int = 14) -> list[date]:
    """Logs of some weeks in which attendance falls with a half-life; one file a day, without dates in it."""
    for at, wiped in enumerate(wipes):
        for day in range(days):
            when = datetime(wiped.year, wiped.month, wiped.day, 12, tzinfo=keep.config.tz) + timedelta(days=day)
            count = round(40 * 2 ** (-day / half_life))
            lines = [f"18:{n % 60:02}:00 Keeper{n} comes ashore" for n in range(count)]
            lines += [f"23:{n % 60:02}:10 Keeper{n} casts off" for n in range(count)]
            lines += ["00:20:00 the lamp flickers"]  # after midnight
            path = keep.server / "log" / f"earlier.{at * days + day + 10}.log"
            path.write_text("18:00:00 Skerrylight 4.2.0 wakes\n" + "\n".join(lines) + "\n")
            end = (when.replace(hour=0, minute=30) + timedelta(days=1)).timestamp()
            import os

            os.utime(path, (end, end))
    return wipes


@pytest.mark.parametrize("counts", [(9, 4, 3, 0, 1, 0, 0, 2, 0, 0), (40, 5, 1, 0, 0, 0), (3, 3, 2, 3, 1, 2, 0, 1)])
def test_the_half_life_is_the_likeliest_one(counts: tuple[int, ...]) -> None:
    """Of players who fall off exponentially and are counted by chance: looked for by trying, in narrowing steps."""

    def likelihood(slope: float) -> float:
        falls = [math.exp(slope * day) for day in range(len(counts))]
        return sum(slope * day * count for day, count in enumerate(counts)) - sum(counts) * math.log(sum(falls))

    low, high = -5.0, 0.0
    for _ in range(100):
        third = (high - low) / 3
        low, high = (low + third, high) if likelihood(low + third) < likelihood(high - third) else (low, high - third)
    found = fit([Tide(date(2026, 11, 1), tuple(enumerate(counts)))])
    assert found is not None
    assert found.half_life == pytest.approx(-math.log(2) / low, rel=1e-6)


def test_the_half_life_of_attendance_is_found_and_a_rhythm_suggested(keep: Keep) -> None:
    wipes = logs_of(keep, 9.0, [date(2026, 1, 2), date(2026, 1, 30), date(2026, 2, 27)], 28)
    (keep.server / "log" / "latest.log").unlink()
    lines, seen = visits(FolderTree(keep.server), keep.config)
    found = attendance(by_day(lines, seen), [], keep.config.tz, wipes)
    assert found.rhythm is not None, found.why
    assert found.rhythm.least < 9 < found.rhythm.most
    assert abs(found.rhythm.half_life - 9) < 0.4
    assert (found.rhythm.fits, found.between, found.rhythm.wipes) == (14, 28, 3)
    assert abs(found.rhythm.half_by - 9) <= 1
    assert [count for _, count in found.tides[0].counts][:2] == [40, 37]


def test_an_uneven_fall_has_a_wider_uncertainty() -> None:
    even = [Tide(date(2026, 1, 1), tuple((day, round(30 * 2 ** (-day / 7))) for day in range(14))) for _ in range(4)]
    rough = [
        Tide(date(2026, 1, 1), tuple((day, count + (9 if (day + at) % 3 else 0)) for day, count in tide.counts))
        for at, tide in enumerate(even)
    ]
    one, other = fit(even), fit(rough)
    assert one is not None
    assert other is not None
    assert other.most - other.least > one.most - one.least
    assert fit([Tide(date(2026, 1, 1), tuple((day, 5 + day) for day in range(10)))] * 3) is None


@pytest.mark.parametrize(
    ("wipes", "why"),
    [([], "too few wipes to say: 0"), ([date(2026, 1, 2)], "too few wipes to say: 1 with 4 days")],
)
def test_little_data_is_said_to_be_little(keep: Keep, wipes: list[date], why: str) -> None:
    logs_of(keep, 9.0, [date(2026, 1, 2)], 10)
    lines, seen = visits(FolderTree(keep.server), keep.config)
    found = attendance(by_day(lines, seen), [], keep.config.tz, wipes)
    assert (found.rhythm, why in found.why) == (None, True), found.why


def test_the_attendance_command_draws_or_says_why_not(keep: Keep, tmp_path: Path) -> None:
    def run(*words: str) -> Ran:
        return run_program("--keep", str(keep.folder), *words, cwd=tmp_path)

    told = run("calendar", "--attendance", "a.png")
    assert (told.code, "too few wipes" in told.out, (tmp_path / "a.png").exists()) == (1, True, False)
    wipes = logs_of(keep, 6.0, [date(2026, 1, 2), date(2026, 1, 16), date(2026, 1, 30)])
    add(keep, f"[wipe]\nearlier = [{', '.join(map(str, wipes))}]")
    told = run("calendar", "--attendance", "a.png")
    assert told.code == 0, told.err
    assert "lost half of their players by day 6" in told.out
    assert "weekly rhythm fits better" in told.out
    assert (tmp_path / "a.png").read_bytes()[:4] == b"\x89PNG"


def test_players_online_are_counted_since_the_last_start(keep: Keep) -> None:
    lines = [
        "Ann comes ashore",
        "Bo comes ashore",
        "Skerrylight 4.2.0 wakes",
        "Ann comes ashore",
        "Cy comes ashore",
        "Cy casts off",
    ]
    assert online(lines, keep.config) == 1
    keep = replaced(keep, "left = '(?P<name>", "# left = '(?P<name>")
    assert online(lines, keep.config) is None
