"""The walk with databases: the vendor's SQL, prices shipped as SQL, and all of it taken back.

SQLite files stand in for a database server here: every command is the same with MariaDB or MySQL.
"""

from __future__ import annotations

import sqlite3
import zipfile
from contextlib import closing
from pathlib import Path

from emberkeep.demo.sample import SERVER
from emberkeep.demo.walk import Walk, WalkFailed

MARKET = "harbour/market.db"
CONTENTS = "contents/market.sql"
TOLD = """
# what the keepers add: a database of prices, and how the vendor lays out the SQL that steps databases on
[[database]]
name = "market"
holds = "world"
file = "harbour/market.db"
version = { table = "release", column = "number" }
defaults = ["contents/*.sql"]
tables = ["price"]

[vendor-sql]
layout = "from-{from}/{database}/{part}-*.sql"
"""
_PRICES = {
    "4.2": "('lamp-oil', 'light', 12, null), ('hardtack', 'food', 3, null), ('salt-cod', 'food', 6, null),"
    " ('tarred-rope', 'gear', 9, 'by the fathom'), ('fish-glue', 'gear', 4, null)",
    "4.3": "('lamp-oil', 'light', 14, null), ('hardtack', 'food', 4, null), ('salt-cod', 'food', 5, null),"
    " ('tarred-rope', 'gear', 9, 'by the fathom'), ('storm-lantern', 'light', 60, 'new')",
}
_BY_HAND = (
    "update price set worth = 6 where good = 'hardtack';"  # which the vendor changes too
    "update price set note = 'Una buys it' where good = 'salt-cod';"
    "insert into price values ('gull-feather', 'gear', 1, 'our own');"
)
_STEPS = {
    "structure-1.sql": "alter table purse add column owed integer not null default 0;\n",
    "data-1.sql": "update purse set owed = 5 where silver < 10;\nupdate release set number = '4.3';\n",
}
"""The vendor's SQL from 4.2 on, by file."""


class DatabaseWalk(Walk):
    """Steps a database on, merges the vendor's new prices into hand-edited ones, and takes both back."""

    def run(self) -> None:
        """The whole of it. WalkFailed when a command ends otherwise than it must."""
        build(self.folder)
        before = (self.server / MARKET).read_bytes()
        self._title("A database of prices and purses. keep.toml names it, and how the vendor's SQL is laid out")
        self._command("adopt", SERVER, "--zone", "Atlantic/Faroe")
        self.keep = f"{SERVER}.keep"
        with (self.folder / self.keep / "keep.toml").open("a", encoding="utf-8") as file:
            file.write(TOLD)
        self.say(TOLD.rstrip())
        self._command("survey", expected=1)
        self._command("snapshot", "--note", "before 4.3")
        self._step_on()
        self._merge_prices()
        self._back(before)

    def _step_on(self) -> None:
        self._title("The vendor's SQL takes it from 4.2 to 4.3: structure before data, each file once")
        self._command("migrate", "--from", "4.2", "--to", "4.3", "--sql", "releases/sql")
        self._command("migrate", "--from", "4.2", "--to", "4.3", "--sql", "releases/sql", "--go")
        self._command("diff", "before 4.3", "live", "--only", MARKET, expected=1)

    def _merge_prices(self) -> None:
        self._title("The vendor ships new prices as SQL. Ours were edited by hand: merged by key, like any file")
        self._command("defaults", "record", "4.2", "releases/skerrylight-4.2")
        self._command("defaults", "record", "4.3", "releases/skerrylight-4.3.zip")
        merge = ("merge", "--from", "4.2", "--to", "4.3", "--only", "databases/market")
        self._command(*merge, "--details", "--questions", "questions.toml", expected=1)
        questions = self.folder / "questions.toml"
        questions.write_text(questions.read_text(encoding="utf-8").replace('answer = ""', 'answer = "= 7"'), "utf-8")
        self.say('\n(the keepers write the answer "= 7" into questions.toml)')
        self._command(*merge, "--answers", "questions.toml", "--go")
        self._check_prices()

    def _check_prices(self) -> None:
        with closing(sqlite3.connect(self.server / MARKET)) as database:
            found = database.execute("select good, worth, note from price order by good").fetchall()
        wanted = [
            ("gull-feather", "1", "our own"),
            ("hardtack", "7", None),
            ("lamp-oil", "14", None),
            ("salt-cod", "5", "Una buys it"),
            ("storm-lantern", "60", "new"),
            ("tarred-rope", "9", "by the fathom"),
        ]
        if [(good, str(worth), note) for good, worth, note in found] != wanted:
            raise WalkFailed("the prices are not what they should be")

    def _back(self, before: bytes) -> None:
        self._title("And back, both of it")
        self._command("undo", "--go")
        self._command("undo", "--go")
        if (self.server / MARKET).read_bytes() != before:
            raise WalkFailed("the database is not as it was")
        self.say("\n(the database is again what it was, byte for byte)")


def _contents(version: str) -> str:
    return (
        "drop table if exists price;\n"
        "create table price (good text primary key, kind text, worth integer, note text);\n"
        f"insert into price values {_PRICES[version]};\n"
    )


def build(folder: Path) -> None:
    """Put a database into the sample that stands in ``folder``, and what the vendor ships for it into its releases."""
    path = folder / SERVER / MARKET
    path.parent.mkdir()
    with closing(sqlite3.connect(path)) as database:
        database.executescript(_contents("4.2") + _BY_HAND)
        database.executescript(
            "create table release (number text); insert into release values ('4.2');"
            "create table purse (keeper text primary key, silver integer);"
            "insert into purse values ('una', 41), ('mooring', 7);"
        )
    releases = folder / "releases"
    (releases / "skerrylight-4.2" / CONTENTS).parent.mkdir()
    (releases / "skerrylight-4.2" / CONTENTS).write_text(_contents("4.2"), encoding="utf-8")
    with zipfile.ZipFile(releases / "skerrylight-4.3.zip", "a") as archive:
        top = {name.split("/", 1)[0] for name in archive.namelist()}
        below = f"{next(iter(top))}/" if len(top) == 1 else ""
        archive.writestr(below + CONTENTS, _contents("4.3"))
    for name, text in _STEPS.items():
        step = releases / "sql" / "from-4.2" / "market" / name
        step.parent.mkdir(parents=True, exist_ok=True)
        step.write_text(text, encoding="utf-8")
