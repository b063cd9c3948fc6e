"""Dumps, restores and comparisons on a real MariaDB, and what reads them without one."""

from __future__ import annotations

import random
import stat
import threading
import time
from collections import Counter
from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from emberkeep.comparing.dumps import Side, compare_dumps
from emberkeep.comparing.records import Kind
from emberkeep.databases import dump, load, rows, tables
from emberkeep.databases.dump import Facts, Watch
from emberkeep.databases.mariadb import Access, Connection
from emberkeep.databases.rows import Structure
from emberkeep.databases.statements import statements
from emberkeep.errors import Damage, EmberKeepError, Refused, RunFailed, UnreadableInput
from tests import depth, mariadbs
from tests.mariadbs import ODD, Server


@pytest.fixture(scope="module")
def sea(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Server]:
    with mariadbs.server(tmp_path_factory.mktemp("sea")) as running:
        yield running


@pytest.fixture
def odd(sea: Server) -> Access:
    schema = sea.schema()
    sea.sql(ODD, schema)
    return sea.access(schema)


def taken(access: Access) -> tuple[bytes, Facts]:
    watch = Watch()
    data = b"".join(dump.dumped(access, watch))
    return data, dump.facts_of(access, watch)


def put_back(access: Access, data: bytes, told: Facts) -> None:
    load.restore(
        access, lambda: iter([data[at : at + 100_000] for at in range(0, len(data), 100_000)]), told, len(data)
    )


def program(path: Path, text: str) -> str:
    path.write_text(f"#!/bin/sh\n{text}\n")
    path.chmod(path.stat().st_mode | stat.S_IXUSR)
    return str(path)


# --- SQL taken apart -------------------------------------------------------------


@pytest.mark.parametrize(
    ("text", "expected"),
    [
        ("select 1;\nselect 2", [(1, "select 1"), (2, "select 2")]),
        ("-- a; b\n\n select ';' ;", [(3, "select ';'")]),
        ("# x;\nselect 'it''s; \\';' ;select `a;``b`;", [(2, "select 'it''s; \\';'"), (2, "select `a;``b`")]),
        ("/* a; \n b; */ select 1;", [(2, "select 1")]),
        ("/*!40101 set a = 1 */;\nx;", [(1, "/*!40101 set a = 1 */"), (2, "x")]),
        ("delimiter //\ncreate a; b;\nend//\nDELIMITER ;\nx;", [(2, "create a; b;\nend"), (5, "x")]),
        ("select 'two\nlines';\n\n\ny", [(1, "select 'two\nlines'"), (5, "y")]),
        ("select 1 -- why; not\n + 1;", [(1, "select 1 \n + 1")]),
        ("select 5--1;", [(1, "select 5--1")]),
        (";;\n;", []),
        ("\n\n-- nothing\n", []),
    ],
)
def test_statements_are_told_with_their_lines(text: str, expected: list[tuple[int, str]]) -> None:
    assert [(one.line, one.text.decode()) for one in statements([text.encode()])] == expected


PIECES = st.sampled_from(
    ["select 1", "';'", '"a\\";"', "`;`", "'two\nlines;'", "a.b", "''", "x = 'it''s'", "5 - -1", "/*!50003 y */", "\n"]
)


@given(st.lists(st.lists(PIECES, min_size=1), max_size=6), st.integers(1, 7), st.sampled_from([";", "//", "$$"]))
def test_statements_come_back_whole_however_they_are_cut(told: list[list[str]], size: int, delimiter: str) -> None:
    wanted = [text for parts in told if (text := " ".join(parts).strip())]
    text = (
        f"delimiter {delimiter}\n" + "".join(f"{one}\n{delimiter}\n-- note ; {delimiter}\n" for one in wanted)
    ).encode()
    found = statements(text[at : at + size] for at in range(0, len(text), size))
    assert [one.text.decode() for one in found] == wanted


# --- dumps -----------------------------------------------------------------------


@pytest.mark.long
def test_a_dump_put_back_is_the_same_to_the_byte(sea: Server, odd: Access) -> None:
    data, told = taken(odd)
    assert {name: one.rows for name, one in told.tables.items()} == {
        "odd `name": 3, "people": 3, "boats": 3, "heap": 3, "empty_one": 0
    }  # fmt: skip
    sea.sql(
        "delete from boats; drop view fleet; drop procedure moor; create table more (a int); insert into more values (1);"
        "create view other as select * from people; drop event ebb; update people set name = 'X'",
        odd.schema,
    )
    put_back(odd, data, told)
    assert taken(odd)[0] == data
    assert sea.sql("select name, id from fleet order by id", odd.schema) == [
        ["Mooring", "1"],
        ["Sculler", "2"],
        ["Sculler", "7"],
    ]
    assert sea.sql("select nextval(tides), next_tide(4)", odd.schema) == [["100", "5"]]
    assert [name for name in sea.schemas() if "_ember_" in name] == []


def test_a_dump_goes_into_another_database_too(sea: Server, odd: Access) -> None:
    data, told = taken(odd)
    other = replace(odd, schema=f"{odd.schema}_other")
    put_back(other, data, told)
    assert taken(other)[0].replace(other.schema.encode(), odd.schema.encode()) == data
    assert taken(odd)[0] == data


def test_counts_do_not_depend_on_how_a_dump_is_cut(odd: Access) -> None:
    data, told = taken(odd)
    for size in depth.choose((7, 4096), (1, 7, 100, 4096, 1 << 20)):
        watch = Watch()
        for at in range(0, len(data), size):
            watch.see(data[at : at + size])
        assert watch.tables == told.tables
        assert watch.complete


def test_what_was_dumped_is_kept_and_read_again(odd: Access) -> None:
    told = taken(odd)[1]
    assert dump.parse(dump.serialize(told), "x") == told
    with pytest.raises(Damage):
        dump.parse(b'{"format": 1}', "x")
    with pytest.raises(Refused):
        dump.parse(dump.serialize(told).replace(b'"format": 1', b'"format": 2'), "x")


def test_a_row_a_statement_is_the_same_to_all_that_read_dumps(sea: Server, odd: Access, tmp_path: Path) -> None:
    """As MySQL's client writes them."""
    data, told = taken(odd)
    single = replace(
        odd,
        client=program(
            tmp_path / "client",
            '[ "$1" = --version ] && exec mariadb-dump --version\nconfig=$1; shift\nexec mariadb-dump "$config" --skip-extended-insert "$@"',
        ),
    )
    watch = Watch()
    other = b"".join(dump.dumped(single, watch))
    assert other != data
    assert watch.tables == told.tables
    assert compare_dumps(side("a", data), side("b", other)) == []
    sea.sql("delete from boats", odd.schema)
    put_back(odd, other, told)
    assert taken(odd)[0] == data


TEXT = st.text(st.characters(codec="utf-8", exclude_characters="\0"), max_size=12) | st.sampled_from(
    ["a\0b", "');\n", "\\", "'", "''", "\x1a", "NULL", "0x41", "😀" * 3, "\r\n"]
)


@settings(max_examples=12)
@given(
    st.lists(
        st.tuples(st.none() | TEXT, st.none() | st.binary(max_size=12), st.none() | st.integers(-9, 9)), max_size=30
    )
)
def test_rows_of_a_dump_are_read_as_the_server_reads_them(
    sea: Server, told: list[tuple[str | None, bytes | None, int | None]]
) -> None:
    access = sea.access(sea.schema())
    with Connection(access) as connection:
        connection.execute("create table t (id int primary key, a text, b blob, c int)")
        for at, values in enumerate(told):
            connection.execute("insert into t values (%s, %s, %s, %s)", [at, *values])
        there = connection.all("select * from t order by id")
    structure = Structure()
    found = []
    for row in rows.rows(dump.dumped(access, Watch()), structure):
        found.append(rows.values(row, ["id", "a", "b", "c"]))
    assert [tuple(row.values()) for row in found] == [
        (number, a, b if b is None or b else "", c) for number, a, b, c in there
    ]  # an empty binary value is spelled '' by the client
    sea.sql(f"drop database {access.schema}")


# --- what can go wrong -------------------------------------------------------------


def test_a_dump_that_is_cut_short_leaves_the_old_one_serving(sea: Server, odd: Access) -> None:
    data, told = taken(odd)
    before = taken(odd)[0]
    for end in (data.index(b"INSERT INTO `heap`"), len(data) // 2, data.index(b"CREATE TABLE `people`") + 30):
        with pytest.raises(EmberKeepError) as caught:
            put_back(odd, data[:end], told)
        assert caught.value.exit_code in (2, 5)
        assert taken(odd)[0] == before
    assert [name for name in sea.schemas() if "_ember_" in name] == []


def test_what_is_not_as_recorded_or_cannot_stand_around_the_tables_is_never_swapped_in(
    sea: Server, odd: Access
) -> None:
    data, told = taken(odd)
    function = b"FUNCTION `next_tide`(a int)"
    for old, new, says in (
        (b"(1,'y'),\n", b"", "heap"),
        (b"(1,'y')", b"(1,'Y')", "heap"),
        (function, function.replace(b"int", b"nothing"), "nothing"),
    ):
        assert old in data
        with pytest.raises((RunFailed, UnreadableInput), match=says):
            put_back(odd, data.replace(old, new), told)
        assert taken(odd)[0] == data


def test_an_event_that_cannot_be_made_after_the_swap_puts_the_old_one_back(sea: Server, odd: Access) -> None:
    data, told = taken(odd)
    sea.sql("update people set name = 'later' where id = 1", odd.schema)
    later = taken(odd)[0]
    broken = data.replace(b"ON SCHEDULE EVERY 1 DAY", b"ON SCHEDULE EVERY 0 DAY")
    assert broken != data
    with pytest.raises(RunFailed, match="the old one serves"):
        put_back(odd, broken, told)
    assert taken(odd)[0] == later
    assert [name for name in sea.schemas() if "_ember_" in name] == []


def test_a_line_that_is_cut_while_loading_leaves_the_old_one_serving(sea: Server, odd: Access) -> None:
    data, told = taken(odd)

    def cut() -> Iterator[bytes]:
        half = data.index(b"INSERT INTO `people`")
        yield data[:half]
        mine = [
            row[0] for row in sea.sql(f"select id from information_schema.processlist where user = '{mariadbs.USER}'")
        ]
        sea.sql("".join(f"kill {number};" for number in mine))
        yield data[half:]

    with pytest.raises(EmberKeepError) as caught:
        load.restore(odd, cut, told, len(data))
    assert "lost" in str(caught.value) or "kill" in str(caught.value).lower()
    assert taken(odd)[0] == data
    put_back(odd, data, told)  # what was left of it is no hindrance
    assert taken(odd)[0] == data


@pytest.mark.parametrize(
    ("script", "said"),
    [
        ('mariadb-dump "$@"; echo "warning: a view is broken" >&2', "a view is broken"),
        (
            '[ "$1" = --version ] && exec mariadb-dump --version; mariadb-dump "$@" > "$0.out"; head -c 900 "$0.out"',
            "ends early",
        ),
        ('mariadb-dump "$@"; exit 3', "ended with 3"),
    ],
)
def test_a_dump_that_warns_ends_early_or_badly_is_none(odd: Access, tmp_path: Path, script: str, said: str) -> None:
    with pytest.raises(RunFailed, match=said):
        list(dump.dumped(replace(odd, client=program(tmp_path / "client", script)), Watch()))


def test_no_client_is_told_with_what_to_install(odd: Access, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("PATH", "/nowhere")
    with pytest.raises(Refused) as caught:
        list(dump.dumped(odd, Watch()))
    assert "mariadb-client" in caught.value.faults[0].hint


def test_the_password_is_in_no_command_line(odd: Access, tmp_path: Path) -> None:
    seen = tmp_path / "seen"
    client = program(tmp_path / "client", f'[ "$1" = --version ] || echo "$@" >> {seen}\nmariadb-dump "$@"')
    list(dump.dumped(replace(odd, client=client), Watch()))
    assert mariadbs.WORD not in seen.read_text()
    assert mariadbs.WORD not in repr(odd)


def test_who_cannot_come_in_is_told_why(sea: Server, odd: Access) -> None:
    for access, said in (
        (replace(odd, password="high tide"), "refuses user and password"),
        (replace(odd, port=1), "cannot be reached"),
        (replace(odd, schema="nowhere"), "no such database"),
        (Access("x", "x", "x", socket="/nowhere/s"), "cannot be reached"),
    ):
        with pytest.raises(UnreadableInput, match=said) as caught:
            Connection(access)
        assert "high tide" not in str(caught.value)


def test_two_at_once_the_second_is_refused(odd: Access) -> None:
    with Connection(odd) as first, first.held(), Connection(odd) as second:
        held = second.held()
        with pytest.raises(Refused, match="another Ember Keep"):
            held.__enter__()
    with Connection(odd) as third, third.held():
        pass


def test_who_may_not_make_databases_is_told(sea: Server, odd: Access) -> None:
    data, told = taken(odd)
    sea.sql(f"create or replace user little@'%' identified by 'x'; grant select on {odd.schema}.* to little@'%'")
    with pytest.raises(UnreadableInput, match="may not"):
        put_back(replace(odd, user="little", password="x"), data, told)
    assert taken(odd)[0] == data


def test_readers_see_the_old_or_the_new_never_neither(sea: Server, odd: Access) -> None:
    data, told = taken(odd)
    stop = threading.Event()
    counts: list[str] = []

    def reads() -> None:
        with Connection(odd) as connection:
            while not stop.is_set():
                counts.append(str(connection.one("select count(*) from people")))
                time.sleep(0.002)

    thread = threading.Thread(target=reads)
    thread.start()
    try:
        for _ in range(3):
            put_back(odd, data, told)
    finally:
        stop.set()
        thread.join()
    assert set(counts) == {"3"}


# --- comparing -------------------------------------------------------------------


def side(label: str, data: bytes) -> Side:
    watch = Watch()
    watch.see(data)
    return Side(label, lambda: iter([data]), watch.tables)


def test_all_that_differs_is_told_and_nothing_else(sea: Server, odd: Access) -> None:
    before = taken(odd)[0]
    assert compare_dumps(side("a", before), side("b", before)) == []
    sea.sql(
        "update people set name = 'Mooring the 2nd' where id = 1; insert into people values (9, 'New');"
        "delete from boats where id = 7; insert into heap values (3, 'z'); drop procedure moor;"
        "alter table boats add column sail int; create table fresh (a int primary key); insert into fresh values (1), (2);"
        "drop table empty_one; update `odd ``name` set b = 0x01 where `id x` = 2",
        odd.schema,
    )
    found = {
        (one.record, one.field, one.kind, one.left, one.right)
        for one in compare_dumps(side("a", before), side("b", taken(odd)[0]))
    }
    assert found == {
        ("people[id=1]", "name", Kind.CHANGED, "Mooring", "Mooring the 2nd"),
        ("people", "(rows)", Kind.CHANGED, None, "1 row"),
        ("people", "(rows)", Kind.ADDED, None, "1 row"),
        ("people[id=9]", "(row)", Kind.ADDED, None, "name New"),
        ("boats", "(rows)", Kind.REMOVED, "1 row", None),
        ("boats[id=7]", "(row)", Kind.REMOVED, "owner 2", None),
        ("heap", "(rows)", Kind.REMOVED, "1 row of different values", None),
        ("heap[]", "(row)", Kind.REMOVED, "a 3, b z (2 times)", None),
        ("heap", "(rows)", Kind.ADDED, None, "1 row of different values"),
        ("heap[]", "(row)", Kind.ADDED, None, "a 3, b z (3 times)"),
        ("procedure moor", "(schema)", Kind.REMOVED, "CREATE DEFINER=`root`@`localhost` PROCEDURE `moor`() begin select 1; end", None),
        ("table boats", "column sail", Kind.ADDED, None, "int(11) DEFAULT NULL"),
        ("table fresh", "(schema)", Kind.ADDED, None, "a"),
        ("fresh", "(rows)", Kind.ADDED, None, "2 rows"),
        ("table empty_one", "(schema)", Kind.REMOVED, "a", None),
        ('"odd `name"', "(rows)", Kind.CHANGED, None, "1 row"),
        ('"odd `name"[id x=2]', "b", Kind.CHANGED, "", "x'01'"),
    }  # fmt: skip


@settings(max_examples=8)
@given(st.randoms(use_true_random=False))
def test_differences_are_those_that_were_made(sea: Server, chance: random.Random) -> None:
    access = sea.access(sea.schema())
    sea.sql(
        "create table t (id int primary key, v int); insert into t select seq, seq % 7 from seq_1_to_400", access.schema
    )
    before = taken(access)[0]
    numbers = list(range(1, 401))
    gone = set(chance.sample(numbers, chance.randrange(15)))
    changed = set(chance.sample([one for one in numbers if one not in gone], chance.randrange(15)))
    new = {1000 + at for at in range(chance.randrange(15))}
    sea.sql(
        "".join(f"delete from t where id = {one};" for one in gone)
        + "".join(f"update t set v = 99 where id = {one};" for one in changed)
        + "".join(f"insert into t values ({one}, 1);" for one in new),
        access.schema,
    )
    found = compare_dumps(side("a", before), side("b", taken(access)[0]))
    by_kind = {kind: {one.record for one in found if one.kind is kind and "[" in one.record} for kind in Kind}
    assert by_kind[Kind.REMOVED] == {f"t[id={one}]" for one in gone}
    assert by_kind[Kind.ADDED] == {f"t[id={one}]" for one in new}
    assert by_kind[Kind.CHANGED] == {f"t[id={one}]" for one in changed}
    sea.sql(f"drop database {access.schema}")


@given(st.lists(st.integers(-4, 4), max_size=40), st.lists(st.integers(-4, 4), max_size=40), st.integers(1, 9))
def test_rows_that_the_other_side_has_just_so_often_are_alike(left: list[int], right: list[int], part: int) -> None:
    import numpy as np

    from emberkeep.comparing import dumps

    counts = Counter(left), Counter(right)
    wanted = [bytes(counts[0][one] != counts[1][one] for one in side) for side in (left, right)]
    with pytest.MonkeyPatch.context() as patched:
        patched.setattr(dumps, "AT_A_TIME", part)
        assert list(dumps.unmatched(*(np.array(side, np.int64) for side in (left, right)))) == wanted


# --- tables as XML -----------------------------------------------------------------


@given(st.text(min_size=1, max_size=8))
def test_names_come_back_from_xml(name: str) -> None:
    import xml.etree.ElementTree as ET

    told = tables.xml_name(name)
    assert (
        tables.plain_name(ET.fromstring(f"<{told}/>".encode("utf-8", "surrogatepass")).tag if told.isascii() else told)
        == name
    )


@settings(max_examples=15)
@given(st.lists(st.tuples(st.none() | TEXT, st.none() | st.binary(max_size=9)), max_size=20))
def test_rows_come_back_from_xml(sea: Server, told: list[tuple[str | None, bytes | None]]) -> None:
    access = sea.access(sea.schema())
    with Connection(access) as connection:
        connection.execute("create table `a b` (id int primary key, `x y` text, b blob)")
        for at, values in enumerate(told):
            connection.execute("insert into `a b` values (%s, %s, %s)", [at, *values])
        source = tables.Served(connection)
        shape = source.shape("a b")
        there = list(source.rows(shape))
        assert tables.from_xml(tables.to_xml(source, shape), shape, "x") == there
    sea.sql(f"drop database {access.schema}")


@pytest.mark.long
def test_a_million_rows(sea: Server) -> None:
    """Dumped, put back, compared: in bounded memory, and to the row."""
    access = sea.access(sea.schema())
    sea.sql(
        "create table t (id int primary key, name varchar(40), silver int, bag varbinary(16));"
        "insert into t select seq, concat('keeper ', seq), seq % 1000, unhex(md5(seq)) from seq_1_to_1000000",
        access.schema,
    )
    watch = Watch()
    packed: list[bytes] = list(dump.dumped(access, watch))
    told = dump.facts_of(access, watch)
    assert told.rows == 1_000_000
    sea.sql(
        "delete from t where id % 250000 = 0; update t set silver = -1 where id = 77; insert into t values (0, 'x', 1, null)",
        access.schema,
    )
    after_watch = Watch()
    after = list(dump.dumped(access, after_watch))
    found = compare_dumps(
        Side("a", lambda: iter(packed), watch.tables), Side("b", lambda: iter(after), after_watch.tables)
    )
    assert {(one.record, one.kind) for one in found if "[" in one.record} == {
        *((f"t[id={number}]", Kind.REMOVED) for number in (250000, 500000, 750000, 1000000)),
        ("t[id=77]", Kind.CHANGED),
        ("t[id=0]", Kind.ADDED),
    }
    load.restore(access, lambda: iter(packed), told, watch.size)
    assert sea.sql("select count(*), sum(silver) from t", access.schema) == [["1000000", "499500000"]]
    sea.sql(f"drop database {access.schema}")
