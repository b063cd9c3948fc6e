"""Recipes, the values they change, carrying, bringing in worlds, landmarks."""

from __future__ import annotations

import json
import shutil
import sqlite3
import textwrap
import zipfile
from collections.abc import Callable
from contextlib import closing
from decimal import Decimal
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from emberkeep.databases import sqlite
from emberkeep.databases.sqlite import statements
from emberkeep.documents import edit, reshape
from emberkeep.documents.reshape import Shape
from emberkeep.errors import Place, Refused, UnreadableInput
from emberkeep.fs.folder_tree import FolderTree
from emberkeep.fs.overlay import Overlay
from emberkeep.fs.trees import Kind, NoTree
from emberkeep.keep.config import Config
from emberkeep.keep.keep import Keep
from emberkeep.keep.tables.server import World
from emberkeep.keep.tables.updates import Landmark
from emberkeep.migrating import apply
from emberkeep.migrating.chain import chain
from emberkeep.migrating.recipe import Recipe, RecipeStep, Remove, Renumber, read
from emberkeep.operations.flows import migrate, update, update_request
from emberkeep.operations.record.facts import Run
from emberkeep.operations.record.journal import Journal
from emberkeep.store.store import Store
from emberkeep.survey import landmarks
from tests.conftest import Rock, tree_state
from tests.helpers import NOW, new_keep

# --- single values -----------------------------------------------------------------

FILES = {
    "a.properties": (b"# top\r\nport = 1\r\n\r\n! note\r\nname=old\\u0020name\r\n", "name", "old name"),
    "a.ini": (b"; top\n[net]\nport = 1\n\n[other]\nname = x ; y\n", "net.port", "1"),
    "a.json": (b'{\n  // note\n  "net": {"port": 1, "hosts": [1, 2]},\n  "name": "x"\n}\n', "net.port", "1"),
    "a.yaml": (b"net:\n  port: 1 # note\n  name: 'x'\nlist: [a, b]\n", "net.port", "1"),
    "a.toml": (b'top = 1\n\n[net]\nport = 1 # note\nname = "x"\n', "net.port", "1"),
    "a.sh": (b'#!/bin/sh\nexport SEED=1\nexec ./x --port 1 --name "a b" \\\n  +map two\n', "SEED", "1"),
    "a.cmd": (b'@echo off\r\nset SEED=1\r\nx.exe /port:1 --name "a b"\r\n', "SEED", "1"),
}


@pytest.mark.parametrize("name", FILES)
def test_a_value_is_read_and_set_and_nothing_else_moves(name: str) -> None:
    data, key, was = FILES[name]
    assert edit.value(name, data, key) == was
    assert edit.value(name, data, "no.such") is None
    changed = edit.set_value(name, data, key, "2")
    assert edit.value(name, changed, key) == "2"
    assert edit.set_value(name, changed, key, was) == data or name == "a.properties"
    before, after = data.split(b"\n"), changed.split(b"\n")
    assert len(before) == len(after)
    assert sum(one != other for one, other in zip(before, after, strict=True)) == 1
    assert edit.set_value(name, data, key, "2", unless_present=True) == data


@pytest.mark.parametrize("name", [name for name in FILES if not name.endswith((".sh", ".cmd"))])
@pytest.mark.parametrize("value", ["on", "7", "true", "a b # c", 'said "so"', "ünï"])
def test_a_new_value_is_added_and_taken_out_again(name: str, value: str) -> None:
    data, key, _ = FILES[name]
    new = f"{key.rpartition('.')[0]}.fresh".lstrip(".")
    added = edit.set_value(name, data, new, value)
    assert edit.value(name, added, new) == value
    assert edit.remove_key(name, added, new) == data
    assert (
        edit.value(name, edit.rename_key(name, added, new, "other"), f"{key.rpartition('.')[0]}.other".lstrip("."))
        == value
    )


@given(
    st.text(st.characters(codec="utf-8", exclude_categories=("Cc", "Cs", "Zl", "Zp")), min_size=1).filter(
        lambda t: t == t.strip()
    )
)
def test_any_text_survives_in_json_and_toml(value: str) -> None:
    for name in ("a.json", "a.toml"):
        data = edit.set_value(name, FILES[name][0], "net.fresh", value)
        assert edit.value(name, data, "net.fresh") == value


@pytest.mark.parametrize("value", ["[;]", "[:]", "{a}", "[01]", "007", "[1", "{}}"])
def test_what_only_looks_like_a_value_is_a_text(value: str) -> None:
    for name in ("a.json", "a.toml"):
        assert edit.value(name, edit.set_value(name, FILES[name][0], "net.fresh", value), "net.fresh") == value
    assert b'"fresh": [1, 2]' in edit.set_value("a.json", FILES["a.json"][0], "net.fresh", "[1, 2]")


def test_arguments_of_launch_scripts() -> None:
    data = FILES["a.sh"][0]
    assert edit.value("a.sh", data, "--name") == "a b"
    assert b'--name "c d"' in edit.set_value("a.sh", data, "--name", "c d")
    assert b'--port "1 2"' in edit.set_value("a.sh", data, "--port", "1 2")
    assert b"--port" not in edit.remove_key("a.sh", data, "--port")
    assert b"SEED" not in edit.remove_key("a.sh", data, "SEED")
    with pytest.raises(UnreadableInput, match="there is no --seed"):
        edit.set_value("a.sh", data, "--seed", "1")


def test_scaling_keeps_the_spelling() -> None:
    data = b'{"a": 10, "b": 0.50, "c": "x", "d": "4"}'
    assert edit.scale_value("a.json", data, "a", Decimal("1.5")) == data.replace(b"10", b"15")
    assert b'"b": 1.00' in edit.scale_value("a.json", data, "b", Decimal(2))
    assert b'"d": "8"' in edit.scale_value("a.json", data, "d", Decimal(2))
    with pytest.raises(UnreadableInput, match="is no number"):
        edit.scale_value("a.json", data, "c", Decimal(2))
    assert edit.scale_value("a.json", data, "none", Decimal(2)) == data


def test_records_take_a_new_shape_in_every_format() -> None:
    shape = Shape({"bag": "satchel"}, {"rank": {"mate": "hand"}}, {"salt": "0"}, ("cold",), {"warmth": Decimal(2)})
    made, count = reshape.reshaped("k.json", b'{"bag": {"rope": 1}, "rank": "mate", "cold": 1, "warmth": 5}', "", shape)
    assert json.loads(made) == {"satchel": {"rope": 1}, "rank": "hand", "warmth": 10, "salt": 0}
    assert count == 1
    made, count = reshape.reshaped("k.json", b'[{"bag": 1, "salt": 3}, {"x": 1}]', "[]", shape)
    assert json.loads(made) == [{"satchel": 1, "salt": 3}, {"x": 1, "salt": 0}]
    assert count == 2
    made, _ = reshape.reshaped("k.yaml", b"ann:\n  bag: 3\n  rank: mate\nbob:\n  cold: 1\n", "*", shape)
    assert made == b"ann:\n  satchel: 3\n  rank: hand\n  salt: 0\nbob:\n  salt: 0\n"
    xml = b'<s>\n  <k bag="1" cold="2"><rank>mate</rank></k>\n</s>\n'
    assert reshape.reshaped("k.xml", xml, "k", Shape({"bag": "satchel"}, {"rank": {"mate": "hand"}}, {}, ("cold",)))[
        0
    ] == (b'<s>\n  <k satchel="1"><rank>hand</rank></k>\n</s>\n')


# --- recipes ------------------------------------------------------------------------


def recipe(folder: Path, steps: str, old: str = "4.2", new: str = "4.3", name: str = "r.toml") -> Path:
    path = folder / name
    path.parent.mkdir(exist_ok=True, parents=True)
    path.write_text(f'format = 1\nfrom = "{old}"\nto = "{new}"\n{textwrap.dedent(steps)}')
    return path


@pytest.mark.parametrize(
    ("steps", "told", "line"),
    [
        ("[[step]]\nwhy = 'x'\n", "this one does none", 4),
        ("[[step]]\nremove = ['a']\nset = { file = 'a', key = 'b', value = 1 }\n", "remove and set", 4),
        ("[[step]]\nset = { file = 'a', key = 'b' }\n", "lacks the key 'value'", 5),
        ("[[step]]\nremove = ['a']\n[[step]]\nset = { file = '../a', key = 'b', value = 1 }\n", "leads out", 7),
        ("[[step]]\nmove = { from = '/etc', to = 'x' }\n", "leads out", 5),
        ("[[step]]\nremove = ['../x']\n", "leads out", 5),
        ("[[step]]\nrenumber = { in = 'w', from = 17, too = 18 }\n", "did you mean", 5),
        ("[[step]]\nrenumber = { in = 'w', from = 17, to = 18, names = 'x' }\n", "should hold {number}", 5),
        ("[[step]]\nscale = { file = 'a', key = 'b', factor = 0 }\n", "above 0", 5),
        ("[[step]]\nprogram = { command = [] }\n", "a list of arguments", 5),
        ("[[step]]\nprogram = { command = ['x'], expects = '(' }\n", "not a regular expression", 5),
        ("[[step]]\nprogram = { command = ['x'], limt = '2 hours' }\n", "did you mean", 5),
        ("[[step]]\nprogram = { command = ['x'], limit = 'long' }\n", "is no length of time", 5),
        ("[[step]]\nremove = ['a']\nwhen = 'full-moon'\n", "no condition 'full-moon'", 6),
        ("[[step]]\nremove = ['a']\nholds = ['sead']\n", "nothing that is measured", 6),
        ("[[stop]]\n", "unknown key", 4),
    ],
)
def test_a_faulty_recipe_is_told_with_file_and_line(tmp_path: Path, steps: str, told: str, line: int) -> None:
    path = recipe(tmp_path, steps)
    with pytest.raises(UnreadableInput) as caught:
        read(path)
    assert any(
        told in f"{fault.what} {fault.hint}" and fault.place and fault.place.line == line
        for fault in caught.value.faults
    ), [(str(fault), fault.hint) for fault in caught.value.faults]


def test_a_recipe_that_goes_back_and_one_from_the_future(tmp_path: Path) -> None:
    with pytest.raises(UnreadableInput, match="does not come after"):
        read(recipe(tmp_path, "", "4.3", "4.2"))
    path = tmp_path / "new.toml"
    path.write_text('format = 2\nfrom = "1"\nto = "2"\n')
    with pytest.raises(Refused, match="format 2"):
        read(path)


def test_versions_are_compared_as_versions_and_a_gap_is_refused() -> None:
    def one(old: str, new: str) -> Recipe:
        return Recipe(Path("r") / "x.toml", old, new, "", ())

    known = [one("4.9", "4.10"), one("4.10", "4.11.0"), one("4.8", "4.9")]
    assert [item.new for item in chain(known, "4.8.0", "4.11")] == ["4.9", "4.10", "4.11.0"]
    assert chain(known, "4.10.0", "4.10") == []
    with pytest.raises(Refused, match="never goes back"):
        chain(known, "4.10", "4.9")
    with pytest.raises(Refused, match=r"from 4.11.0 towards 4.12 \(there are"):
        chain(known, "4.9", "4.12")
    with pytest.raises(Refused, match="there is none at all"):
        chain([], "4.9", "4.12")


def test_sql_is_cut_into_statements_with_their_lines() -> None:
    text = "-- first\ncreate table a (x text); insert into a values ('x;y');\n\nbegin;\ncreate trigger t after insert on a begin\n  update a set x = 1;\nend;\ncommit;\nselect 1"
    assert [(line, statement.strip()[:14]) for line, statement in statements(text)] == [
        (1, "-- first\ncreat"),
        (2, "insert into a "),
        (5, "create trigger"),
        (9, "select 1"),
    ]


def migrated(rock: Rock, steps: str, *words: str) -> object:
    shutil.rmtree(rock.keep / "recipes")
    recipe(rock.keep / "recipes", steps)
    return rock.run("migrate", "--from", "4.2", "--to", "4.3", *words)


def test_every_kind_of_step_on_a_server(rock: Rock) -> None:
    (rock.server / "tool.sh").write_text("#!/bin/sh\necho 1 > outer-skerries/made\necho all done\n")
    (rock.server / "tool.sh").chmod(0o755)
    before = tree_state(rock.server)
    steps = """
    [when]
    rock = { file = "keeper.properties", key = "waters", is = "outer-skerries" }
    sample = { file = "keeper.properties", key = "waters", is = "sample" }
    [[step]]
    move = { from = "tidepool", to = "pool" }
    [[step]]
    copy = { from = "welcome.json", to = "let-in.json" }
    [[step]]
    remove = ["old-chart.*"]
    when = "rock"
    [[step]]
    remove = ["**"]
    when = "sample"
    [[step]]
    set = { file = "mission/harbour.toml", key = "harbour.toll", value = 3 }
    [[step]]
    rename-key = { file = "keeper.properties", key = "greeting", to = "welcome" }
    [[step]]
    remove-key = { file = "keeper.properties", key = "storms" }
    [[step]]
    scale = { file = "keeper.properties", key = "most-keepers", factor = 1.5 }
    [[step]]
    program = { command = ["./tool.sh"], expects = "all done", changes = ["outer-skerries/**"] }
    [[step]]
    set = { file = "keeper.properties", key = "after-tool", value = true }
    changes-landmarks = ["tiles"]
    """
    shown = migrated(rock, steps, "--json")
    assert shown.code == 0, shown.err
    assert tree_state(rock.server) == before
    done = rock.run("migrate", "--from", "4.2", "--to", "4.3", "--go")
    assert done.code == 0, done.err
    settings = (rock.server / "keeper.properties").read_text()
    assert "welcome=Mind the rocks" in settings
    assert "storms" not in settings.replace("# voted", "")
    assert "most-keepers=60" in settings
    assert settings.endswith("after-tool=true\n")
    assert (rock.server / "outer-skerries" / "made").read_text() == "1\n"
    assert len(list((rock.server / "pool" / "chart").iterdir())) == 4
    assert not (rock.server / "tidepool").exists()
    assert (rock.server / "let-in.json").read_bytes() == (rock.server / "welcome.json").read_bytes()
    assert not (rock.server / "old-chart.bak").exists()
    assert "toll = 3" in (rock.server / "mission" / "harbour.toml").read_text()
    assert rock.run("undo", "--go").code == 0
    assert tree_state(rock.server) == before


@pytest.mark.parametrize(
    ("step", "told"),
    [
        ('set = { file = "cast-off.sh", key = "SEED", value = 5 }', "the seed was 770421 and would be 5"),
        ('set = { file = "keeper.properties", key = "waters", value = "x" }', "the pointer was outer-skerries"),
        ('renumber = { in = "outer-skerries", from = 16, to = 17 }', "a newer number than 16"),
        ('renumber = { in = "outer-skerries", from = 19, to = 20 }', "carries the number 19 (there: 17)"),
        ('renumber = { in = "outer-skerries", from = 17, to = 18 }', "it never goes back"),
        ('move = { from = "nothing", to = "x" }', "there is no nothing"),
        ('copy = { from = "roll.json", to = "welcome.json" }', "is there already"),
        ('records = { files = "no/*.json", drop = ["x"] }', "no file fits"),
        ('sql = { database = "outer-skerries/*.db", files = "sql/*.sql" }', "no SQL file fits"),
        ('program = { command = ["false"] }', "ended with 1"),
        ('program = { command = ["no-such-tool"] }', "cannot be run"),
        ('program = { command = ["echo", "x"], expects = "done" }', "did not print"),
        ('program = { command = ["sleep", "30"], limit = "1 s" }', "was not done within 1 second"),
        ('program = { command = ["touch", "stray"], changes = ["outer-skerries/**"] }', "does not say it may: stray"),
    ],
)
def test_a_migration_that_is_not_safe_changes_nothing(rock: Rock, step: str, told: str) -> None:
    before = tree_state(rock.server)
    done = migrated(rock, f"[[step]]\n{step}\n", "--go")
    assert done.code in (2, 3, 5), done.err
    assert told in done.err
    assert tree_state(rock.server) == before


def renumbered(root: Path, names: dict[str, str], pattern: str = "", tiles: str = "", to: int = 18) -> list[str]:
    """Paths after files named by ``names`` (with their contents) were given number ``to`` instead of 17, and notes."""
    for name, text in names.items():
        (root / name).parent.mkdir(parents=True, exist_ok=True)
        (root / name).write_text(text)
    folder = Overlay(FolderTree(root), 1)
    config = Config("x", "", "UTC", world=World(tiles=tiles))
    notes = apply.renumber(Renumber("saves", 17, to, pattern), folder, config, Place("step.toml", 4))
    return sorted(path for path, entry in folder.entries().items() if entry.kind is Kind.FILE) + notes


def test_files_take_another_number_and_nothing_else_does(tmp_path: Path) -> None:
    """A number stands between marks; two in one name are none; tiles have their own; elsewhere is not looked."""
    names = dict.fromkeys(
        ("saves/isle.17.sav", "saves/17.17.sav", "saves/a-17-17.sav", "saves/isle17.sav", "isle.17.sav"), "x"
    )
    names |= dict.fromkeys(("saves/deep/world_17.db", "saves/strip.17.0.sea"), "y")
    found = renumbered(tmp_path, names, tiles="strip.{x}.{y}.sea")
    renames = {
        "saves/isle.17.sav": "saves/isle.18.sav",
        "saves/17.17.sav": "saves/17.18.sav",
        "saves/deep/world_17.db": "saves/deep/world_18.db",
    }
    assert found == [*sorted(renames.get(name, name) for name in names), "3 files take number 18, not 17"]


def test_renumbering_never_takes_a_name_that_is_there(tmp_path: Path) -> None:
    with pytest.raises(Refused, match=r"saves/isle\.18\.sav is there already \(1 such\)"):
        renumbered(tmp_path, {"saves/isle.17.sav": "old", "saves/isle.18.sav": "new"})
    found = renumbered(
        tmp_path / "other", {"saves/isle.17.sav": "x", "saves/isle.16.sav": "older"}, "isle.{number}.sav"
    )
    assert found == ["saves/isle.16.sav", "saves/isle.18.sav", "1 file takes number 18, not 17",
                     "left with older numbers: saves/isle.16.sav"]  # fmt: skip


def test_removing_leaves_a_folder_that_still_holds_something(tmp_path: Path) -> None:
    for name in ("old/a.bak", "old/mine.txt", "gone/b.bak"):
        (tmp_path / name).parent.mkdir(exist_ok=True)
        (tmp_path / name).write_text("x")
    folder = Overlay(FolderTree(tmp_path), 1)
    recipe = Recipe(Path("x.toml"), "1", "2", "", ())
    step = RecipeStep(Remove(("old", "gone", "**/*.bak")))
    assert apply.apply(step, recipe, folder, Config("x", "", "UTC")) == []
    assert sorted(folder.entries()) == ["old", "old/mine.txt"]
    assert apply.apply(step, recipe, folder, Config("x", "", "UTC")) == []
    folder.remove("old/mine.txt")
    folder.remove("old")
    assert apply.apply(step, recipe, folder, Config("x", "", "UTC")) == ["nothing fits old, gone, **/*.bak"]


def test_the_saves_version_is_what_the_last_run_that_stands_came_to(tmp_path: Path) -> None:
    """Told, else by the journal: a run that was taken back or undone, or is of another kind, says nothing."""
    keep = new_keep(tmp_path, '[versions.engine]\npattern = "game (.+)"\nin = ["RELEASE"]')
    (keep.server / "RELEASE").write_text("game 4.2\n")
    journal = Journal(keep.folder)
    with closing(Store(keep.store_folder)) as store:
        assert migrate.saves_version(keep, store, "4.0") == "4.0"
        assert migrate.saves_version(keep, store, None) == "4.2"
        for kind, new, state in (
            *(("migrate", "4.3", "done"), ("update", "4.4", "done"), ("update", "4.5", "undone")),
            *(("migrate", "4.6", "taken back"), ("wipe", "4.7", "done"), ("update", "4.8", "begun")),
        ):
            asked = {
                "migrate": migrate.KIND.run(migrate.Request("4.2", new, ()), NOW),
                "update": update.KIND.run(update_request.Request(None, new, "", None, ""), NOW),
                "wipe": Run(0, "wipe", NOW, request={"new": new}),
            }
            run = journal.begin(asked[kind])
            journal.end(run, state, NOW)
            wanted = {"4.3": "4.3"}.get(new, "4.4")
            assert migrate.saves_version(keep, store, None) == wanted, (kind, new, state)


def test_sql_that_fails_in_its_second_file_leaves_the_database_as_it_was(rock: Rock) -> None:
    folder = rock.keep / "recipes"
    before = tree_state(rock.server)
    migrated(rock, '[[step]]\nsql = { database = "outer-skerries/*.db", files = "sql/*.sql" }\n')
    (folder / "sql").mkdir()
    (folder / "sql" / "1.sql").write_text("create table fresh (x);\n")
    (folder / "sql" / "2.sql").write_text("insert into fresh values (1);\n\ninsert into nowhere values (1);\n")
    done = rock.run("migrate", "--from", "4.2", "--to", "4.3", "--go")
    assert done.code == 2  # seen on a copy, before the run began
    assert "2.sql:3: " in done.err
    assert "no such table: nowhere" in done.err
    assert tree_state(rock.server) == before
    (folder / "sql" / "2.sql").write_text("attach database '/tmp/x.db' as other;\n")
    assert "not authorized" in rock.run("migrate", "--from", "4.2", "--to", "4.3", "--go").err


def test_a_landmark_that_a_recipe_loses_takes_it_back_unless_it_said_so(rock: Rock) -> None:
    before = tree_state(rock.server)
    bag = 'records = { files = "outer-skerries/keepers/*.json", drop = ["bag"] }'
    done = migrated(rock, f"[[step]]\n{bag}\n", "--go")
    assert done.code == 5
    assert "landmarks are missed" in done.err
    assert tree_state(rock.server) == before
    allowed = migrated(rock, f'[[step]]\n{bag}\nchanges-landmarks = ["belongings"]\n', "--go")
    assert allowed.code == 0, allowed.err
    assert "as the recipe says" in allowed.out


def test_a_recipe_is_drafted_from_two_releases_and_two_saves(rock: Rock) -> None:
    assert rock.run("defaults", "record", "4.3", "releases/skerrylight-4.3.zip").code == 0
    new = rock.place / "new-world"
    shutil.copytree(rock.server / "outer-skerries", new)
    for path in (new / "keepers").iterdir():
        told = json.loads(path.read_text())
        told["satchel"] = told.pop("bag")
        path.write_text(json.dumps({**told, "salt": 0}))
    saves = (str(rock.server / "outer-skerries"), str(new))
    drafted = rock.run("migrate", "--draft", "4.2", "4.3", "--saves", *saves, "--out", "drafted.toml")
    assert drafted.code == 0, drafted.err
    found = read(rock.place / "drafted.toml")
    told = (rock.place / "drafted.toml").read_text()
    assert "from = 17, to = 18" in told
    assert 'rename = { "bag" = "satchel" }' in told
    assert 'default = { "salt" = 0 }' in told
    assert 'key = "fog-horns", value = "on", unless-present = true' in told
    assert len(found.steps) == 3
    assert rock.run("migrate", "--draft", "4.2", "4.3", "--out", "drafted.toml").code == 3


# --- carrying -----------------------------------------------------------------------


@pytest.fixture
def fresh(rock: Rock) -> Path:
    """A fresh install of 4.3 that ran once: its own world, its own log."""
    shutil.unpack_archive(rock.place / "releases" / "skerrylight-4.3.zip", rock.place)
    new = rock.place / "skerrylight-4.3"
    (new / "new-waters" / "chart").mkdir(parents=True)
    (new / "outer-skerries" / "chart").mkdir(parents=True)
    (new / "outer-skerries" / "chart" / "strip.7.7.sea").write_bytes(b"fresh")
    (new / "log").mkdir()
    (new / "log" / "latest.log").write_text("lamp lit\n")
    for name in ("skerrylight-4.3.0.bin", "cast-off.sh"):
        (new / name).chmod(0o755)
    return new


def test_carrying_brings_what_is_the_servers_own_and_never_the_engine(rock: Rock, fresh: Path) -> None:
    with (rock.server / "keeper.properties").open("a") as settings:
        settings.write("database-password=hunter two\n")
    (rock.server / "outer-skerries" / "bay").mkdir(mode=0o700)
    (rock.server / "log" / "old").mkdir()
    old = tree_state(rock.server)
    before = tree_state(fresh)
    shown = rock.run("carry", rock.server, fresh)
    assert shown.code == 1, shown.err
    assert tree_state(fresh) == before
    assert "unsorted, and carried along" in shown.out
    refused = rock.run("carry", rock.server, fresh, "--go")
    assert (refused.code, "8 values differ between OLD and NEW" in refused.err) == (3, True), refused
    assert not fresh.with_name(fresh.name + ".keep").exists()
    done = rock.run("carry", rock.server, fresh, "--mine", "--go")
    assert done.code == 0, done.err
    assert tree_state(rock.server) == old  # copied, never moved
    new = tree_state(fresh)
    for path, told in old.items():
        if path.startswith(("outer-skerries/", "tidepool/", "extensions/", "una-notes")) and told[0] == "file":
            assert new[path] == told, path
    assert new["outer-skerries/bay"] == old["outer-skerries/bay"]  # empty as it is
    assert "log/old" not in new
    assert not (fresh / "outer-skerries" / "chart" / "strip.7.7.sea").exists()
    assert (fresh / "log" / "latest.log").read_text() == "lamp lit\n"
    assert not (fresh / "skerrylight-4.2.0.bin").exists()
    settings_text = (fresh / "keeper.properties").read_text()
    assert "waters=outer-skerries" in settings_text
    assert "database-password=hunter two" in settings_text
    assert "fog-horns=on" in settings_text  # the new release's own key
    script = (fresh / "cast-off.sh").read_text()
    assert "SEED=770421" in script
    assert "skerrylight-4.3.0.bin" in script
    made = Keep(fresh.with_name(fresh.name + ".keep"))
    assert made.server == fresh
    assert (made.recipes / "4.3-logbook" / "1-structure.sql").exists()  # what a recipe names comes with it
    assert rock.run("--keep", made.folder, "undo", "--go").code == 0
    assert tree_state(fresh) == before


def test_carrying_without_old_defaults_merges_by_key(rock: Rock, fresh: Path) -> None:
    assert rock.run("defaults", "drop", "4.2", "--go").code in (0, 2)
    rock.run("defaults", "drop", "4.2")
    shown = rock.run("carry", rock.server, fresh, "--questions", "differ.toml")
    assert "both differ: keeper.properties: most-keepers: OLD says 40, NEW says" in shown.out, shown.out
    told = (rock.place / "differ.toml").read_text().replace('answer = ""', 'answer = "mine"')
    at = told.index('field = "storms"')
    told = told[:at] + told[at:].replace('answer = "mine"', 'answer = "new"', 1)
    (rock.place / "differ.toml").write_text(told)
    done = rock.run("carry", rock.server, fresh, "--answers", "differ.toml", "--go")
    assert done.code == 0, done.err
    text = (fresh / "keeper.properties").read_text()
    assert "most-keepers=40" in text
    assert "fog-horns=on" in text
    assert "storms=normal" in text  # as it was answered
    script = (fresh / "cast-off.sh").read_text()
    assert "SEED=770421" in script
    assert "skerrylight-4.3.0.bin" in script  # OLD's script, which executes the program that is there


@pytest.mark.long
@pytest.mark.parametrize("base", [True, False])
def test_a_carried_launch_script_executes_the_fresh_program(rock: Rock, fresh: Path, base: bool) -> None:
    """Also where that is called otherwise altogether."""
    if not base:
        rock.run("defaults", "drop", "4.2")
    (fresh / "skerrylight-4.3.0.bin").rename(fresh / "lampwright")
    script = fresh / "cast-off.sh"
    script.write_text(script.read_text().replace("skerrylight-4.3.0.bin", "lampwright"))
    done = rock.run("carry", rock.server, fresh, "--mine", "--go")
    assert done.code == 0, done.err
    text = script.read_text()
    assert "./lampwright" in text
    assert "skerrylight-4" not in text
    assert "SEED=770421" in text


def test_carrying_is_refused_for_the_same_folder_for_swapped_ones_and_for_a_running_one(
    rock: Rock, fresh: Path
) -> None:
    for words in ((rock.server, rock.server), (fresh, rock.server), (rock.server, rock.server / "mission")):
        refused = rock.run("carry", *words, "--go")
        assert refused.code == 3, (words, refused.err)
    assert "swapped" in rock.run("carry", fresh, rock.server).err
    assert rock.run("carry", rock.server, rock.place / "nothing").code == 2
    assert rock.run("start", "--go").code == 0
    assert "is running" in rock.run("carry", rock.server, fresh, "--go").err


def test_a_carried_file_that_changes_on_the_way_is_noticed(
    rock: Rock, fresh: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    from emberkeep.operations.flows import carry

    tile = "outer-skerries/chart/strip.0.0.sea"
    keep = carry.keep_for(fresh, Keep(rock.keep), make=True)
    step = carry.VerifyStep(carry.Request(rock.server, fresh))
    assert rock.run("carry", rock.server, fresh, "--mine", "--go").code == 0
    data = bytearray((fresh / tile).read_bytes())
    data[100] ^= 1
    (fresh / tile).write_bytes(data)

    class There:
        def __init__(self) -> None:
            self.keep, self.findings = keep, Findings()

        def note(self, **facts: object) -> None: ...
        def progress(self, done: int, total: int) -> None: ...

    from emberkeep.errors import RunFailed
    from emberkeep.operations.engine.step import Findings, Plan

    with pytest.raises(RunFailed, match=r"1 carried files are not what they were: outer-skerries/chart/strip.0.0.sea"):
        step.act(There(), Plan())  # type: ignore[arg-type]


# --- bringing in worlds --------------------------------------------------------------


def packed(folder: Path, target: Path, change: Callable[[str], str] = lambda name: name) -> None:
    with zipfile.ZipFile(target, "w") as archive:
        for path in sorted(folder.rglob("*")):
            if path.is_file():
                archive.write(path, change(path.relative_to(folder).as_posix()))


def test_a_world_is_found_in_an_archive_of_any_suffix_and_pointed_at(rock: Rock) -> None:
    other = rock.place / "other"
    shutil.copytree(rock.server / "outer-skerries", other / "export" / "far isles")
    save = next((other / "export" / "far isles").glob("anchorage.*"))
    save.rename(save.with_name("anchorage.512.99.17.isle"))
    (other / "export" / "thumbs.db").write_text("x")
    (other / "export" / "far isles" / "session.lock").write_text("x")
    (other / "photo.png").write_text("x")
    packed(other, rock.place / "world.fromfriend")
    before = tree_state(rock.server)
    shown = rock.run("import", "world.fromfriend", "--as", "far-isles")
    assert shown.code == 0, shown.err
    assert "left aside" in shown.out
    assert "photo.png" in shown.out
    assert tree_state(rock.server) == before
    done = rock.run("import", "world.fromfriend", "--as", "far-isles", "--go")
    assert done.code == 0, done.err
    assert "waters=far-isles" in (rock.server / "keeper.properties").read_text()
    assert "SEED=99\nSPAN=512\n" in (rock.server / "cast-off.sh").read_text()
    assert (rock.server / "far-isles" / "anchorage.512.99.17.isle").exists()
    assert not (rock.server / "far-isles" / "session.lock").exists()
    assert (rock.server / "outer-skerries" / "logbook.5.db").exists()
    started = rock.run("start", "--go")
    assert started.code == 0, started.err
    assert "no save of this format" not in (rock.server / "log" / "latest.log").read_text()
    rock.run("stop", "--now", "--go")
    assert rock.run("import", "world.fromfriend", "--as", "far-isles").code == 3  # the name is taken
    assert rock.run("undo", "--go").code == 0
    assert "waters=outer-skerries" in (rock.server / "keeper.properties").read_text()


@pytest.mark.parametrize(
    ("number", "told", "code"), [(16, "'emberkeep migrate' comes next", 0), (18, "newer than 17", 3)]
)
def test_a_world_of_another_save_number(rock: Rock, number: int, told: str, code: int) -> None:
    shutil.copytree(rock.server / "outer-skerries", rock.place / "isles")
    save = next((rock.place / "isles").glob("anchorage.*"))
    save.rename(save.with_name(f"anchorage.4096.770421.{number}.isle"))
    done = rock.run("import", "isles")
    assert done.code == code
    assert told in done.out + done.err


def test_what_holds_no_world_and_names_that_lead_out(rock: Rock) -> None:
    (rock.place / "nothing").mkdir()
    (rock.place / "nothing" / "readme.txt").write_text("x")
    assert "no world of this kind" in rock.run("import", "nothing").err
    shutil.copytree(rock.server / "outer-skerries", rock.place / "isles")
    assert rock.run("import", "isles", "--as", "../x").code == 2
    assert rock.run("import", "isles", "--as", "outer-skerries").code == 3
    with zipfile.ZipFile(rock.place / "evil.zip", "w") as archive:
        archive.writestr("../../chart/strip.0.0.sea", b"x")
    assert rock.run("import", "evil.zip").code == 2


# --- landmarks -----------------------------------------------------------------------


def change_player(server: Path, **facts: object) -> None:
    path = sorted((server / "outer-skerries" / "keepers").iterdir())[0]
    path.write_text(json.dumps({**json.loads(path.read_text()), **facts}))


def drop_rows(server: Path) -> None:
    with sqlite3.connect(server / "outer-skerries" / "logbook.5.db") as database:
        database.execute("delete from learned where rowid = 1")


@pytest.mark.parametrize(
    ("act", "kind", "how"),
    [
        (lambda server: change_player(server, at=[1, 2]), "positions", "moved"),
        (lambda server: change_player(server, bag={"rope": 1}), "belongings", "changed"),
        (lambda server: sorted((server / "outer-skerries" / "keepers").iterdir())[0].unlink(), "players", "missing"),
        (lambda server: (server / "tidepool" / "chart" / "strip.-1.0.sea").unlink(), "tiles", "missing"),
        (drop_rows, "rows", "missing"),
        (lambda server: (server / "wardens.json").write_text("[]"), "lists", "changed"),
        (
            lambda server: (server / "outer-skerries" / "chart" / "strip.0.0.sea").write_bytes(b"x"),
            "declared",
            "changed",
        ),
    ],
)
def test_what_is_lost_is_named(rock: Rock, act: Callable[[Path], object], kind: str, how: str) -> None:
    keep = Keep(rock.keep)
    before = landmarks.measure(FolderTree(rock.server), keep.config)
    assert landmarks.compare(before, before) == ()
    act(rock.server)
    missed = landmarks.compare(before, landmarks.measure(FolderTree(rock.server), keep.config))
    assert [(item.kind, str(item.how)) for item in missed] == [(kind, how)]
    assert landmarks.compare(before, landmarks.measure(FolderTree(rock.server), keep.config), [kind])[0].allowed


def rename_database(server: Path) -> None:
    (server / "outer-skerries" / "logbook.5.db").rename(server / "outer-skerries" / "logbook.6.db")


def rename_player(server: Path) -> None:
    path = sorted((server / "outer-skerries" / "keepers").iterdir())[0]
    path.rename(path.with_name("11111111-2222-4333-8444-555555555555.json"))


@pytest.mark.parametrize("act", [rename_database, rename_player])
def test_what_is_called_otherwise_is_followed(rock: Rock, act: Callable[[Path], None]) -> None:
    keep = Keep(rock.keep)
    before = landmarks.measure(FolderTree(rock.server), keep.config)
    act(rock.server)
    assert landmarks.compare(before, landmarks.measure(FolderTree(rock.server), keep.config)) == ()


def test_a_database_that_was_there_before_is_no_other_ones_successor(rock: Rock) -> None:
    keep = Keep(rock.keep)
    book = rock.server / "outer-skerries" / "logbook.5.db"
    shutil.copyfile(book, book.with_name("logbook.6.db"))
    before = landmarks.measure(FolderTree(rock.server), keep.config)
    book.unlink()
    missed = landmarks.compare(before, landmarks.measure(FolderTree(rock.server), keep.config))
    assert {item.kind for item in missed} == {"rows"}


@pytest.mark.parametrize("path", ["outer-skerries/depths.sqlite", "extensions/tarline/sums.db", "kept.db"])
def test_rows_of_databases_of_every_role_count(rock: Rock, path: str) -> None:
    keep = Keep(rock.keep)
    with closing(sqlite3.connect(rock.server / path)) as database, database:
        database.execute("create table sums (k integer)")
        database.executemany("insert into sums values (?)", ((at,) for at in range(5)))
    before = landmarks.measure(FolderTree(rock.server), keep.config)
    assert before.rows[f"{path}: sums"] == 5
    with closing(sqlite3.connect(rock.server / path)) as database, database:
        database.execute("delete from sums where k = 3")
    missed = landmarks.compare(before, landmarks.measure(FolderTree(rock.server), keep.config))
    assert [(item.kind, item.before, item.after) for item in missed] == [("rows", "5", "4")]


def test_a_large_database_is_read_where_it_lies_unless_somebody_holds_it(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(sqlite, "LARGE", 0)
    with closing(sqlite3.connect(tmp_path / "a.db")) as database:
        database.execute("create table t (k integer)")
        database.execute("insert into t values (1)")
        database.commit()
        tree = FolderTree(tmp_path)
        with sqlite.of_tree(tree, "a.db") as there:
            assert there.execute("pragma database_list").fetchone()[2] == str(tmp_path / "a.db")
        database.execute("begin exclusive")
        with sqlite.of_tree(tree, "a.db") as there:
            assert there.execute("select count(*) from t").fetchone()[0] == 1
            assert there.execute("pragma database_list").fetchone()[2] != str(tmp_path / "a.db")


def test_declared_landmarks_of_every_kind(rock: Rock) -> None:
    marks = (
        Landmark("file", file="welcome.json"),
        Landmark("key", file="keeper.properties", field="title"),
        Landmark("record", file="mission/economy/stores.xml", record="good[id=lamp-oil]"),
        Landmark("field", file="mission/economy/stores.xml", record="good[id=lamp-oil]", field="afloat"),
        Landmark("row", database="outer-skerries/logbook.*.db", table="learned", where="craft = 'signals'"),
        Landmark("gone", file="no/such.file"),
    )
    keep = Keep(rock.keep)
    object.__setattr__(keep.config, "landmarks", marks)
    measured = landmarks.measure(FolderTree(rock.server), keep.config).declared
    assert measured["field"] == "80"
    assert measured["gone"] == ""
    assert all(measured[name] for name in ("file", "key", "record", "row"))
    path = rock.server / "mission" / "economy" / "stores.xml"
    path.write_text(path.read_text().replace("<afloat>80</afloat>", "<afloat>81</afloat>"))
    again = landmarks.measure(FolderTree(rock.server), keep.config).declared
    assert {name for name in measured if measured[name] != again[name]} == {"record", "field"}


def test_two_changes_of_one_file_that_leave_its_size_are_two() -> None:
    """Its time is the run's in both steps, so only the contents tell that the second one changed anything."""
    folder = Overlay(NoTree(), 5)
    folder.write("a", b"one")
    first = folder.mark()
    folder.write("a", b"two")
    assert [change.path for change in folder.since(first)] == ["a"]
    assert "a" in folder.touched(first)
    second = folder.mark()
    folder.write("a", b"two")
    assert folder.since(second) == ()
