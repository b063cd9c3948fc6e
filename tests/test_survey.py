"""Survey: versions that are wanted, what an older engine left, what is broken, what the log says."""

from __future__ import annotations

import sqlite3
import threading
from collections.abc import Callable, Iterator
from contextlib import closing
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path

import pytest

from emberkeep.inventory import published
from emberkeep.inventory.published import wanted_versions
from emberkeep.keep.tables.updates import Wanted
from tests.helpers import new_keep
from tests.program import Program, run_program

Serve = Callable[[dict[str, bytes]], str]


@pytest.fixture
def serve() -> Iterator[Serve]:
    """A small stand-in for the pages where vendors publish versions; gives its address."""
    running: list[ThreadingHTTPServer] = []

    def start(pages: dict[str, bytes]) -> str:
        class Pages(BaseHTTPRequestHandler):
            def do_GET(self) -> None:
                body = pages.get(self.path)
                if body == b"elsewhere":
                    self.send_response(302)
                    self.send_header("Location", "file:///etc/hostname")
                    self.end_headers()
                    return
                self.send_response(404 if body is None else 200)
                self.end_headers()
                try:
                    self.wfile.write(body or b"")
                except OSError:
                    return

            def log_message(self, *_: object) -> None:
                """Quiet."""

        server = ThreadingHTTPServer(("127.0.0.1", 0), Pages)
        threading.Thread(target=server.serve_forever, args=(0.02,), daemon=True).start()
        running.append(server)
        return f"http://127.0.0.1:{server.server_port}"

    yield start
    for server in running:
        server.shutdown()
        server.server_close()


def add_to_keep(place: Path, text: str) -> None:
    with (place / "gannet-rock.keep" / "keep.toml").open("a") as handle:
        handle.write(text)


def test_wanted_versions_from_keep_file_and_address(keeper: Program, place: Path, serve: Serve) -> None:
    address = serve(
        {"/skerrylight": b'<a href="skerrylight-4.4.1.zip">4.4.1</a>', "/gullpost.json": b'{"latest": "1.4.2"}'}
    )
    (place / "gannet-rock.keep" / "keelson.txt").write_text("keelson 2.2.0 is out\n")
    add_to_keep(
        place,
        f"""
[wanted]
engine = {{ address = "{address}/skerrylight", pattern = 'skerrylight-([0-9.]+)\\.zip' }}
gullpost = {{ address = "{address}/gullpost.json", pattern = '"latest": "([^"]+)"' }}
framework = {{ file = "keelson.txt", pattern = 'keelson (\\S+)' }}
tarline = "1.0.0"
save = "17"
""",
    )
    keeper("snapshot")
    done = keeper("survey")
    assert done.code == 1
    for words in (
        "engine      4.2.0  4.4.1   RELEASE",
        "framework   2.1.0  2.2.0",
        "save        17     17",
        "tarline    0.9.1    1.0.0   4.2",
        "! engine: 4.2.0 now, 4.4.1 wanted: older than wanted",
        "! framework: 2.1.0 now, 2.2.0 wanted: older than wanted",
        "! tarline: 0.9.1 now, 1.0.0 wanted: older than wanted",
    ):
        assert words in done.out, words
    assert "! gullpost" not in done.out
    assert "! save" not in done.out
    facts = keeper("survey", "--json").json["survey"]
    assert {row["name"]: row["wanted"] for row in facts["versions"]}["engine"] == "4.4.1"
    offline = keeper("survey", "--offline")
    assert f"wanted: {address}/skerrylight not asked (--offline)" in offline.out


@pytest.mark.parametrize(
    ("page", "why"),
    [
        ("/gone", "Not Found"),
        ("/other", "nothing in it fits the pattern"),
        ("/file", "not allowed"),
        ("/huge", "nothing in it fits the pattern"),
    ],
)
def test_what_cannot_be_read_there_is_said(page: str, why: str, serve: Serve, tmp_path: Path) -> None:
    address = serve({"/other": b"no number", "/file": b"elsewhere", "/huge": b"x" * (published.MOST + 10) + b"v9"})
    (found,) = wanted_versions([Wanted("engine", address=address + page, pattern="v(9)")], tmp_path)
    assert (found.version, why in found.problem) == ("", True), found


def test_an_unreachable_address_harms_nothing(keeper: Program, place: Path) -> None:
    add_to_keep(place, "\n[wanted]\nengine = { address = 'http://127.0.0.1:9/', pattern = '(x)' }\n")
    done = keeper("survey")
    assert done.code == 1
    assert "wanted: http://127.0.0.1:9/ cannot be read: " in done.out
    assert "Traceback" not in done.err


@pytest.mark.parametrize(
    ("line", "fault"),
    [
        ("engine = { pattern = '(x)' }", "wanted.engine: should have a file or an address"),
        ("engine = { address = 'ftp://x/', pattern = '(x)' }", "should begin with http"),
        ("engine = { file = 'x', pattern = 'x' }", "should have one group"),
        ("engine = { file = 'x' }", "lacks the key 'pattern'"),
        ("engine = 4.3", "should be a table"),
    ],
)
def test_a_wish_that_cannot_be_meant_is_a_fault(keeper: Program, place: Path, line: str, fault: str) -> None:
    add_to_keep(place, f"\n[wanted]\n{line}\n")
    done = keeper("survey")
    assert (done.code, fault in done.err) == (2, True), done.err


def test_files_that_an_older_engine_left(recorded: Program, server: Path) -> None:
    """The old program beside the new one, and a library that the new release no longer ships."""
    recorded("snapshot")
    (server / "skerrylight-4.3.0.bin").write_bytes((server / "skerrylight-4.2.0.bin").read_bytes())
    script = server / "cast-off.sh"
    script.write_text(script.read_text().replace("4.2.0", "4.3.0"))
    recorded("adopt", "--refresh", "--go")
    keep = server.with_name("gannet-rock.keep") / "keep.toml"
    keep.write_text(keep.read_text().replace('skerrylight-4.2.0.bin"\nseed', 'skerrylight-4.3.0.bin"\nseed'))
    done = recorded("survey")
    assert "! left from an older engine: skerrylight-4.2.0.bin" in done.out
    assert recorded("survey", "--json").json["survey"]["leftovers"] == ["skerrylight-4.2.0.bin"]


def test_a_broken_tag_is_named_before_the_server_trips_over_it(keeper: Program, server: Path) -> None:
    keeper("snapshot")
    stores = server / "mission" / "economy" / "stores.xml"
    stores.write_text(stores.read_text().replace("</good>", "</god>", 1))
    (server / "wardens.json").write_text('[{"name": "Una",}\n')
    done = keeper("survey")
    assert done.code == 1
    assert "! mission/economy/stores.xml:" in done.out
    assert "was opened in line" in done.out
    assert "! wardens.json:2:1: not valid JSON" in done.out


def test_an_extension_that_failed_is_read_from_the_log(keeper: Program, server: Path) -> None:
    keeper("snapshot")
    with (server / "log" / "latest.log").open("a") as handle:
        handle.write("23:11:00 extension tarline 0.9.1 could not be rigged\n" * 3)
    done = keeper("survey")
    assert "! log/latest.log: 23:11:00 extension tarline 0.9.1 could not be rigged (and 2 more like it)" in done.out


def test_a_survey_fits_on_one_screen(recorded: Program) -> None:
    recorded("snapshot")
    assert len(recorded("survey").out.splitlines()) <= 48


def test_a_framework_that_an_update_by_hand_took_off_is_noticed(keeper: Program, server: Path) -> None:
    keeper("snapshot")
    assert "laid over" not in keeper("survey").out
    (server / "lib" / "libgale.so").write_bytes(b"\x7fELF the engine's own")
    done = keeper("survey")
    assert "is not laid over the engine: 1 of its 2 files are not there (lib/libgale.so)" in done.out


@pytest.mark.parametrize(
    ("version", "told"),
    [
        ("""{ table = "meta", column = "v", where = "k = 'layout'" }""", "4.2"),
        ("""{ table = "meta", column = "v", where = "k = 'none'" }""", ""),
        ("""{ table = "meta", column = "w" }""", "no such column: w"),
        ("""{ table = "mete", column = "v" }""", "no such table: mete"),
        (r"""{ table = "meta", column = "v", where = "\"k\" = 'layout'" }""", "4.2"),
        (
            r"""{ table = "meta", column = "v", where = "\"kk\" <> 'layout'" }""",
            "no such column: kk; a text stands in single",
        ),
        ("""{ table = "meta", column = "v", where = "k =" }""", "syntax error"),
    ],
)
def test_a_database_in_a_file_tells_its_version_or_what_is_wrong_with_asking(
    tmp_path: Path, version: str, told: str
) -> None:
    """Of a column that is not there, too, which SQLite would take for a text."""
    text = f'[roles]\nworld = ["book.db"]\n[[database]]\nname = "book"\nfile = "book.db"\nholds = "world"\nversion = {version}\n'
    (tmp_path / "server").mkdir()
    with closing(sqlite3.connect(tmp_path / "server" / "book.db")) as book, book:
        book.execute("create table meta (k, v)")
        book.executemany("insert into meta values (?, ?)", [("layout", "4.2"), ("old", None)])
    keep = new_keep(tmp_path, text)
    (found,) = run_program("--keep", keep.folder, "survey", "--json", cwd=tmp_path).json["databases"]
    if found.get("fault"):
        assert told in found["fault"]["what"]
    else:
        assert (found["version"], found["rows"], found["tables"]) == (told, 2, 1)
