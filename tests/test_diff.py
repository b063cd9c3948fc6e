"""Differences in each file's own terms: tiles, rows, members, byte ranges, totals, renames; and what is asked for."""

from __future__ import annotations

import io
import os
import re
import sqlite3
import struct
import zipfile
from collections import Counter
from contextlib import closing
from decimal import Decimal
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from emberkeep.comparing import fit
from emberkeep.comparing.files import Comparison, TreeDifference, compare_trees
from emberkeep.comparing.picking import condition
from emberkeep.comparing.ranges import APART, WINDOW, changed_ranges
from emberkeep.comparing.records import Kind, compare
from emberkeep.comparing.rows import SAMPLE, compare_databases
from emberkeep.comparing.tiles import changed_share
from emberkeep.comparing.totals import totals
from emberkeep.documents.model import Document
from emberkeep.errors import UnreadableInput
from emberkeep.fs.folder_tree import FolderTree
from emberkeep.inventory.tiles import TileNames, seen_tiles
from tests.conftest import tree_state
from tests.helpers import parsed
from tests.program import Program, run_program


def two_folders(tmp_path: Path, left: dict[str, bytes], right: dict[str, bytes]) -> tuple[FolderTree, FolderTree]:
    for name, contents in (("left", left), ("right", right)):
        (tmp_path / name).mkdir(parents=True)
        for path, data in contents.items():
            (tmp_path / name / path).parent.mkdir(parents=True, exist_ok=True)
            (tmp_path / name / path).write_bytes(data)
    return FolderTree(tmp_path / "left"), FolderTree(tmp_path / "right")


def difference(tmp_path: Path, left: dict[str, bytes], right: dict[str, bytes]) -> TreeDifference:
    trees = two_folders(tmp_path, left, right)
    return compare_trees(*trees, Comparison(times=False, tiles=seen_tiles(trees[0].entries().values())))


# --- byte ranges and tiles ---------------------------------------------------

pieces = st.lists(st.binary(max_size=40), max_size=6)


@given(pieces, pieces)
def test_byte_ranges_are_those_that_a_plain_loop_finds(left: list[bytes], right: list[bytes]) -> None:
    first, second = b"".join(left), b"".join(right)
    found = changed_ranges(left, right)
    longest = max(len(first), len(second))
    differing = [at for at in range(longest) if first[at : at + 1] != second[at : at + 1]]
    assert (found.changed, found.total) == (len(differing), longest)
    covered = {at for start, end in found.ranges for at in range(start, end)}
    assert covered >= set(differing)
    assert all(start in differing and end - 1 in differing for start, end in found.ranges)
    ends = [end for _, end in found.ranges]
    assert all(start - end >= APART for (start, _), end in zip(found.ranges[1:], ends, strict=False))


def test_byte_ranges_run_across_windows() -> None:
    first = bytes(WINDOW + 100)
    second = bytearray(first)
    second[WINDOW - 2 : WINDOW + 3] = b"wrack"
    found = changed_ranges([first], [bytes(second[:7]), bytes(second[7:])])
    assert found.ranges == ((WINDOW - 2, WINDOW + 3),)
    assert found.changed == 5


@given(st.lists(st.sampled_from([b"a" * 8, b"b" * 8]), max_size=9), st.data(), st.integers(1, 5))
def test_a_tiles_share_counts_sectors_however_it_is_read(sectors: list[bytes], data: st.DataObject, cut: int) -> None:
    other = [data.draw(st.sampled_from([sector, b"c" * 8])) for sector in sectors]
    wanted = sum(a != b for a, b in zip(sectors, other, strict=True)) / len(sectors) if sectors else 0
    whole = b"".join(sectors)
    chunks = [whole[at : at + cut] for at in range(0, len(whole), cut)]
    assert changed_share(chunks, other, 8) == pytest.approx(wanted)


def test_tiles_are_told_by_a_map_of_their_coordinates(tmp_path: Path) -> None:
    left = {f"w/chart/strip.{x}.{y}.sea": bytes(4096 * 4) for x in (-1, 0, 1) for y in (5, 6)}
    right = dict(left)
    right["w/chart/strip.-1.5.sea"] = bytes(4096) + b"x" + bytes(4096 * 3 - 1)
    del right["w/chart/strip.0.6.sea"]
    right["w/chart/strip.2.6.sea"] = b"new" * 1000
    found = difference(tmp_path, left, right)
    (drawn,) = found.maps
    assert [(tile.x, tile.y, tile.kind, tile.share) for tile in drawn.tiles] == [
        (-1, 5, Kind.CHANGED, 0.25),
        (0, 6, Kind.REMOVED, 1.0),
        (2, 6, Kind.ADDED, 1.0),
    ]
    assert drawn.bounds == (-1, 5, 2, 6)
    assert drawn.folder == "w/chart"
    assert drawn.same == {(0, 5), (1, 5), (-1, 6), (1, 6)}
    assert {item.terms.format for item in found.files} == {"tile"}


@pytest.mark.parametrize(
    ("names", "path", "place"),
    [
        ("chart/strip.{x}.{y}.sea", "outer/chart/strip.-3.12.sea", ("outer", -3, 12)),
        ("r.{x}.{y}.*", "r.1.2.gz", ("", 1, 2)),
        ("chart/strip.{x}.{y}.sea", "chart/strip.1.sea", None),
        ("t-{y}-{x}", "deep/er/t-4-7", ("deep/er", 7, 4)),
    ],
)
def test_tile_names(names: str, path: str, place: tuple[str, int, int] | None) -> None:
    assert TileNames(names).place(path) == place


# --- renames, members --------------------------------------------------------


def test_a_moved_file_is_recognised_by_its_contents(tmp_path: Path) -> None:
    left = {"a/notes.txt": b"reef\n", "b/other.txt": b"pier\n", "empty": b"", "twin1": b"same", "twin2": b"same"}
    right = {"c/notes.txt": b"pier\n", "a/elsewhere.txt": b"reef\n", "bare": b"", "third": b"same"}
    found = difference(tmp_path, left, right)
    moved = {item.path: item.renamed_from for item in found.files if item.kind is Kind.MOVED}
    assert moved == {"a/elsewhere.txt": "a/notes.txt", "c/notes.txt": "b/other.txt", "third": "twin1"}
    assert {item.path for item in found.files if item.kind is Kind.REMOVED} == {"b", "empty", "twin2"}


def packed(**contents: bytes) -> bytes:
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w") as archive:
        for name, data in contents.items():
            archive.writestr(name, data)
    return out.getvalue()


def test_an_archive_is_compared_by_its_members(tmp_path: Path) -> None:
    found = difference(
        tmp_path,
        {"x.ext": packed(one=b"1", two=b"2", gone=b"g")},
        {"x.ext": packed(two=b"2", one=b"I", come=b"come")},
    )
    (item,) = found.files
    details = [(one.record, one.kind, one.left, one.right) for one in item.terms.details]
    assert item.terms.format == "archive"
    assert details == [
        ("come", Kind.ADDED, None, "4 bytes"),
        ("gone", Kind.REMOVED, "1 bytes", None),
        ("one", Kind.CHANGED, "1 bytes", "1 bytes"),
    ]


# --- rows --------------------------------------------------------------------

Rows = dict[tuple[str, int], str | None]
keys = st.tuples(st.sampled_from(["ada", "bo", "çi"]), st.integers(-2, 3))
tables = st.dictionaries(keys, st.sampled_from([None, "rope", "tar", "7"]), max_size=8)


def database(
    path: Path,
    rows: Rows,
    table: str = "create table learned (who text, craft int, what text, primary key (craft, who))",
) -> Path:
    path.parent.mkdir(parents=True, exist_ok=True)
    path.unlink(missing_ok=True)
    with closing(sqlite3.connect(path)) as made, made:
        made.execute(table)
        made.executemany(
            "insert into learned values (?, ?, ?)", [(who, craft, what) for (who, craft), what in rows.items()]
        )
    return path


@given(left=tables, right=tables)
def test_rows_are_compared_by_primary_key(tmp_path: Path, left: Rows, right: Rows) -> None:
    first, second = database(tmp_path / "l.db", left), database(tmp_path / "r.db", right)
    found = compare_databases(first, second, "x.db")
    counts = {item.kind: str(item.left or item.right) for item in found if item.field == "(rows)"}
    wanted = {
        Kind.ADDED: len(right.keys() - left.keys()),
        Kind.REMOVED: len(left.keys() - right.keys()),
        Kind.CHANGED: sum(left[key] != right[key] for key in left.keys() & right.keys()),
    }
    assert {kind: int(text.split()[0]) for kind, text in counts.items()} == {k: n for k, n in wanted.items() if n}
    cells = {item.record: (item.left, item.right) for item in found if item.field == "what"}
    shown = {None: "null"}
    assert cells == {
        f"learned[craft={craft},who={who}]": (shown.get(left[who, craft], left[who, craft]), shown.get(right[who, craft], right[who, craft]))
        for who, craft in left.keys() & right.keys()
        if left[who, craft] != right[who, craft]
    }  # fmt: skip


@given(
    left=st.lists(st.sampled_from(["a", "b", "c"]), max_size=6),
    right=st.lists(st.sampled_from(["a", "b", "c"]), max_size=6),
)
def test_rows_without_a_key_are_a_heap(tmp_path: Path, left: list[str], right: list[str]) -> None:
    sides = []
    for name, rows in (("l.db", left), ("r.db", right)):
        (tmp_path / name).unlink(missing_ok=True)
        with closing(sqlite3.connect(tmp_path / name)) as made, made:
            made.execute("create table wreck (plank text)")
            made.executemany("insert into wreck values (?)", [(row,) for row in rows])
        sides.append(tmp_path / name)
    found = compare_databases(*sides, "x.db")
    before, after = Counter(left), Counter(right)
    wanted = {plank for plank in "abc" if before[plank] != after[plank]}
    assert {str(item.left or item.right)[6:7] for item in found if item.field == "(row)"} == wanted


def test_a_schema_that_changed_is_told_column_by_column(tmp_path: Path) -> None:
    first = database(tmp_path / "l.db", {("ada", 1): "rope"})
    second = database(
        tmp_path / "r.db",
        {("ada", 1): "rope"},
        "create table learned (who text, craft text, what text, day int, primary key (craft, who))".replace(
            ", day int", ""
        ),
    )
    with closing(sqlite3.connect(second)) as made, made:
        made.execute("alter table learned add day integer not null default 3")
        made.execute("create index by_day on learned (day)")
        made.execute("create table berths (name text primary key)")
        made.execute("insert into berths values ('old pier')")
    details = [
        (item.record, item.field, item.kind, item.left, item.right) for item in compare_databases(first, second, "x.db")
    ]
    assert ("table learned", "column craft", Kind.CHANGED, "INT", "TEXT") in details
    assert ("table learned", "column day", Kind.ADDED, None, "INTEGER not null") in details
    assert ("index by_day", "(schema)", Kind.ADDED, None, "CREATE INDEX by_day on learned (day)") in details
    assert ("berths", "(rows)", Kind.ADDED, None, "1 row") in details


def test_many_rows_are_counted_and_some_shown(tmp_path: Path) -> None:
    first = database(tmp_path / "l.db", {})
    second = database(tmp_path / "r.db", {("ada", craft): "x" for craft in range(500)})
    found = compare_databases(first, second, "x.db")
    assert found[0].right == "500 rows"
    assert len(found) == 1 + SAMPLE


@pytest.mark.parametrize("mode", ["wal", "delete"])
def test_reading_a_database_leaves_no_trace_beside_it(tmp_path: Path, mode: str) -> None:
    """Rows that stand only in the write-ahead log of a program that is still running are seen, too."""
    first = database(tmp_path / "l" / "x.db", {})
    second = database(tmp_path / "r" / "x.db", {})
    with closing(sqlite3.connect(second)) as held:
        held.execute(f"pragma journal_mode = {mode}")
        held.execute("insert into learned values ('ada', 1, 'rope')")
        held.commit()
        before = tree_state(tmp_path / "r")
        (row, _) = compare_databases(first, second, "x.db")
        assert row.right == "1 row"
        assert tree_state(tmp_path / "r") == before


def test_a_locked_or_torn_database_is_said_to_be_so(tmp_path: Path) -> None:
    first = database(tmp_path / "l.db", {})
    second = database(tmp_path / "r.db", {("ada", n): "rope" * 50 for n in range(400)})
    with closing(sqlite3.connect(second, isolation_level=None)) as held:
        held.execute("begin exclusive")
        with pytest.raises(UnreadableInput, match="locked"):
            compare_databases(first, second, "x.db")
    data = bytearray(second.read_bytes())
    data[4096:] = os.urandom(len(data) - 4096)
    second.write_bytes(data)
    with pytest.raises(UnreadableInput, match="malformed"):
        compare_databases(first, second, "x.db")


# --- what is asked for -------------------------------------------------------

STORES = "<s><!-- first --><good id='rope' worth='{rope}'><kind>tackle</kind><from at='pier' n='{n}'/></good><good id='kelp' worth='{kelp}'><kind>food</kind></good></s>"


@pytest.mark.parametrize(
    ("tests", "records"),
    [
        ([], {"good[id=rope]", "good[id=rope]/from", "good[id=kelp]"}),
        (["kind=food"], {"good[id=kelp]"}),
        (["kind!=food"], {"good[id=rope]", "good[id=rope]/from"}),
        (["kind=t*"], {"good[id=rope]", "good[id=rope]/from"}),
        (["worth>25"], {"good[id=kelp]"}),
        (["@worth<3"], {"good[id=rope]", "good[id=rope]/from"}),
        (["good[id=rope]"], {"good[id=rope]", "good[id=rope]/from"}),
        (["kind=tackle", "FROM"], {"good[id=rope]/from"}),
        (["at=pier"], {"good[id=rope]/from"}),
        (["kind=sail"], set()),
    ],
)
def test_where_picks_records(tests: list[str], records: set[str]) -> None:
    left = parsed("stores.xml", STORES.format(rope=1, kelp=20, n=1))
    right = parsed("stores.xml", STORES.format(rope=2, kelp=30, n=2))
    found = compare(left, right, {}, [condition(text) for text in tests])
    assert {item.record for item in found} == records


def test_a_reworded_comment_is_one_change() -> None:
    left, right = (
        parsed("stores.xml", "<s><!-- dear --><a id='x'/><b/></s>"),
        parsed("stores.xml", "<s><!-- cheap --><a id='x'/><b/></s>"),
    )
    (item,) = compare(left, right)
    assert (item.field, item.kind, item.left, item.right) == ("(comment)", Kind.CHANGED, "dear", "cheap")


def test_totals_by_kind_and_the_largest_movers() -> None:
    def goods(*rows: str) -> Document:
        told = (row.split() for row in rows)
        inside = "".join(
            f'<good id="{name}"><kind>{kind}</kind><worth>{worth}</worth></good>' for name, kind, worth in told
        )
        return parsed("stores.xml", f"<stores>{inside}</stores>")

    left = goods("a food 1", "b food 2.5", "c fuel 10", "d fuel 10", "e food 4", "f fuel 0")
    right = goods("a food 3", "b food 2.50", "c fuel 10", "d fuel 11", "g food 7", "f fuel 0")
    (found,) = totals("stores.xml", left, right, {})
    assert (found.records, found.grouped_by) == ("good", "kind")
    sums = {total.kind: (total.left, total.right, total.left_records) for total in found.totals}
    assert sums == {"food": (Decimal("7.5"), Decimal("12.50"), 3), "fuel": (Decimal(20), Decimal(21), 3)}
    assert [(mover.record, mover.moved) for mover in found.movers] == [("good[id=a]", 2), ("good[id=d]", 1)]


def test_numbers_are_only_added_up_in_files_as_small_as_asked(tmp_path: Path) -> None:
    goods = "".join(f'<g id="n{n}" worth="{{}}"/>' for n in range(5))
    left, right = (f"<s>{goods.replace('{}', worth)}</s>".encode() for worth in "12")
    trees = two_folders(tmp_path, {"g.xml": left}, {"g.xml": right})
    counts = [
        len(compare_trees(*trees, Comparison(summed=most)).files[0].terms.totals) for most in (len(left) - 1, len(left))
    ]
    assert counts == [0, 1]


# --- the command -------------------------------------------------------------


def size_of_png(path: Path) -> tuple[int, ...]:
    data = path.read_bytes()
    assert data.startswith(b"\x89PNG")
    return struct.unpack(">II", data[16:24])


@pytest.fixture
def played(recorded: Program, server: Path) -> Program:
    """A snapshot, then an evening's play."""
    recorded("snapshot")
    chart = server / "outer-skerries" / "chart"
    tile = chart / "strip.0.0.sea"
    tile.write_bytes(b"x" + tile.read_bytes()[1:])
    (chart / "strip.-1.-1.sea").unlink()
    with closing(sqlite3.connect(server / "outer-skerries" / "logbook.5.db")) as book, book:
        book.execute("delete from learned where craft = 'signals'")
    (server / "una-notes.txt").rename(server / "mission" / "notes.txt")
    return recorded


def test_an_evenings_play_summed_up_by_role_and_then_told(played: Program, place: Path) -> None:
    done = played("diff", "latest", "--map", "tiles.png")
    assert done.code == 1
    for line in (
        "From snapshot 1 to live: ",
        "Tiles of outer-skerries: 1 changed, 1 gone, 14 alike",
        " -1 ··--····",
        "  0 ····░░··",
        "- learned  12 rows",
        "> una-notes.txt → mission/notes.txt",
        "Drew changed tiles into tiles.png.",
    ):
        assert line in done.out, line
    rows = {words[0]: words[1:] for line in done.out.splitlines() if (words := line.split())}
    assert rows["world"] == ["1", "1"]
    assert rows["progress"] == ["1"]
    assert size_of_png(place / "tiles.png") == (1280, 800)
    facts = played("diff", "latest", "--json").json
    assert {row["role"] for row in facts["by_role"]} == {"economy", "world", "progress"}
    assert facts["difference"]["maps"][0]["tiles"][0]["kind"] == "removed"


def test_totals_and_their_chart(recorded: Program, place: Path) -> None:
    done = recorded("diff", "defaults:4.2", "defaults:4.3", "--chart", "totals.png")
    assert "Totals of good in mission/economy/stores.xml by kind" in done.out
    assert size_of_png(place / "totals.png") == (1280, 800)
    nothing = recorded("diff", "defaults:4.2", "defaults:4.2", "--chart", "none.png")
    assert (nothing.code, "none.png was not written" in nothing.out) == (0, True)
    assert not (place / "none.png").exists()


def test_find_says_whether_it_is_there_yet(recorded: Program) -> None:
    new = recorded("diff", "defaults:4.2", "defaults:4.3", "--find", "Samphire")
    assert (new.code, "good[id=samphire-pie]: not in defaults:4.2, defaults:4.3 line" in new.out) == (0, True)
    old = recorded("diff", "defaults:4.2", "defaults:4.3", "--find", "lamp-oil", "--only", "**/stores.xml")
    assert old.code == 0
    nowhere = recorded("diff", "defaults:4.2", "live", "--find", "sea-serpent")
    assert (nowhere.code, "stands neither in" in nowhere.out) == (1, True)
    assert recorded("diff", "defaults:4.2", "--find", " ").code == 2


def test_where_on_the_command_line(recorded: Program) -> None:
    done = recorded("diff", "defaults:4.2", "defaults:4.3", "--where", "kind=food")
    assert "~ good[id=hardtack] afloat  60 → 55" in done.out
    assert "lamp-oil" not in done.out
    assert "cast-off.sh" not in done.out


@pytest.mark.parametrize("broken", ["a: [1, 2\n", '{"a": }\n', "<a><b></a>\n", "a = = 1\n"])
def test_a_broken_file_is_named_and_the_rest_goes_on(tmp_path: Path, broken: str) -> None:
    suffix = {"<": "xml", "{": "json"}.get(broken[0], "yaml" if ":" in broken else "toml")
    good = {"yaml": "a: 1\n", "json": '{"a": 1}\n', "xml": "<a/>\n", "toml": "a = 1\n"}[suffix]
    left, right = {f"x.{suffix}": good.encode(), "y.txt": b"1\n"}, {f"x.{suffix}": broken.encode(), "y.txt": b"2\n"}
    two_folders(tmp_path, left, right)
    done = run_program("diff", "./left", "./right", cwd=tmp_path)
    assert done.code == 2
    assert re.search(rf"x\.{suffix}:\d+:\d+: not ", done.out)
    assert "~ line 1  1 → 2" in done.out


@pytest.mark.long
def test_hostile_files_are_told_in_a_line_and_harm_nothing(tmp_path: Path) -> None:
    laughs = (
        "<!DOCTYPE a [" + "".join(f'<!ENTITY e{n} "{f"&e{n - 1};" * 10}">' for n in range(1, 12)) + "]><a>&e11;</a>"
    )
    bomb = io.BytesIO()
    with zipfile.ZipFile(bomb, "w", zipfile.ZIP_DEFLATED) as archive:
        for number in range(12):
            archive.writestr(f"zeros{number}", bytes(64 << 20))
    right = {
        "laughs.xml": laughs.encode(),
        "codes.json": b'{"a": "\\u001b[31mred\\u0007"}',
        "bomb.ext": bomb.getvalue(),
        "torn.db": b"SQLite format 3\0" + b"\x10" * 3000,
    }
    left = {
        "laughs.xml": b"<a/>",
        "codes.json": b'{"a": 1}',
        "bomb.ext": packed(a=b"1"),
        "torn.db": b"SQLite format 3\0" + bytes(3000),
    }
    two_folders(tmp_path, left, right)
    (tmp_path / "right" / "loop").symlink_to(".", target_is_directory=True)
    done = run_program("diff", "./left", "./right", cwd=tmp_path)
    assert done.code == 2
    assert "\x1b" not in done.out
    for words in ("built from something else", "would unpack to far more", "cannot be read", "+ loop  (link)"):
        assert words in done.out, words
    assert "Traceback" not in done.err


def test_what_is_new_is_shown_before_what_changed(recorded: Program) -> None:
    """Files and records alike; each kind in the order of the file."""
    lines = recorded("diff", "defaults:4.2", "defaults:4.3", "--all").out.splitlines()
    files = [line[0] for line in lines if re.match(r"[-+~>] \S", line)]
    assert files == sorted(files, key="+->~".index)
    at = lines.index(next(line for line in lines if "mission/economy/stores.xml" in line))
    details = [line[4] for line in lines[at + 1 :] if re.match(r"    [-+~>] good", line)]
    assert details == sorted(details, key="+->~".index)
    assert {"+", "-", "~"} <= set(details)


def test_a_snapshot_is_named_as_it_is_shown(keeper: Program) -> None:
    keeper("snapshot", "--note", "snapshot 2")
    keeper("snapshot")
    assert "snapshot 1 and live" in keeper("diff", "snapshot 1").out
    assert "snapshot 2 and live" in keeper("diff", "snapshot 2").out  # the newest that is called so
    assert keeper("diff", "snapshot 3").code == 2


def test_a_file_of_bytes_tells_no_more_of_where_a_server_began_than_one_line(tmp_path: Path) -> None:
    """Else a large one that every release ships would have any release fit."""
    texts = {"1": "a\nb\nc\n", "2": "a\nx\ny\n", "live": "a\nx\nz\n"}
    for name, text in texts.items():
        (tmp_path / name).mkdir()
        (tmp_path / name / "motto.txt").write_text(text)
        (tmp_path / name / "engine.bin").write_bytes(b"\0\n" * 5000)
    trees = {name: FolderTree(tmp_path / name) for name in texts}
    found = fit.fits({name: trees[name] for name in "12"}, trees["live"], ["engine.bin", "motto.txt"], lambda _: {})
    assert [(one.version, one.share) for one in found] == [("1", 2 / 6), ("2", 3 / 5)]
