"""Properties and INI: entries, comments, escapes, and writing into them."""

from __future__ import annotations

import pytest

from emberkeep.documents import edit, registry
from emberkeep.documents.model import Role
from emberkeep.errors import UnreadableInput
from emberkeep.merging.merge import merge_file
from tests.helpers import merge_text, parsed, text_of


@pytest.mark.parametrize(
    ("line", "key", "value"),
    [
        ("port=27800", "port", "27800"),
        ("port = 27800", "port", "27800"),
        ("port: 27800", "port", "27800"),
        ("port 27800", "port", "27800"),
        ("  port\t=\t27800", "port", "27800"),
        ("a\\ key=v", "a key", "v"),
        ("a\\=b=c", "a=b", "c"),
        ("title=Rock \\u2014 lamp", "title", "Rock — lamp"),
        ("path=c:\\\\sea\\tfloor", "path", "c:\\sea\tfloor"),
        ("long=one\\\n    two", "long", "onetwo"),
        ("lonely", "lonely", ""),
        ("=nameless", "", "nameless"),
        ("even=back\\\\", "even", "back\\"),
    ],
)
def test_properties_entries(line: str, key: str, value: str) -> None:
    items = parsed("keeper.properties", f"# first\n{line}\n! last\n").root.items
    assert [item.role for item in items] == [Role.COMMENT, Role.RECORD, Role.COMMENT]
    assert (items[1].name, items[1].own) == (key, value)


def test_properties_with_an_unfinished_continuation() -> None:
    items = parsed("keeper.properties", "a=1\nb=two\\").root.items
    assert [item.name for item in items] == ["a", "b"]


def test_ini_sections_and_their_comments() -> None:
    doc = parsed("x.ini", "top = 1\n; of post\n\n; above post\n[post]\nfee = 2 ; coins\nbare\n; at the end\n")
    names = [item.name for item in doc.root.items]
    assert names == ["top", "#comment", "#comment", "[post]"]
    post = doc.root.items[-1]
    assert [(item.name, item.own) for item in post.items if item.role is Role.RECORD] == [
        ("fee", "2 ; coins"),
        ("bare", None),
    ]
    assert doc.text[post.start : post.end].endswith("; at the end")


def test_a_semicolon_behind_a_text_in_quotes_is_none_of_it() -> None:
    text = 'title = "Old; rock";\nslots = 4 ; of ten\nbanner = plain;\n'
    assert [edit.value("a.cfg", text.encode(), key) for key in ("title", "slots", "banner")] == [
        "Old; rock",
        "4 ; of ten",
        "plain;",
    ]
    assert edit.set_value("a.cfg", text.encode(), "title", "New").decode() == text.replace("Old; rock", "New")
    merged = merge_text("a.cfg", text, text.replace("Old; rock", "Ours"), text.replace("slots = 4 ", "slots = 5 "))
    assert text_of(merged) == text.replace("Old; rock", "Ours").replace("slots = 4 ", "slots = 5 ")


def test_keys_that_are_set_with_a_space_alone_are_keys() -> None:
    text = "# the rock\nport 28800\nhall_name Old; rock\nopens data/hall.bin\nsays a=b or c\n"
    assert edit.value("hall.conf", text.encode(), "port") == "28800"
    changed = edit.set_value("hall.conf", text.encode(), "hall_name", "New rock").decode()
    assert changed == text.replace("Old; rock", "New rock")
    with pytest.raises(UnreadableInput):  # one more would not be read by who reads lines of this shape
        edit.set_value("hall.conf", text.encode(), "berths", "9")
    mixed = "[rock]\nport = 28800\nhall_name = Old\nflag on\n"
    assert edit.set_value("hall.conf", mixed.encode(), "rock.port", "1").decode() == mixed.replace("28800", "1")


def test_a_text_of_no_known_format_has_such_keys_too_and_prose_has_none() -> None:
    text = "! the rock\nberths 40\nhall_name Old rock\ntide 2.5\nopens evenings\n"
    assert edit.set_value("hall", text.encode(), "berths", "9").decode() == text.replace("40", "9")
    with pytest.raises(UnreadableInput, match="no keys and values"):
        edit.set_value("notes", b"The lamp is out.\nUna mends it on Friday.\nBring oil and rope.\n", "Una", "x")


def test_keys_that_repeat_are_records_of_their_own() -> None:
    old = b"[rig]\nload = a\nload = b\n"
    new = b"[rig]\nload = a\nload = c\n"
    mine = b"[rig]\nload = z\nload = b\n"
    result = merge_file("x.ini", old, mine, new)
    assert result.data == b"[rig]\nload = z\nload = c\n"


@pytest.mark.parametrize(
    ("name", "text", "expected"),
    [
        ("a.properties", "x y", "properties"),
        ("a.ini", "x=1", "ini"),
        ("a.cfg", "[s]\nx=1", "ini"),
        ("odd.txt", "\n; c\n[s]\nx=1", "ini"),
        ("a.toml", "[s]\nx=1", "toml"),
        ("a.yml", "[s]\nx=1", "yaml"),
        ("start.sh", "[s]\nx=1", "text"),
        ("a.xml", "not xml", "xml"),
        ("a.dat", "\ufeff<?xml version='1.0'?><a/>", "xml"),
        ("page.html", "<html></html>", "text"),
        ("a.json", "[]", "json"),
    ],
)
def test_formats_by_content_then_name(name: str, text: str, expected: str) -> None:
    assert registry.format_of(name, text) == expected


def test_a_latin_1_file_stays_latin_1() -> None:
    old, new = "title=a\nport=1\n", "title=a\nport=2\nquay=ny\n"
    mine = "title=blåskjell\nport=1\n".encode("latin-1")
    result = merge_file("x.properties", old.encode(), mine, new.encode())
    assert result.data == "title=blåskjell\nport=2\nquay=ny\n".encode("latin-1")


def test_a_value_the_encoding_lacks_is_escaped_in_properties_and_refused_in_ini() -> None:
    old, new = b"[s]\nname = a\nk = b\n", "[s]\nname = a\nk = λ\n".encode()
    mine = "[s]\nname = å\nk = b\n".encode("latin-1")
    refused = merge_file("x.ini", old, mine, new)
    assert refused.fault is not None
    assert "latin-1" in str(refused.fault)
    props = merge_file("x.properties", b"n=a\nk=b\n", "n=å\nk=b\n".encode("latin-1"), "n=a\nk=λ\n".encode())
    assert props.data == "n=å\nk=\\u03bb\n".encode("latin-1")


def test_a_typed_answer_is_escaped_for_its_place() -> None:
    result = merge_file(
        "x.properties", b"t=1\n", b"t=2\n", b"t=3\n", resolve=lambda question: ("= back\\slash", "test")
    )
    assert result.data == b"t=back\\\\slash\n"
    again = parsed("x.properties", result.data.decode())
    assert again.root.items[0].own == "back\\slash"
