"""Databases through the program: snapshots, restores, the vendor's SQL, merged tables, wipes, and all of it taken back."""

from __future__ import annotations

import os
import re
import signal
import sqlite3
import subprocess
import sys
import tarfile
import time
import tomllib
import zipfile
from collections.abc import Iterator
from contextlib import closing
from dataclasses import replace
from pathlib import Path

import pytest

from emberkeep.errors import Refused, RunFailed, UnreadableInput
from emberkeep.fs.folder_tree import FolderTree
from emberkeep.keep.config import check_text
from emberkeep.keep.keep import Keep
from emberkeep.keep.tables.databases import Databases
from emberkeep.migrating import vendor
from emberkeep.operations.record import snapshot
from emberkeep.operations.record.databases import facts_in, put_back
from emberkeep.store.store import Store
from tests import mariadbs
from tests.faults import FaultyIO
from tests.mariadbs import ODD, WORD, Server
from tests.program import Ran, run_program


@pytest.fixture(scope="module")
def sea(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Server]:
    with mariadbs.server(tmp_path_factory.mktemp("sea")) as running:
        yield running


class Rock:
    """A server folder with a keep that knows a database, and the program run on it."""

    def __init__(self, place: Path, sea: Server, further: str = "") -> None:
        self.place, self.sea = place, sea
        self.schema = sea.schema()
        self.server, self.folder = place / "rock", place / "rock.keep"
        for folder in (self.server, self.folder):
            folder.mkdir(parents=True)
        (self.server / "keeper.properties").write_text(
            f"title=Rock\ndb.user=rock\ndb.word={WORD}\ndb.port={sea.port}\n"
        )
        self.tell(further)
        self.environment = {"ROCK_DB": WORD}

    def tell(self, further: str, of_database: str = "") -> None:
        (self.folder / "keep.toml").write_text(
            'format = 1\n[server]\nname = "Gannet Rock"\nfolder = "../rock"\n[roles]\nsettings = ["*.properties"]\n'
            'access = ["people.json"]\nengine = ["RELEASE"]\n'
            f'[[database]]\nname = "accounts"\nholds = "accounts"\nschema = "{self.schema}"\nhost = "127.0.0.1"\n'
            f'port = {self.sea.port}\nuser = "rock"\nsecret = {{ env = "ROCK_DB" }}\n{of_database}\n{further}\n'
        )

    def __call__(self, *words: str | Path, code: int | None = 0) -> Ran:
        ran = run_program("--keep", self.folder, *words, cwd=self.place, environment=self.environment)
        assert code is None or ran.code == code, ran.out + ran.err
        assert WORD not in ran.out + ran.err
        return ran

    def keep(self) -> Keep:
        return Keep(self.folder, self.environment)

    def sql(self, text: str) -> list[list[str]]:
        return self.sea.sql(text, self.schema)

    def dump(self) -> bytes:
        return self.sea.dump(self.schema)

    def ours(self) -> list[str]:
        """Databases of ours that should not be there any more."""
        return [name for name in self.sea.schemas() if "_ember_" in name]


@pytest.fixture
def rock(tmp_path: Path, sea: Server) -> Rock:
    return Rock(tmp_path, sea)


# --- snapshots and restores --------------------------------------------------------


def test_a_database_goes_along_and_comes_back_with_the_files(rock: Rock) -> None:
    rock.sql(ODD)
    first = rock.dump()
    assert rock("snapshot", "--note", "one", "--json").json["snapshot"]["databases"] == ["accounts"]
    rock.sql("delete from boats; update people set name = 'X'; drop view abroad; drop view fleet")
    (rock.server / "keeper.properties").write_text("title=Other\n")
    second = rock.dump()
    preview = rock("restore", "one")
    assert "boats: 0 rows → 3 rows" in preview.out
    assert rock.dump() == second
    rock("restore", "one", "--go")
    assert rock.dump() == first
    assert "title=Rock" in (rock.server / "keeper.properties").read_text()
    assert "Nothing to do" in rock("restore", "one", "--go").out
    rock("undo", "--go")
    assert rock.dump() == second
    assert (rock.server / "keeper.properties").read_text() == "title=Other\n"
    assert rock.ours() == []
    assert "All sound" in rock("verify").out


def test_what_is_selected_and_nothing_else_is_put_back(rock: Rock, tmp_path: Path) -> None:
    rock.sql("create table t (a int primary key); insert into t values (1)")
    rock("snapshot", "--note", "one")
    rock.sql("insert into t values (2)")
    changed = rock.dump()
    (rock.server / "keeper.properties").write_text("title=Other\n")
    rock("restore", "one", "--only", "settings", "--go")
    assert rock.dump() == changed
    (rock.server / "keeper.properties").write_text("title=Third\n")
    rock("restore", "one", "--only", "databases/accounts", "--go")
    assert rock.sql("select a from t") == [["1"]]
    assert (rock.server / "keeper.properties").read_text() == "title=Third\n"
    rock("restore", "one", "--only", "databases/accounts", "--into-database", f"{rock.schema}_look", "--go")
    assert rock.sea.sql("select a from t", f"{rock.schema}_look") == [["1"]]
    assert (
        "already" in rock("restore", "one", "--only", "databases", "--into-database", f"{rock.schema}_look", code=3).err
    )
    rock("restore", "one", "--into", tmp_path / "look")
    assert (tmp_path / "look.databases" / "accounts.sql").read_bytes().endswith(b"-- Dump completed\n")
    assert not (tmp_path / "look" / "databases").exists()


def test_dumps_go_into_archives_along(rock: Rock, tmp_path: Path) -> None:
    rock.sql("create table t (a int primary key); insert into t values (1)")
    rock("snapshot")
    rock("export", "1", tmp_path / "out.tar")
    rock("export", "1", tmp_path / "out.zip")
    with tarfile.open(tmp_path / "out.tar") as archive, zipfile.ZipFile(tmp_path / "out.zip") as zipped:
        told = archive.extractfile("databases/accounts.sql")
        assert told is not None
        data = told.read()
        assert zipped.read("databases/accounts.sql") == data
    assert b"\n(1);\n" in data
    assert "keeper.properties" in zipped.namelist()
    rock("export", "1", tmp_path / "files.tar", "--only", "settings")
    with tarfile.open(tmp_path / "files.tar") as archive:
        assert archive.getnames() == ["keeper.properties"]


def test_a_snapshot_of_the_database_alone_and_of_files_alone(rock: Rock) -> None:
    rock.sql("create table t (a int primary key); insert into t values (1)")
    alone = rock("snapshot", "--only", "databases/accounts", "--json").json["snapshot"]
    assert (alone["files"], alone["databases"]) == (0, ["accounts"])
    files = rock("snapshot", "--only", "settings", "--json").json["snapshot"]
    assert (files["files"], files["databases"]) == (1, [])
    rock.sql("insert into t values (2)")
    rock("restore", "1", "--go")
    assert rock.sql("select a from t") == [["1"]]


@pytest.mark.long
def test_a_second_dump_costs_what_changed(rock: Rock) -> None:
    rock.sql(
        "create table t (a int primary key, b varchar(60)); insert into t select seq, md5(seq * 7) from seq_1_to_60000"
    )
    first = rock("snapshot", "--json").json["snapshot"]["new_bytes"]
    rock.sql("update t set b = 'changed' where a in (5, 30000, 59999); insert into t values (-1, 'new')")
    rock("snapshot", "--only", "settings")  # the one before need not be the last
    assert rock("snapshot", "--json").json["snapshot"]["new_bytes"] < first / 20
    assert rock("snapshot", "--json").json["snapshot"]["new_bytes"] < 2000
    rock("restore", "1", "--go")
    assert rock.sql("select count(*), sum(b = md5(a * 7)) from t") == [["60000", "60000"]]


def test_what_was_dumped_is_recorded_with_it(rock: Rock) -> None:
    rock.sql(ODD)
    rock("snapshot")
    keep = rock.keep()
    with closing(Store(keep.store_folder)) as store:
        told = facts_in(snapshot.find(store, keep, "1", snapshot.snapshots(store)[0][0].taken), "accounts")
    assert told.tables["people"].rows == 3
    assert told.server.startswith(rock.sql("select version()")[0][0])
    assert (told.charset, told.schema) == ("utf8mb4", rock.schema)


def test_a_damaged_dump_is_never_loaded(rock: Rock) -> None:
    rock.sql(
        "create table t (a int primary key, b varchar(40)); insert into t select seq, md5(seq) from seq_1_to_50000"
    )
    rock("snapshot")
    rock.sql("update t set b = 'now'")
    now = rock.dump()
    pack = next(iter((rock.folder / "store" / "packs").glob("*.pack")))
    data = bytearray(pack.read_bytes())
    data[len(data) // 2] ^= 1
    pack.write_bytes(data)
    assert "/accounts.sql" in rock("verify", code=4).out
    rock("restore", "1", "--only", "databases/accounts", "--go", code=4)
    assert rock.dump() == now
    assert rock.ours() == []


@pytest.mark.parametrize("stop", range(1, 14, 2))
@pytest.mark.long
def test_a_snapshot_whose_disk_is_full_is_none(rock: Rock, stop: int, monkeypatch: pytest.MonkeyPatch) -> None:
    rock.sql(
        "create table t (a int primary key, b varchar(40)); insert into t select seq, md5(seq) from seq_1_to_50000"
    )
    rock("snapshot", "--note", "good", "--only", "settings")
    from emberkeep.fs import system

    keep = rock.keep()
    with monkeypatch.context() as patched:
        patched.setattr(system, "io", FaultyIO(stop, OSError(28, "No space left on device")))
        with pytest.raises((RunFailed, Refused, OSError)):
            snapshot.take(keep, snapshot.snapshots(Store(keep.store_folder))[0][0].taken)
    assert [about["note"] for about in rock("history", "--json").json["snapshots"]] == ["good"]
    rock("snapshot")
    rock("verify")


def test_undo_reaches_behind_a_restore_of_another_kind(rock: Rock) -> None:
    """Only the last run's changes to a database are taken back: what came since would be lost."""
    rock.sql("create table t (a int primary key); insert into t values (1)")
    rock("snapshot", "--note", "one")
    rock.sql("insert into t values (2)")
    rock("restore", "one", "--only", "databases/accounts", "--go")
    (rock.server / "keeper.properties").write_text("x=1\n")
    rock("restore", "one", "--only", "settings", "--go")
    assert "databases/accounts" in rock("undo", "1", "--go", code=3).err


def test_the_way_there_may_stand_in_the_servers_own_settings(rock: Rock) -> None:
    rock.sql("create table t (a int primary key); insert into t values (1)")
    (rock.folder / "keep.toml").write_text(
        'format = 1\n[server]\nname = "Gannet Rock"\nfolder = "../rock"\n[[database]]\nname = "accounts"\n'
        f'schema = "{rock.schema}"\n'
        'settings = { file = "keeper.properties", user = "db.user", password = "db.word", port = "db.port" }\n'
    )
    properties = (rock.server / "keeper.properties").read_text().replace("\\", "\\\\")
    (rock.server / "keeper.properties").write_text(properties)
    assert rock("snapshot", "--json").json["snapshot"]["databases"] == ["accounts"]
    (rock.server / "keeper.properties").write_text("title=Rock\n")
    assert "db.user" in rock("snapshot", code=3).err


@pytest.mark.parametrize(
    ("change", "code", "said"),
    [
        (("ROCK_DB", "wrong word"), 2, "refuses user and password"),
        (("ROCK_DB", ""), 2, "refuses user and password"),
        (None, 3, "ROCK_DB is not set"),
    ],
)
def test_without_the_right_word_there_is_no_snapshot(
    rock: Rock, change: tuple[str, str] | None, code: int, said: str
) -> None:
    rock.environment = dict([change]) if change else {}
    assert said in rock("snapshot", code=code).err
    assert rock("history", "--json").json["snapshots"] == []


def test_a_database_server_that_is_down_is_told(rock: Rock) -> None:
    text = (rock.folder / "keep.toml").read_text()
    (rock.folder / "keep.toml").write_text(re.sub(r"port = \d+", "port = 1", text))
    ran = rock("snapshot", code=2)
    assert "cannot be reached" in ran.err
    assert "Traceback" not in ran.err


# --- survey and diff ---------------------------------------------------------------


def test_survey_tells_how_databases_stand(rock: Rock) -> None:
    rock.sql("create table meta (v varchar(9)); insert into meta values ('4.2'); create table t (a int primary key)")
    (rock.server / "RELEASE").write_text("Skerrylight 4.3.1\n")
    rock.tell(
        "[versions.engine]\npattern = 'Skerrylight (\\d+\\.\\d+\\.\\d+)'\nin = [\"RELEASE\"]\n"
        '[[database]]\nname = "gone"\nuser = "rock"\nport = 1\n',
        'version = { table = "meta", column = "v" }',
    )
    rock("snapshot", "--only", "databases/accounts")
    ran = rock("survey", code=1)
    assert "database accounts is of 4.2, the engine of 4.3.1" in ran.out
    assert "database gone" in ran.out
    told = {one["name"]: one for one in rock("survey", "--json", code=1).json["databases"]}
    assert (told["accounts"]["tables"], told["accounts"]["dumped"], told["accounts"]["version"]) == (2, "1", "4.2")
    assert told["gone"]["fault"]["what"].startswith("this database cannot be reached")


def test_diff_tells_rows_by_their_keys(rock: Rock) -> None:
    rock.sql("create table t (a int primary key, b varchar(9)); insert into t values (1, 'x'), (2, 'y')")
    rock("snapshot", "--note", "one")
    assert "do not differ" in rock("diff", "one").out
    rock.sql("update t set b = 'z' where a = 2")
    assert "t[a=2] b  y → z" in rock("diff", "one", code=1).out
    rock("snapshot")
    assert "t[a=2] b  y → z" in rock("diff", "1", "2", code=1).out
    assert "do not differ" in rock("diff", "one", "--only", "settings").out
    roles = rock("diff", "1", "2", "--json", code=1).json["by_role"]
    assert [(one["role"], one["changed"]) for one in roles] == [("databases", 1)]


# --- the vendor's SQL --------------------------------------------------------------

LAYOUT = '[vendor-sql]\nlayout = "from-{from}/{database}/{part}-*.sql"\n'


def release(place: Path, **files: str) -> Path:
    """A folder of the vendor's SQL: ``v4_2__structure_1="…"``."""
    for name, text in files.items():
        version, _, rest = name.partition("__")
        path = place / "sql" / f"from-{version[1:].replace('_', '.')}" / "accounts" / f"{rest.replace('_', '-')}.sql"
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_text(text)
    return place / "sql"


@pytest.fixture
def stepped(rock: Rock, tmp_path: Path) -> Rock:
    rock.tell(LAYOUT)
    rock.sql("create table meta (v varchar(9)); insert into meta values ('4.2')")
    release(
        tmp_path,
        v4_2__structure_1="create table lamp (id int primary key, oil int);\n",
        v4_2__data_1="insert into lamp values (1, 2);\nupdate meta set v = '4.3';\n",
        v4_3__structure_1="alter table lamp add column wick int;\ndelimiter //\ncreate procedure trim_lamps()\nbegin\n"
        "update lamp set wick = 1;\nend//\ndelimiter ;\n",
        v4_3__data_2="insert into lamp values (2, 2, 2);\n",
        v4_3__data_10="update meta set v = '4.4';\nupdate lamp set oil = 3;\n",
    )
    return rock


def migrated(rock: Rock, *further: str, code: int = 0, old: str = "4.2") -> Ran:
    return rock("migrate", "--from", old, "--to", "4.4", "--sql", rock.place / "sql", *further, code=code)


def test_the_vendors_sql_is_run_link_by_link_once(stepped: Rock) -> None:
    before = stepped.dump()
    preview = migrated(stepped).out
    order = [
        preview.index(name)
        for name in ("4.2 → 4.3, structure", "4.2 → 4.3, data", "4.3 → 4.4, structure", "data-2", "data-10")
    ]
    assert order == sorted(order)
    assert stepped.dump() == before
    migrated(stepped, "--go")
    assert stepped.sql("select * from lamp order by id") == [["1", "3", "NULL"], ["2", "3", "2"]]
    assert stepped.sql("select v from meta") == [["4.4"]]
    after = stepped.dump()
    assert "not repeated" in migrated(stepped, "--go").out + migrated(stepped).out
    assert stepped.dump() == after
    data = stepped.place / "sql" / "from-4.3" / "accounts" / "data-10.sql"
    data.write_text(data.read_text() + "-- more\n")
    assert "run before with other bytes" in migrated(stepped, code=1).out
    stepped("undo", "2", "--go", code=None)  # the second run changed nothing that is not as it was
    stepped("undo", "1", "--go", code=None)
    stepped("restore", "1", "--only", "databases/accounts", "--go")
    assert stepped.dump() == before


def test_undo_takes_all_of_it_back(stepped: Rock) -> None:
    before = stepped.dump()
    migrated(stepped, "--go")
    stepped("undo", "--go")
    assert stepped.dump() == before


def test_the_first_statement_that_fails_is_told_and_all_taken_back(stepped: Rock) -> None:
    """A syntax error in the fourth of five files; what had been altered before it is put back."""
    before = stepped.dump()
    data = stepped.place / "sql" / "from-4.3" / "accounts" / "data-2.sql"
    data.write_text("insert into lamp values (2, 2, 2);\n-- a note\ninsert intoo lamp\n values (3);\n")
    ran = migrated(stepped, "--go", code=5)
    assert re.search(r"data-2\.sql:3: .*SQL syntax", ran.err)
    assert "put back as it was" in ran.err
    assert stepped.dump() == before


def test_a_database_newer_than_what_is_asked_for_is_refused(stepped: Rock) -> None:
    stepped.tell(LAYOUT, 'version = { table = "meta", column = "v" }')
    stepped.sql("update meta set v = '4.5'")
    before = stepped.dump()
    assert "is of 4.5, newer than 4.4" in migrated(stepped, "--go", code=3).err
    assert stepped.dump() == before


def test_an_update_steps_databases_on_and_merges_their_contents(rock: Rock, tmp_path: Path) -> None:
    """All in one run: the vendor's SQL gives the table a column, and its new contents fill it."""
    rock.tell(
        LAYOUT + "[versions.engine]\npattern = 'Skerrylight (\\d+\\.\\d+)'\nin = [\"RELEASE\"]\n",
        'defaults = ["content/*.sql"]',
    )
    made = "create table items (id int primary key, name varchar(40){});\ninsert into items values "
    for version, text in (
        ("4.2", made.format("") + "(1, 'bread'), (2, 'tin'), (4, 'wax');\n"),
        ("4.3", made.format(", weight int") + "(1, 'bread', 5), (2, 'tin', 6), (3, 'lamp', 7), (4, 'oil', 8);\n"),
    ):
        folder = rock.place / version
        (folder / "content").mkdir(parents=True)
        (folder / "content" / "items.sql").write_text(text)
        (folder / "RELEASE").write_text(f"Skerrylight {version}\n")
        (folder / "keeper.properties").write_text("title=Skerrylight\n")
    rock("defaults", "record", "4.2", rock.place / "4.2")
    (rock.server / "RELEASE").write_text("Skerrylight 4.2\n")
    rock.sql(
        "create table items (id int primary key, name varchar(40)); insert into items values (1, 'loaf'), (2, 'tin'), (4, 'tar')"
    )
    before = rock.dump()
    release(tmp_path, v4_2__structure_1="alter table items add column weight int;\n")
    (rock.folder / "recipes").mkdir()
    words = ("update", rock.place / "4.3", "--to", "4.3", "--from", "4.2", "--sql", tmp_path / "sql", "--no-start")
    assert "SQL 4.2 → 4.3, structure of accounts" in rock(*words, code=None).out
    assert rock.dump() == before
    told = rock(*words, "--go", "--json", code=1).json["report"]
    assert (told["questions"], told["waits"][0].startswith("one question of the merge is open")) == (1, True)
    rows = [["1", "loaf", "5"], ["2", "tin", "6"], ["3", "lamp", "7"], ["4", "tar", "8"]]
    assert rock.sql("select * from items order by id") == rows
    assert (rock.server / "RELEASE").read_text() == "Skerrylight 4.3\n"
    rock("undo", "--go")
    assert rock.dump() == before
    assert (rock.server / "RELEASE").read_text() == "Skerrylight 4.2\n"


def test_what_breaks_a_view_and_fails_is_taken_back_all_the_same(stepped: Rock) -> None:
    """A database with a view that names nothing can be dumped no more: it is put back without a look at it."""
    stepped.sql(
        "create table old_lamp (a int); create view lamps as select a from old_lamp; create view all_lamps as select * from lamps"
    )
    before = stepped.dump()
    structure = stepped.place / "sql" / "from-4.3" / "accounts" / "structure-1.sql"
    structure.write_text("drop table old_lamp;\nselect no_such_thing;\n")
    ran = migrated(stepped, "--go", code=5)
    assert "structure-1.sql:2" in ran.err
    assert "put back as it was" in ran.err
    assert stepped.dump() == before
    assert stepped.ours() == []


def test_a_gap_in_the_chain_is_refused(stepped: Rock) -> None:
    assert "no SQL that leads on from 4.1" in migrated(stepped, code=3, old="4.1").err
    (stepped.place / "sql" / "from-4.3").rename(stepped.place / "sql" / "from-4.5")
    migrated(stepped, code=0)  # nothing tells that there is a 4.3
    release_of = stepped.place / "4.3"
    release_of.mkdir()
    (release_of / "keeper.properties").write_text("title=X\n")
    stepped("defaults", "record", "4.3", release_of)
    assert "no SQL that leads on from 4.3" in migrated(stepped, code=3).err


@pytest.mark.long
def test_sql_for_another_database_is_refused(stepped: Rock) -> None:
    structure = stepped.place / "sql" / "from-4.3" / "accounts" / "structure-1.sql"
    for text in (
        "use mysql;\ndrop table user;\n",
        "drop database if exists other;\n",
        "create schema x;\n",
        "/*!40000 DROP DATABASE IF EXISTS x*/;\n",
        "insert into `other`.lamp values (1);\n",
        "DROP TABLE IF EXISTS mysql . user;\n",
    ):
        before = stepped.dump()
        structure.write_text(text)
        assert re.search(r"structure-1\.sql:1: .*another database", migrated(stepped, "--go", code=5).err)
        assert stepped.dump() == before


@pytest.mark.long
def test_a_run_killed_in_the_middle_of_a_file_goes_on_or_back(stepped: Rock) -> None:
    before = stepped.dump()
    data = stepped.place / "sql" / "from-4.3" / "accounts" / "data-2.sql"
    for ending in ("resume", "undo"):
        data.write_text("alter table lamp add column flame int;\nselect sleep(if(@@hostname = '', 0, 3));\n"
                        "insert into lamp values (2, 2, 2, 2);\n")  # fmt: skip
        process = subprocess.Popen(
            [sys.executable, "-m", "emberkeep", "--keep", str(stepped.folder), "migrate", "--from", "4.2", "--to", "4.4",
             "--sql", str(stepped.place / "sql"), "--go"],
            env={**os.environ, **stepped.environment}, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL,
        )  # fmt: skip
        for _ in range(400):
            if any("flame" in row[0] for row in stepped.sql("show columns from lamp")) if _there(stepped) else False:
                break
            time.sleep(0.05)
        process.send_signal(signal.SIGKILL)
        process.wait()
        time.sleep(3.2)  # the server goes on with the statement that it was given
        assert "waits" in stepped("survey", code=None).err
        stepped(ending, "--go")
        if ending == "resume":
            assert stepped.sql("select * from lamp order by id") == [["1", "3", "NULL", "NULL"], ["2", "3", "2", "2"]]
            stepped("undo", "--go")
        assert stepped.dump() == before
        assert stepped.ours() == []


def _there(rock: Rock) -> bool:
    return any(row[0] == "lamp" for row in rock.sql("show tables"))


def test_a_recipe_steps_a_named_database_on(stepped: Rock) -> None:
    recipes = stepped.folder / "recipes"
    (recipes / "s").mkdir(parents=True)
    (recipes / "s" / "1.sql").write_text("create table from_recipe (a int);\n")
    (recipes / "a.toml").write_text(
        'format = 1\nfrom = "4.2"\nto = "4.4"\nwhy = "x"\n[[step]]\nsql = { database = "accounts", files = "s/*.sql" }\n'
    )
    stepped("migrate", "--from", "4.2", "--to", "4.4", "--go")
    assert ["from_recipe"] in stepped.sql("show tables")
    stepped("undo", "--go")
    assert ["from_recipe"] not in stepped.sql("show tables")


def test_sqlite_files_go_through_the_vendors_sql_too(rock: Rock) -> None:
    path = rock.server / "logbook.db"
    with closing(sqlite3.connect(path)) as database:
        database.executescript("create table entry (id integer primary key, text); insert into entry values (1, 'x')")
    before = path.read_bytes()
    rock.tell(LAYOUT + '[[database]]\nname = "logbook"\nholds = "progress"\nfile = "logbook.db"\n')
    for part, text in (
        ("structure", "alter table entry add column mood;"),
        ("data", "update entry set mood = 'calm';"),
    ):
        folder = rock.place / "sql" / "from-4.2" / "logbook"
        folder.mkdir(parents=True, exist_ok=True)
        (folder / f"{part}-1.sql").write_text(text + "\n")
    words = ("migrate", "--from", "4.2", "--to", "4.3", "--sql", rock.place / "sql", "--go")
    rock(*words)
    with closing(sqlite3.connect(path)) as database:
        assert database.execute("select mood from entry").fetchall() == [("calm",)]
        assert len(database.execute("select * from ember_keep_applied").fetchall()) == 2
    rock(*words)
    rock("undo", "1", "--go", code=None)
    rock("restore", "1", "--only", "logbook.db", "--go")
    assert path.read_bytes() == before


def told(text: str) -> Databases:
    head = 'format = 1\n[server]\nname = "x"\nfolder = "y"\n'
    return check_text(head + text, Path("keep.toml")).databases


def test_layouts_of_the_vendors_sql(tmp_path: Path) -> None:
    server, sql = tmp_path / "server", tmp_path / "sql"
    server.mkdir()
    (server / "keeper.properties").write_text("began=sample\n")
    for path in ("4.2-4.3/sample/b/2.sql", "4.2-4.3/sample/a/1.sql", "4.2-4.3/fresh/a/1.sql", "4.3-4.4/sample/a/10.sql",
                 "4.3-4.4/sample/a/9.sql"):  # fmt: skip
        (sql / path).parent.mkdir(parents=True, exist_ok=True)
        (sql / path).write_text("select 1;")
    two = '[[database]]\nname = "b"\nuser = "u"\n[[database]]\nname = "a"\nuser = "u"\n'
    config = told(
        two + '[vendor-sql]\nlayout = "{from}-{to}/{variant}/{database}/*.sql"\notherwise = "fresh"\n'
        'variants = [{ name = "sample", file = "keeper.properties", key = "began", is = "sample" }]\n'
    )
    trees = FolderTree(sql), FolderTree(server)
    found = vendor.batches(trees[0], config, "4.2.0", "4.4", server=trees[1])
    assert [(one.old, one.new, one.database, one.files) for one in found] == [
        ("4.2.0", "4.3", "b", ("4.2-4.3/sample/b/2.sql",)),
        ("4.2.0", "4.3", "a", ("4.2-4.3/sample/a/1.sql",)),
        ("4.3", "4.4", "a", ("4.3-4.4/sample/a/9.sql", "4.3-4.4/sample/a/10.sql")),
    ]
    (server / "keeper.properties").write_text("began=empty\n")
    fresh = vendor.batches(trees[0], config, "4.2", "4.3", server=FolderTree(server))
    assert [one.files for one in fresh] == [("4.2-4.3/fresh/a/1.sql",)]
    (sql / "4.2-4.3" / "sample" / "extra.sql").write_text("select 2;")
    assert vendor.batches(FolderTree(sql), config, "4.3", "4.4", server=trees[1]) == [], "another step's is no matter"
    with pytest.raises(Refused, match=r"fits no part of the layout .*: 4\.2-4\.3/sample/extra\.sql"):
        vendor.batches(FolderTree(sql), config, "4.2", "4.3", server=trees[1])
    spared = replace(config, vendor=replace(config.vendor, besides=("**/extra.sql",)))
    assert [one.files for one in vendor.batches(FolderTree(sql), spared, "4.2", "4.3", server=trees[1])] == [
        ("4.2-4.3/fresh/a/1.sql",)
    ]
    for old, new, said in (
        ("4.3", "4.5", "from 4.4"),
        ("4.4", "4.3", "only goes forward"),
        ("4.2", "4.2.5", "past 4.2.5"),
    ):
        with pytest.raises(Refused, match=said):
            vendor.batches(trees[0], config, old, new, server=trees[1])


@pytest.mark.parametrize(
    ("text", "said"),
    [
        ('[[database]]\nname = "a"\n', "lacks the key 'user'"),
        ('[[database]]\nname = "a"\nuser = "u"\nfile = "x.db"\n', "is for a SQLite file"),
        ('[[database]]\nname = "a b"\nuser = "u"\n', "letters, digits"),
        ('[[database]]\nname = "a"\nuser = "u"\nholds = "boats"\n', "'boats' is no choice here"),
        ('[[database]]\nname = "a"\nuser = "u"\n[[database]]\nname = "a"\nuser = "u"\n', "another database 'a'"),
        ('[[database]]\nname = "a"\nuser = "u"\nport = 70000\n', "1 to 65535"),
        ('[[database]]\nname = "a"\nuser = "u"\npasword = "x"\n', "unknown key"),
        ('[[database]]\nname = "a"\nuser = "u"\ndefaults = ["../x"]\n', "leads out"),
        ('[vendor-sql]\nlayout = "{from}/x.sql"\n', "should hold {database}"),
        ('[vendor-sql]\nlayout = "{from}/{database}/{prt}.sql"\n', "{prt} stands for nothing"),
        ('[vendor-sql]\nparts = ["a"]\n', "lacks the key 'layout'"),
    ],
)  # fmt: skip
def test_what_is_wrong_with_databases_in_keep_toml(text: str, said: str) -> None:
    with pytest.raises(UnreadableInput, match=re.escape(said)):
        told(text)


# --- contents that the vendor ships ------------------------------------------------

ITEMS = (
    "drop table if exists items;\ncreate table items (id int primary key, name varchar(40), price decimal(8,2), note text,"
    " pic varbinary(9));\ninsert into items values "
)
OLD_ITEMS = "(1, 'bread', 2.50, null, 0x01), (2, 'lamp oil', 10, 'a\\nb', null), (3, 'rope', 4, null, null), (4, 'tin', 1, null, null)"
NEW_ITEMS = "(1, 'bread', 3, null, 0x0102), (2, 'lamp oil', 12, 'a\\nb\\\\c', null), (3, 'rope', 4, 'it''s new', null), (6, 'lantern', 99, null, null)"


@pytest.fixture
def priced(rock: Rock) -> Rock:
    rock.tell("", 'defaults = ["content/*.sql"]')
    for version, items in (("4.2", OLD_ITEMS), ("4.3", NEW_ITEMS)):
        folder = rock.place / version / "content"
        folder.mkdir(parents=True)
        (folder / "items.sql").write_text(f"{ITEMS}{items};\n")
        (rock.place / version / "keeper.properties").write_text("title=Skerrylight\n")
        rock("defaults", "record", version, rock.place / version)
    rock.sql(f"{ITEMS}{OLD_ITEMS}")
    rock.sql("update items set price = 20 where id = 2; update items set price = 8 where id = 3;"
             "update items set note = 'mine' where id = 1; insert into items values (77, 'own', 1, 'x', 0x00ff)")  # fmt: skip
    return rock


def test_contents_of_tables_are_merged_by_key(priced: Rock, tmp_path: Path) -> None:
    before = priced.dump()
    questions = tmp_path / "q.toml"
    merge = ("merge", "--from", "4.2", "--to", "4.3")
    priced(*merge, "--questions", questions, code=1)
    asked = tomllib.loads(questions.read_text())["question"]
    assert [(one["file"], one["record"], one["field"], one["old"], one["mine"], one["new"]) for one in asked] == [
        ("databases/accounts/items.xml", "row[id=2]", "@price", "10.00", "20.00", "12.00")
    ]
    assert priced.dump() == before
    questions.write_text(questions.read_text().replace('answer = ""', 'answer = "= 15"'))
    assert "1 table" in priced(*merge, "--answers", questions, "--go").out
    assert priced.sql("select id, name, price, note, hex(pic) from items order by id") == [
        ["1", "bread", "3.00", "mine", "0102"],
        ["2", "lamp oil", "15.00", "a\\nb\\\\c", "NULL"],
        ["3", "rope", "8.00", "it's new", "NULL"],
        ["6", "lantern", "99.00", "NULL", "NULL"],
        ["77", "own", "1.00", "x", "00FF"],
    ]
    priced("undo", "--go")
    assert priced.dump() == before
    assert priced.ours() == []


def test_standing_orders_and_rules_hold_for_tables(priced: Rock) -> None:
    (priced.folder / "orders.toml").write_text(
        '[[order]]\nname = "all is dear"\nfiles = "databases/accounts/items.xml"\nfield = "@price"\ndo = "x 2"\n'
        "accepted = 2026-01-01\n"
    )
    priced.sql("update items set price = price * 2 where id in (1, 4); update items set price = 20 where id = 2")
    said = priced(
        "merge", "--from", "4.2", "--to", "4.3", "--go", code=1
    )  # what the vendor removed and was edited waits
    assert "met no record" not in said.out
    assert {row[0]: row[1] for row in priced.sql("select id, price from items")} == {
        "1": "6.00", "2": "24.00", "3": "8.00", "4": "2.00", "6": "198.00", "77": "1.00"
    }  # fmt: skip


def test_a_table_that_changed_since_the_merge_is_not_written(priced: Rock) -> None:
    from emberkeep.cli.context import now
    from emberkeep.operations.flows.merge import write_merge
    from emberkeep.operations.steps import merge

    keep = priced.keep()
    with closing(Store(keep.store_folder)) as store:
        wanted = merge.Request("4.2", "4.3")
        found = merge.merge_keep(keep, store, wanted, merge.load_answers(keep, None))
        priced.sql("update items set price = 5 where id = 3")
        before = priced.dump()
        with pytest.raises(RunFailed, match="changed while the merge was worked out"):
            write_merge(keep, store, found, wanted, None, now)
    assert priced.dump() == before


def test_rows_that_would_refer_to_nothing_are_not_written(priced: Rock) -> None:
    priced.sql("create table shelf (id int primary key, item int, foreign key (item) references items (id));"
               "insert into shelf values (1, 4)")  # fmt: skip
    before = priced.dump()
    assert (
        "refer to rows of items that are not there"
        in priced("merge", "--from", "4.2", "--to", "4.3", "--go", code=5).err
    )
    assert priced.dump() == before


def test_broken_sql_of_the_vendor_is_told_by_its_line(priced: Rock) -> None:
    folder = priced.place / "4.4" / "content"
    folder.mkdir(parents=True)
    (folder / "items.sql").write_text(f"{ITEMS}\n(1, 'bread', 3;\n")
    (priced.place / "4.4" / "keeper.properties").write_text("title=Skerrylight\n")
    priced("defaults", "record", "4.4", priced.place / "4.4")
    ran = priced("merge", "--from", "4.3", "--to", "4.4", code=2)
    assert re.search(r"content/items\.sql:3: .*SQL syntax", ran.err)
    assert priced.ours() == []


def test_contents_for_another_database_are_refused(priced: Rock) -> None:
    """A look at a merge runs the vendor's SQL, and must change nothing of ours."""
    folder = priced.place / "4.4" / "content"
    folder.mkdir(parents=True)
    (folder / "items.sql").write_text(f"{ITEMS}{NEW_ITEMS};\nupdate {priced.schema}.items set price = 0;\n")
    (priced.place / "4.4" / "keeper.properties").write_text("title=Skerrylight\n")
    priced("defaults", "record", "4.4", priced.place / "4.4")
    before = priced.dump()
    assert re.search(r"items\.sql:4: .*another database", priced("merge", "--from", "4.3", "--to", "4.4", code=3).err)
    assert priced.dump() == before


def test_contents_of_sqlite_tables_are_merged_too(rock: Rock) -> None:
    rock.tell('[[database]]\nname = "market"\nfile = "market.db"\ndefaults = ["content/*.sql"]\n')
    for version, price in (("4.2", 2), ("4.3", 3)):
        folder = rock.place / version / "content"
        folder.mkdir(parents=True)
        (folder / "a.sql").write_text(
            f"create table items (id integer primary key, name, price);\ninsert into items values (1, 'bread', {price});\n"
            f"insert into items values (2, 'tin', {price});\n"
        )
        (rock.place / version / "keeper.properties").write_text("title=Skerrylight\n")
        rock("defaults", "record", version, rock.place / version)
    path = rock.server / "market.db"
    with closing(sqlite3.connect(path)) as database:
        database.executescript(
            (rock.place / "4.2" / "content" / "a.sql").read_text() + "update items set name = 'loaf' where id = 1"
        )
    before = path.read_bytes()
    rock("merge", "--from", "4.2", "--to", "4.3", "--go")
    with closing(sqlite3.connect(path)) as database:
        assert [tuple(map(str, row)) for row in database.execute("select * from items")] == [
            ("1", "loaf", "3"),
            ("2", "tin", "3"),
        ]
    rock("undo", "--go")
    assert path.read_bytes() == before


# --- wipes -------------------------------------------------------------------------

WHO = "11111111-2222-3333-4444-555555555555"
OTHER = "aaaaaaaa-2222-3333-4444-555555555555"


def test_a_wipe_takes_rows_and_finds_who_is_left(rock: Rock) -> None:
    (rock.server / "people.json").write_text(
        f'[{{"uuid": "{WHO}", "name": "Mooring"}}, {{"uuid": "{OTHER}", "name": "Sculler"}}]'
    )
    rock.tell(
        '[scopes.players]\nrows = [{ database = "accounts", table = "bags", where = "lost = 0" },'
        ' { database = "accounts", table = "bags", where = "id < 3" }]\n'
        '[[survives]]\nname = "paid"\nrows = [{ database = "accounts", table = "bags", where = "note like \'pa%\'" }]\n'
    )
    rock.sql(
        f"create table bags (id int primary key, who char(36), note varchar(20), lost int);"
        f"insert into bags values (1, '{WHO}', '', 0), (2, '{OTHER}', 'paid', 0), (3, '{OTHER}', '', 1), (4, 'x', '', 0);"
        f"create table balances (who binary(16) primary key, silver int); insert into balances values (0x{WHO.replace('-', '')}, 4)"
    )
    before = rock.dump()
    preview = rock("wipe", "players", code=None).out
    assert "accounts: 2 of 4 rows in bags" in preview
    assert re.search(r"databases/accounts: 1 player", preview)
    assert "table balances, column who" in preview
    assert rock.dump() == before
    rock("wipe", "players", "--go", code=None)
    assert rock.sql("select id from bags order by id") == [["2"], ["3"]]
    rock("undo", "--go")
    assert rock.dump() == before


def test_a_wipe_that_names_no_table_is_told(rock: Rock) -> None:
    rock.tell('[scopes.players]\nrows = [{ database = "accounts", table = "bugs" }]\n')
    assert "there is no table bugs" in rock("wipe", "players", code=2).err


@pytest.mark.parametrize(
    ("where", "told"),
    [
        ('\'"note" <> "paid"\'', True),  # without these quotes it would hold for every row
        ("'note <> \"paid\"'", True),
        ('"note <> \'say \\"paid\\"\'"', False),
        ("\"`no\\\"te` is null or note <> 'it\\\\'s'\"", False),
    ],
)
def test_what_double_quotes_mean_is_not_guessed(rock: Rock, where: str, told: bool) -> None:
    """By the server's settings they hold a text or a column: a wipe of every row is not what anybody meant."""
    for part in ("scopes.players", "survives"):
        scope = '[scopes.players]\nrows = [{ database = "accounts", table = "bags" }]\n' if part == "survives" else ""
        head = "[[survives]]\nname = 'paid'" if scope else f"[{part}]"
        rock.tell(f'{scope}{head}\nrows = [{{ database = "accounts", table = "bags", where = {where} }}]\n')
        rock.sql('drop table if exists bags; create table bags (id int primary key, note varchar(20), `no"te` int)')
        done = rock("wipe", "players", code=None)
        assert ("single quotes" in done.err, done.code == 2) == (told, told), done.err + done.out


@pytest.mark.long
def test_a_million_rows_are_stepped_on_wiped_and_brought_back(rock: Rock, tmp_path: Path) -> None:
    rock.tell(LAYOUT + '[scopes.progress]\nrows = [{ database = "accounts", table = "bag", where = "worth < 500" }]\n')
    rock.sql(
        "create table bag (id int primary key, worth int, thing varchar(30));"
        "insert into bag select seq, seq % 1000, concat('thing ', seq) from seq_1_to_1000000"
    )
    before = rock.sql("checksum table bag")
    release(
        tmp_path,
        v4_2__structure_1="alter table bag add column weight int not null default 1;\n",
        v4_2__data_1="update bag set weight = worth + 1;\n",
    )
    rock("migrate", "--from", "4.2", "--to", "4.3", "--sql", tmp_path / "sql", "--go")
    stepped = rock.sql("checksum table bag")
    assert rock.sql("select count(*), sum(weight - worth) from bag") == [["1000000", "1000000"]]
    assert "accounts: 500000 of 1000000 rows in bag" in rock("wipe", "progress", code=None).out
    rock("wipe", "progress", "--go", code=None)
    assert rock.sql("select count(*), min(worth) from bag") == [["500000", "500"]]
    rock("undo", "--go")
    assert rock.sql("checksum table bag") == stepped
    rock("undo", "--go")
    assert rock.sql("checksum table bag") == before


# --- the server goes away, or has no room --------------------------------------------


@pytest.mark.long
def test_a_server_that_dies_in_the_middle_keeps_all(tmp_path: Path) -> None:
    """Killed while a restore loads: after it comes up again, undo brings back what was there."""
    (tmp_path / "sea").mkdir()
    with mariadbs.server(tmp_path / "sea") as sea:
        rock = Rock(tmp_path, sea)
        rock.sql(
            "create table t (a int primary key, b varchar(40)); insert into t select seq, md5(seq) from seq_1_to_200000"
        )
        rock("snapshot", "--note", "one")
        rock.sql("update t set b = 'now'")
        before = rock.dump()
        process = subprocess.Popen(
            [sys.executable, "-m", "emberkeep", "--keep", str(rock.folder), "restore", "one", "--only", "databases", "--go"],
            env={**os.environ, **rock.environment}, stdout=subprocess.DEVNULL, stderr=subprocess.PIPE,
        )  # fmt: skip
        for _ in range(600):
            if f"{rock.schema}_ember_new" in sea.schemas():
                break
            time.sleep(0.02)
        time.sleep(0.3)
        sea.kill()
        said = process.communicate()[1].decode()
        assert process.returncode == 5
        assert "Traceback" not in said
        assert "undo" in said
        sea.start()
        rock("undo", "--go")
        assert rock.dump() == before


@pytest.mark.long
def test_a_server_without_room_keeps_the_old_one(tmp_path: Path) -> None:
    """The server's disk, a small one in memory, is full before the dump is loaded."""
    disk = tmp_path / "disk"
    disk.mkdir()
    if (
        os.geteuid() != 0
        or subprocess.run(
            ["mount", "-t", "tmpfs", "-o", "size=290m", "tmpfs", str(disk)], check=False, capture_output=True
        ).returncode
    ):
        pytest.skip("a small disk can only be made by root")
    try:
        with mariadbs.server(disk, "--innodb-log-file-size=8M") as sea:
            rock = Rock(tmp_path, sea)
            rock.sql(
                "create table t (a int primary key, b varchar(60)); insert into t select seq, md5(seq) from seq_1_to_150000"
            )
            rock("snapshot", "--note", "one")
            rock.sql("update t set b = 'x' where a = 1")
            before = rock.dump()
            room = os.statvfs(disk)
            with (disk / "ballast").open("wb") as handle:
                handle.write(b"x" * max(0, room.f_bavail * room.f_frsize - 6_000_000))
            ran = rock("restore", "one", "--only", "databases", "--go", code=None)
            assert ran.code in (2, 5), ran.out + ran.err
            assert "Traceback" not in ran.err
            assert rock.dump() == before
            (disk / "ballast").unlink()
            keep = rock.keep()
            if "undo" in ran.err:
                rock("undo", "--go")
            with closing(Store(keep.store_folder)) as store:
                put_back(keep, snapshot.find(store, keep, "one", snapshot.snapshots(store)[0][-1].taken), "accounts")
            assert rock.sql("select b = md5(1) from t where a = 1") == [["1"]]
    finally:
        subprocess.run(["umount", "-l", str(disk)], check=False)
