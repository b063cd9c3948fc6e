"""keep.toml, finding the keep, roles, selections, snapshots by name."""

from __future__ import annotations

from dataclasses import replace
from datetime import UTC, datetime, timedelta
from pathlib import Path
from zoneinfo import ZoneInfo

import pytest
from hypothesis import given
from hypothesis import strategies as st

from emberkeep.errors import Refused, UnreadableInput, UsageError
from emberkeep.fs import globs
from emberkeep.inventory.roles import Roles, selection
from emberkeep.inventory.versions import ordering
from emberkeep.keep.config import read_config
from emberkeep.keep.keep import Keep, find
from emberkeep.keep.tables.server import UNSORTED
from emberkeep.keep.toml_reader import quote
from emberkeep.store.manifest import About
from emberkeep.store.refs import resolve

GOOD = """\
format = 1

[server]
name = "Gannet Rock"
folder = "../gannet-rock"
zone = "Atlantic/Faroe"

[versions.engine]
pattern = 'Skerrylight (\\d+)'
in = ["RELEASE"]

[roles]
economy = ["mission/**"]
settings = ["*.properties"]

[world]
pointer = { file = "keeper.properties", key = "waters" }

[records."mission/economy/*.xml"]
"stores/good" = ["@id"]
"""


def write(tmp_path: Path, text: str) -> Path:
    path = tmp_path / "x.keep" / "keep.toml"
    path.parent.mkdir(exist_ok=True)
    path.write_text(text)
    return path


def test_a_good_file(tmp_path: Path) -> None:
    config = read_config(write(tmp_path, GOOD))
    assert config.name == "Gannet Rock"
    assert config.tz == ZoneInfo("Atlantic/Faroe")
    assert config.record_rules("mission/economy/stores.xml") == {"stores/good": ("@id",)}
    assert config.record_rules("elsewhere.xml") == {}
    assert config.world.pointer is not None


@pytest.mark.parametrize(
    ("change", "line", "words"),
    [
        (("format = 1", ""), None, "lacks the key 'format'"),
        (('name = "Gannet Rock"', "name = 5"), 4, "server.name: should be text"),
        (('name = "Gannet Rock"\n', ""), 3, "lacks the key 'name'"),
        (("Atlantic/Faroe", "Atlantic/Atlantis"), 6, "no time zone"),
        (("(\\d+)", "\\d+"), 9, "one group"),
        (("(\\d+)", "(\\d+"), 9, "not a regular expression"),
        (('"mission/**"', '"../mission/**"'), 13, "leads out"),
        (('"mission/**"', "5"), 13, "only texts"),
        (("economy =", "econmy ="), 13, "unknown key"),
        (("zone =", "zoen ="), 6, "unknown key"),
        (('key = "waters"', 'kye = "waters"'), 17, "lacks the key 'key'"),
        (("[world]", "[worlds]"), 16, "unknown key"),
    ],
)
def test_faults_name_line_and_dotted_path(
    tmp_path: Path, change: tuple[str, str], line: int | None, words: str
) -> None:
    assert change[0] in GOOD
    with pytest.raises(UnreadableInput) as caught:
        read_config(write(tmp_path, GOOD.replace(*change)))
    fault = next(fault for fault in caught.value.faults if words in fault.what)
    assert not fault.what.startswith(":")
    assert fault.place is not None
    assert fault.place.line == line


def test_all_faults_come_at_once_and_mistyped_keys_get_the_nearest(tmp_path: Path) -> None:
    text = GOOD.replace("economy =", "econmy =").replace("Atlantic/Faroe", "Nowhere").replace("name =", "nmae =")
    with pytest.raises(UnreadableInput) as caught:
        read_config(write(tmp_path, text))
    assert len(caught.value.faults) >= 4
    assert any("'economy'" in fault.hint for fault in caught.value.faults)
    assert any("'name'" in fault.hint for fault in caught.value.faults)


def test_toml_that_is_nested_without_end_is_refused(tmp_path: Path) -> None:
    path = tmp_path / "keep.toml"
    path.write_text("deep = " + "[" * 100_000 + "]" * 100_000)
    with pytest.raises(UnreadableInput, match="nested too deeply"):
        read_config(path)


def test_what_is_no_toml_is_named_by_line_and_column(tmp_path: Path) -> None:
    with pytest.raises(UnreadableInput) as caught:
        read_config(write(tmp_path, "format = 1\n[server\n"))
    place = caught.value.faults[0].place
    assert place is not None
    assert (place.line, place.column) == (2, 8)


def test_a_newer_format_is_refused(tmp_path: Path) -> None:
    with pytest.raises(Refused, match="format 2"):
        read_config(write(tmp_path, GOOD.replace("format = 1", "format = 2")))


def test_a_keep_inside_its_server_is_refused(tmp_path: Path) -> None:
    path = write(tmp_path, GOOD.replace("../gannet-rock", ".."))
    with pytest.raises(Refused, match="inside its server folder"):
        Keep(path.parent)


def test_the_keep_is_found_from_where_one_stands(tmp_path: Path) -> None:
    server = tmp_path / "gannet-rock"
    (server / "mission" / "economy").mkdir(parents=True)
    keep = tmp_path / "gannet-rock.keep"
    keep.mkdir()
    (keep / "keep.toml").write_text(GOOD)
    for here in (keep, server, server / "mission" / "economy"):
        assert find(None, {}, here).folder == keep
    assert find(str(keep), {}, Path("/")).folder == keep
    assert find(None, {"EMBERKEEP_KEEP": str(keep)}, Path("/")).folder == keep
    for here in (tmp_path, Path("/")):
        with pytest.raises(UsageError, match="no keep found"):
            find(None, {}, here)
    with pytest.raises(UsageError, match="not a keep"):
        find(str(server), {}, keep)


@pytest.mark.parametrize(
    ("pattern", "yes", "no"),
    [
        ("lib/**", ["lib/a", "lib/a/b"], ["lib", "libs/a"]),
        ("*.xml", ["a.xml", ".xml"], ["m/a.xml", "a.xmlx"]),
        ("**/*.xml", ["a.xml", "m/a.xml", "m/n/a.xml"], ["a.txt"]),
        ("a?c", ["abc"], ["a/c", "ac"]),
        ("[ab]1", ["a1", "b1"], ["c1"]),
        ("[!ab]1", ["c1"], ["a1", "/1"]),
        ("a[*]b", ["a*b"], ["axb"]),
        ("a+(b)$", ["a+(b)$"], ["aab"]),
        ("m/**/x", ["m/x", "m/a/b/x"], ["mx"]),
    ],
)
def test_globs(pattern: str, yes: list[str], no: list[str]) -> None:
    assert [path for path in yes if not globs.matches(path, [pattern])] == []
    assert [path for path in no if globs.matches(path, [pattern])] == []


@given(st.text(alphabet="ab/*?[]!.^-\\\n", min_size=1, max_size=12))
def test_an_escaped_path_matches_itself_alone(path: str) -> None:
    assert globs.matches(path, [globs.escape(path)])
    assert not globs.matches(path + "x", [globs.escape(path)])


TABLE = (("settings", ("mission/*.ini",)), ("economy", ("mission/**",)), ("world", ("w/**",)))


def test_the_first_role_that_matches_wins() -> None:
    roles = Roles(TABLE)
    assert [roles.of(path) for path in ("mission/a.ini", "mission/e/a.ini", "w/x", "other", "mission")] == [
        "settings",
        "economy",
        "world",
        UNSORTED,
        UNSORTED,
    ]
    assert Roles(()).of("x") == UNSORTED


@pytest.mark.parametrize(
    ("selector", "chosen"),
    [
        ("economy", {"mission/e/a.xml"}),
        ("economy/a.xml", {"mission/e/a.xml"}),
        ("mission/*.ini", {"mission/a.ini"}),
        ("mission", {"mission/a.ini", "mission/e/a.xml", "mission"}),
        ("unsorted", {"notes", "mission"}),
        ("world", {"w/x"}),
    ],
)
def test_selections(selector: str, chosen: set[str]) -> None:
    paths = ["mission", "mission/a.ini", "mission/e/a.xml", "w/x", "notes"]
    assert {path for path in paths if selection([selector], TABLE)(path)} == chosen


@pytest.mark.parametrize("selector", ["/etc", "../x", "a/../../b", "", "[z-a]"])
def test_selections_that_cannot_be_meant(selector: str) -> None:
    with pytest.raises(UsageError):
        selection([selector], TABLE)


NOW = datetime(2026, 4, 10, 12, 0, tzinfo=UTC)
TAKEN = [
    About("1", NOW - timedelta(days=5), "asked", "before 4.3"),
    About("2", NOW - timedelta(hours=30), "asked", "daily"),
    About("3", NOW - timedelta(minutes=5), "merge", "daily"),
]


@pytest.mark.parametrize(
    ("ref", "label"),
    [
        ("1", "1"),
        ("latest", "2"),
        ("before 4.3", "1"),
        ("daily", "3"),
        ("1 day ago", "2"),
        ("3 days ago", "1"),
        ("1 minute ago", "3"),
        ("2026-04-10T12:00", "3"),
        ("2026-04-09", "1"),
    ],
)
def test_snapshots_by_name(ref: str, label: str) -> None:
    assert resolve(ref, TAKEN[::-1], NOW, UTC).label == label


def test_no_more_snapshots_are_read_than_it_takes() -> None:
    newest_first = iter(TAKEN[::-1])
    assert resolve("latest", newest_first, NOW, UTC).label == "2"
    assert [about.label for about in newest_first] == ["1"]


def test_a_moment_is_read_in_the_servers_zone() -> None:
    late = [About("1", datetime(2026, 7, 1, 11, 30, tzinfo=UTC), "asked")]
    assert resolve("2026-07-01T12:45", late, NOW, ZoneInfo("Atlantic/Faroe")).label == "1"  # 11:45 UTC
    with pytest.raises(UsageError):
        resolve("2026-07-01T12:15", late, NOW, ZoneInfo("Atlantic/Faroe"))


@pytest.mark.parametrize("ref", ["7", "nonsense", "9 days ago", "2020-01-01"])
def test_refs_that_name_nothing(ref: str) -> None:
    with pytest.raises(UsageError):
        resolve(ref, TAKEN[::-1], NOW, UTC)
    with pytest.raises(UsageError, match="no snapshot yet"):
        resolve(ref, [], NOW, UTC)


def test_versions_sort_as_versions() -> None:
    told = ["4.10", "4.2", "4.2.1", "3.9", "4.2-rc1", "4.2.0"]
    assert sorted(told, key=ordering) == ["3.9", "4.2", "4.2-rc1", "4.2.0", "4.2.1", "4.10"]


@given(st.text(max_size=30))
def test_quoted_text_reads_back(text: str) -> None:
    import tomllib

    if any(0xD800 <= ord(char) < 0xE000 for char in text):
        return
    assert tomllib.loads(f"x = {quote(text)}")["x"] == text


def test_the_latest_is_neither_what_a_run_took_nor_what_came_from_elsewhere() -> None:
    taken = [
        replace(TAKEN[0], label="9", source="summer.zip"),
        replace(TAKEN[0], label="8", why="restore"),
        replace(TAKEN[0], label="7"),
    ]
    assert resolve("latest", taken, NOW, UTC).label == "7"
    assert resolve("latest", taken[:2], NOW, UTC).label == "9"  # where there is no other
    assert resolve("8", taken, NOW, UTC).label == "8"
