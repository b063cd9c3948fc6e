"""Values set, renamed and taken out by key, and records given another shape: read back by other libraries than the product's
own, the result says what the same done to plain dictionaries says."""

from __future__ import annotations

import json
import tomllib
from collections.abc import Callable, Mapping
from typing import Any
from xml.etree import ElementTree
from xml.sax.saxutils import escape

import pytest
import yaml
from hypothesis import assume, given
from hypothesis import strategies as st

from emberkeep.documents import edit, reshape
from emberkeep.documents.reshape import Shape

Values = dict[str, Any]
NAMES = ["sea", "search", "at", "lamp", "oil", "n"]
SPECIAL = ["it's", 'say "so"', "# none", "a: b", "x=y", "<&>", "ørn", "", "C:\\lamp", "- x", "[1, 2", "null", " lead"]
NUMBERS = ["1", "12.5", "true", "007", "12:30", "0x1F", "1_000"]
"""Of which YAML would read some as other numbers than everybody else."""
texts = st.sampled_from([*SPECIAL, *NUMBERS, "moor", "a b"])
records = st.dictionaries(st.sampled_from(NAMES), texts, max_size=3)


def toml_text(tree: Values) -> str:
    def lines(told: Values) -> str:
        return "".join(f"{name} = {json.dumps(text, ensure_ascii=False)}\n" for name, text in told.items())

    flat = {name: told for name, told in tree.items() if isinstance(told, str)}
    tables = [f"[{name}]\n{lines(told)}" for name, told in tree.items() if isinstance(told, dict)]
    return "\n".join([lines(flat), *tables])


def xml_text(tree: Values) -> str:
    def body(told: str | Values, pad: str) -> str:
        if isinstance(told, str):
            return escape(told)
        inner = "".join(f"{pad}  <{name}>{body(one, pad + '  ')}</{name}>\n" for name, one in told.items())
        return f"\n{inner}{pad}" if inner else ""

    return f"<r>{body(tree, '')}</r>\n"


def xml_read(text: str) -> Values:
    def told(element: ElementTree.Element) -> str | Values:
        return {child.tag: told(child) for child in element} if len(element) else element.text or ""

    found = told(ElementTree.fromstring(text))
    return found if isinstance(found, dict) else {}


def yaml_text(tree: Values, **how: Any) -> str:
    return str(yaml.safe_dump(tree, sort_keys=False, allow_unicode=True, **how))


WRITERS: Mapping[str, Callable[[Values], str]] = {
    "json": lambda tree: json.dumps(tree, indent=2, ensure_ascii=False),
    "flat.json": lambda tree: json.dumps(tree, ensure_ascii=False),
    "yaml": yaml_text,
    "flow.yaml": lambda tree: yaml_text(tree, default_flow_style=None),
    "toml": toml_text,
    "xml": xml_text,
}
READERS: Mapping[str, Callable[[str], Values]] = {
    "json": json.loads,
    "yaml": lambda text: yaml.safe_load(text) or {},
    "toml": tomllib.loads,
    "xml": xml_read,
}


def plain(told: Any, form: str) -> Any:
    """Values as texts. XML knows no white space around a text, and no difference between an empty text and nothing."""
    if isinstance(told, dict):
        found = {name: plain(one, form) for name, one in told.items()}
        return found if found or form != "xml" else ""
    if isinstance(told, bool) or told is None:
        return json.dumps(told)
    return str(told).strip() if form == "xml" else str(told)


def read_back(data: bytes, form: str) -> Any:
    return plain(READERS[form.rpartition(".")[2]](data.decode()), form)


@pytest.mark.parametrize("form", WRITERS)
@given(
    st.dictionaries(st.sampled_from(NAMES), texts | records, max_size=4),
    texts,
    st.sampled_from(["set", "rename", "remove"]),
    st.data(),
)
def test_a_value_is_set_renamed_and_taken_out_and_nothing_else_becomes_another(
    form: str, tree: Values, text: str, act: str, drawn: st.DataObject
) -> None:
    data = WRITERS[form](tree).encode()
    holders = {"": tree} | {key: value for key, value in tree.items() if isinstance(value, dict)}
    above = drawn.draw(st.sampled_from([*holders]))
    holder = holders[above]
    name = drawn.draw(st.sampled_from([one for one in NAMES if act != "set" or not isinstance(holder.get(one), dict)]))
    key, path = f"{above}.{name}".lstrip("."), f"a.{form}"
    if act == "set":
        data = edit.set_value(path, data, key, text)
        holder[name] = text
    elif act == "remove":
        data = edit.remove_key(path, data, key)
        holder.pop(name, None)
    else:
        data = edit.rename_key(path, data, key, "fresh")
        if name in holder:
            holder["fresh"] = holder.pop(name)
    assert read_back(data, form) == plain(tree, form), data.decode()


@pytest.mark.parametrize("form", WRITERS)
@given(
    st.dictionaries(st.sampled_from(["ann", "bob", "cat"]), records, max_size=3),
    st.dictionaries(st.sampled_from(NAMES), st.sampled_from(["salt", "rank", "oil"]), max_size=1),
    st.dictionaries(st.sampled_from([*NAMES, "salt"]), st.sampled_from(["0", "hand", "a: b"]), max_size=3),
    st.lists(st.sampled_from(NAMES), unique=True, max_size=2),
)
def test_records_get_another_shape(
    form: str, tree: dict[str, Values], rename: dict[str, str], default: Values, drop: list[str]
) -> None:
    """Also those that hold nothing, and those that lose all they held."""
    assume(not {*rename} & {*drop, *default} and not {*default} & {*drop})
    data = WRITERS[form](tree).encode()
    wanted = {}
    for who, told in tree.items():
        names = {name: new for name, new in rename.items() if name in told and new not in told}
        kept = {names.get(name, name): text for name, text in told.items() if name not in drop}
        came = {new for name, new in rename.items() if name in told}
        wanted[who] = {
            **{name: text for name, text in default.items() if name not in told and name not in came},
            **kept,
        }
    made, _ = reshape.reshaped(f"a.{form}", data, "*", Shape(rename, {}, default, tuple(drop)))
    assert read_back(made, form) == plain(wanted, form), made.decode()


def test_a_file_of_arguments_is_read_and_set_by_their_names() -> None:
    data = b"# one a line\n--title=Deep Sea\n-port 27400\n--beach=round\n--quiet\n"
    assert [edit.value("args.txt", data, key) for key in ("title", "port", "beach")] == ["Deep Sea", "27400", "round"]
    assert edit.set_value("args.txt", data, "beach", "flat") == data.replace(b"round", b"flat")
    lua = b'-- title = none\nreturn { title = "Deep", port = 5 }\n--port 7\n'
    assert edit.value("a.lua", lua, "port") is None
