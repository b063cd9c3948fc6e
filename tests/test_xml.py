"""XML with spans: what is recognised where, what is refused and where."""

from __future__ import annotations

import threading
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from emberkeep.documents import registry
from emberkeep.documents.encoding import decode
from emberkeep.documents.formats import xml
from emberkeep.documents.model import Document, Node, Role
from emberkeep.errors import UnreadableInput


def document(text: str | bytes) -> Document:
    data = text.encode() if isinstance(text, str) else text
    found = registry.parse("test.xml", data, as_format="xml")
    assert found is not None
    return found


def child(node: Node, name: str) -> Node:
    return next(item for item in node.items if item.name == name)


@pytest.mark.parametrize(
    "behind", ["", "\n", "<!-- </a> -->", "\n<!-- </a> -->\n", "<?x </a>?>", "<?x </a>?>\n<!-- y -->"]
)
def test_what_follows_the_root_is_none_of_it(behind: str) -> None:
    doc = document(f"<a><good/>\n<ab>x</ab></a>{behind}")
    assert doc.raw(doc.root) == "<a><good/>\n<ab>x</ab></a>"
    assert [item.name for item in doc.root.items] == ["good", "ab"]


def test_fields_and_spans() -> None:
    doc = document("<a><good id=\"x\" n='1 &amp; 2'><worth> 5 </worth><empty/></good></a>")
    good = child(doc.root, "good")
    assert good.fields["@id"].value == "x"
    assert good.fields["@n"].value == "1 & 2"
    field = good.fields["@n"]
    assert doc.text[field.start : field.end] == "1 &amp; 2"
    assert child(good, "worth").own == " 5 "
    assert child(good, "empty").own is None
    assert doc.raw(child(good, "empty")) == "<empty/>"


@pytest.mark.parametrize(
    ("raw", "value"),
    [
        ("<v>a&lt;b&#65;&#x42;</v>", "a<bAB"),
        ("<v><![CDATA[a<b&amp;]]> c</v>", "a<b&amp; c"),
        ("<v>&custom;</v>", "&custom;"),
        ("<v>x <b>bold</b> y</v>", "x <b>bold</b> y"),
        ("<v>5<!-- was 4 --></v>", "5<!-- was 4 -->"),
    ],
)
def test_values(raw: str, value: str) -> None:
    doc = document(f'<!DOCTYPE a [<!ENTITY custom "told">]><a>{raw}</a>')
    assert child(doc.root, "v").own == value


def test_prolog_of_every_kind_is_stepped_over() -> None:
    doc = document(
        "\ufeff<?xml version='1.0'?>\n<!-- <not-the-root/> -->\n<?style here?>\n"
        '<!DOCTYPE stores [\n <!ELEMENT stores ANY> <!-- \']> --> <!ATTLIST x y CDATA "]>">\n]>\n<stores><good/></stores>\n'
    )
    assert doc.root.name == "stores"
    assert [item.name for item in doc.root.items] == ["good"]


def test_comments_and_instructions_are_items_and_know_their_line() -> None:
    doc = document("<a>\n<!-- one --><good/> <!-- behind -->\n<?do it?>\n</a>")
    names = [(item.name, item.trailing) for item in doc.root.items]
    assert names == [("#comment", False), ("good", False), ("#comment", True), ("#instruction", False)]


@pytest.mark.parametrize("codec", ["utf-8", "utf-8-sig", "utf-16", "iso-8859-1"])
def test_encodings_are_read_and_given_back(codec: str) -> None:
    declared = codec.replace("utf-8-sig", "utf-8")
    data = f'<?xml version="1.0" encoding="{declared}"?><a><v>ålesund</v></a>'.encode(codec)
    doc = document(data)
    assert child(doc.root, "v").own == "ålesund"
    assert doc.source.encode(doc.text) == data


@pytest.mark.parametrize(
    ("text", "line", "column"),
    [
        ("<stores>\n  <good id='x'>\n  </goods>\n</stores>", 3, 5),
        ("<stores>\n  <good>\n</stores>\n", 3, 3),
        ("<a b='1' b='2'/>", 1, 10),
        ("<a>&nope;</a>", 1, 4),
        ("<a/>\n<b/>", 2, 1),
        ("", 1, 1),
        ("<a>\x01</a>", 1, 4),
    ],
)
def test_what_is_not_well_formed_is_named_by_place(text: str, line: int, column: int) -> None:
    with pytest.raises(UnreadableInput) as caught:
        document(text)
    place = caught.value.faults[0].place
    assert place is not None
    assert (place.file, place.line, place.column) == ("test.xml", line, column)


def laughs() -> str:
    entities = "".join(f'<!ENTITY l{n} "{f"&l{n - 1};" * 10}">' for n in range(1, 12))
    return f'<!DOCTYPE a [<!ENTITY l0 "ha">{entities}]><a>&l11;</a>'


@pytest.mark.parametrize(
    "text",
    [
        laughs(),
        '<!DOCTYPE a [<!ENTITY x SYSTEM "file:///etc/hostname">]><a>&x;</a>',
        "<!DOCTYPE a [<!ENTITY % p \"<!ENTITY q 'r'>\"> %p;]><a/>",
        f'<!DOCTYPE a [<!ENTITY big "{"x" * 50_000}">]><a>{"&big;" * 50_000}</a>',
    ],
)
def test_entity_tricks_are_refused_quickly(text: str) -> None:
    with pytest.raises(UnreadableInput):
        document(text)


def test_an_external_dtd_is_neither_fetched_nor_opened(tmp_path: Path) -> None:
    """A server that would give it hears nothing, and what a file there declares is not known."""
    asked: list[str] = []

    class Gives(BaseHTTPRequestHandler):
        def do_GET(self) -> None:
            asked.append(self.path)
            self.send_response(200)
            self.end_headers()
            self.wfile.write(b'<!ENTITY tide "high"><!ATTLIST v at CDATA "pier">')

        def log_message(self, *told: object) -> None:
            pass

    (tmp_path / "own.dtd").write_text('<!ENTITY tide "high"><!ATTLIST v at CDATA "pier">')
    with ThreadingHTTPServer(("127.0.0.1", 0), Gives) as server:
        threading.Thread(target=server.serve_forever, args=(0.02,), daemon=True).start()
        for place in (
            f"http://127.0.0.1:{server.server_port}/none.dtd",
            (tmp_path / "own.dtd").as_uri(),
            f"{tmp_path}/own.dtd",
        ):
            doc = document(f'<!DOCTYPE a SYSTEM "{place}"><a><v>1</v></a>')
            assert child(doc.root, "v").own == "1"
            assert "at" not in child(doc.root, "v").fields
            told = document(f'<!DOCTYPE a SYSTEM "{place}"><a><v>&tide;</v></a>')
            assert "high" not in str(child(told.root, "v").own)
        server.shutdown()
    assert asked == []


def test_deep_nesting_reads_at_the_top_without_a_crash() -> None:
    depth = 20_000
    doc = document("<a>" * depth + "</a>" * depth)
    assert [item.role for item in doc.root.items] == [Role.RECORD]


@given(st.binary(max_size=200))
def test_any_bytes_give_a_document_or_a_clear_error(data: bytes) -> None:
    for name in ("x.xml", "x.properties", "x.ini"):
        try:
            found = registry.parse(name, data)
        except UnreadableInput as error:
            assert error.faults[0].place is not None
            continue
        if found is not None:
            assert found.source.encode(found.text) == data


pieces = st.sampled_from(
    ["<a>", "</a>", "<b x='1'>", "</b>", "<c/>", "text", "<!-- n -->", "<![CDATA[<a>]]>", "&amp;", "\n", "<?p?>"]
)


@given(st.lists(pieces, max_size=12).map("".join))
def test_what_expat_accepts_our_scanner_reads_whole(inner: str) -> None:
    """Every element the checker saw is a node of ours, or text of a mixed value."""
    try:
        doc = document(f"<r>{inner}</r>")
    except UnreadableInput:
        return
    covered = 0
    waiting = [doc.root]
    while waiting:
        node = waiting.pop()
        covered += 1
        if node.own is not None and node.role is Role.RECORD:
            covered += sum(node.own.count(start) for start in ("<a>", "<b x", "<c/>"))
        waiting.extend(item for item in node.items if item.role is Role.RECORD)
    expected = 1 + sum(inner.replace("<![CDATA[<a>]]>", "").count(start) for start in ("<a>", "<b x", "<c/>"))
    assert covered >= expected


def test_text_with_nul_is_no_text() -> None:
    assert decode(b"a\0b") is None
    assert decode("a".encode("utf-16")) is not None


pieces_of_xml = st.lists(
    st.sampled_from(
        [
            '<good id="a"><worth>1</worth></good>',
            "<good id=\"b > c\" kind='x'/>",
            "<good><good>inner</good></good>",
            "<good><!-- </good> --></good>",
            "<good><![CDATA[</good>]]></good>",
            "<goods/>",
            "<other>text</other>",
            "<!-- between -->",
            "<?mark here?>",
            "<good >  </good >",
            "stray",
            "\n  ",
            '<good id="&lt;/good&gt;"></good>',
        ]
    ),
    max_size=8,
)


@given(pieces_of_xml)
def test_a_long_list_is_read_as_a_short_one_is(pieces: list[str]) -> None:
    """The quick way through lists of alike elements finds what the look at each token finds."""
    data = f"<s>{''.join(pieces)}</s>".encode()
    trees = []
    for long in (1 << 60, 0):
        with pytest.MonkeyPatch.context() as patch:
            patch.setattr(xml, "LONG", long)
            trees.append(_spans(document(data).root))
    assert trees[0] == trees[1]


def _spans(node: Node) -> tuple[object, ...]:
    fields = tuple((name, field.value, field.start) for name, field in node.fields.items())
    return (
        node.name,
        node.start,
        node.end,
        node.inner,
        node.trailing,
        fields,
        tuple(_spans(item) for item in node.items),
    )
