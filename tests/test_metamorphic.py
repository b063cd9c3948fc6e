"""Laws that relate one merge to another: what changes nothing that matters must change nothing in the result.

The lists are as real ones are: a few records share a name, some bear none, numbers are part of what tells them apart.
"""

from __future__ import annotations

import json
import operator
import random
import re
from collections import Counter
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace

import pytest
from hypothesis import assume, given
from hypothesis import strategies as st

from emberkeep.documents import registry
from emberkeep.documents.model import content
from emberkeep.merging.merge import merge_file
from emberkeep.merging.results import ORDER, FileMerge, Question
from tests import depth

# --- lists --------------------------------------------------------------------


@dataclass(frozen=True)
class Lens:
    """A record. ``name`` is "" where it bears none."""

    maker: str
    name: str
    focal: int
    kind: str
    worth: int


Row = tuple[Lens, ...]


@dataclass(frozen=True)
class Sides:
    """A list in three versions. ``beside``: what stands in it on all of them; ``elsewhere``: in another list."""

    old: Row
    mine: Row
    new: Row
    beside: Row = ()
    elsewhere: Row = ()


_MAKERS = ("brae", "holm", "skua")
_KINDS = ("lamp", "glass", "beacon")
lenses = st.builds(
    Lens,
    maker=st.sampled_from(_MAKERS),
    name=st.sampled_from(("", "tarn", "voe", "geo", "ness", "firth", "skerry", "wick", "stack", "ayre", "noup")),
    focal=st.integers(1, 6),
    kind=st.sampled_from(_KINDS),
    worth=st.integers(1, 900),
)
steps = st.lists(
    st.tuples(st.sampled_from(("drop", "worth", "kind", "add", "move")), st.integers(0, 30), st.integers(901, 1800)),
    max_size=4,
)


def stepped(row: Row, changes: Sequence[tuple[str, int, int]], side: str) -> Row:
    """A list with some changes made to it."""
    made = list(row)
    for what, at, number in changes:
        here = at % (len(made) or 1)
        if what == "add":
            made.insert(here, Lens(f"{side}aker", f"{side}{number}", number, "glass", at))
        elif not made:
            continue
        elif what == "drop":
            del made[here]
        elif what == "worth":
            made[here] = replace(made[here], worth=number)
        elif what == "kind":
            made[here] = replace(made[here], kind=f"{side} {_KINDS[at % 3]}")
        else:
            made.insert(number % len(made), made.pop(here))
    return tuple(made)


@st.composite
def sides(draw: st.DrawFn, *, named: bool = False, least: int = 2) -> Sides:
    """A list that both sides edited. ``named``: each record by a name of its own."""
    unique = operator.attrgetter("name") if named else operator.attrgetter("maker", "name", "focal")
    old = tuple(draw(st.lists(lenses, min_size=least, max_size=10, unique_by=unique)))
    if named:
        old = tuple(one for one in old if one.name)
    return Sides(old, stepped(old, draw(steps), "m"), stepped(old, draw(steps), "n"))


# --- writing ------------------------------------------------------------------

Lists = Mapping[str, Row]


def _facts(one: Lens) -> dict[str, object]:
    # no field is called as a key is: that would be evidence, which other words for all things take away
    every = {"maker": one.maker, "mark": one.name, "focal": one.focal, "kind": one.kind, "worth": one.worth}
    return {key: value for key, value in every.items() if value != ""}


def _xml(lists: Lists) -> str:
    lines = []
    for called, row in lists.items():
        lines.append(f"  <{called}>")
        for one in row:
            name = f' mark="{one.name}"' if one.name else ""
            lines.append(f'    <lens maker="{one.maker}"{name} focal="{one.focal}">')
            lines += [f"      <kind>{one.kind}</kind>", f"      <worth>{one.worth}</worth>", "    </lens>"]
        lines.append(f"  </{called}>")
    return "\n".join(["<shop>", *lines, "</shop>", ""])


def _flat_xml(lists: Lists) -> str:
    lines = []
    for called, row in lists.items():
        facts = [" ".join(f'{key}="{value}"' for key, value in _facts(one).items()) for one in row]
        lines += [f"  <{called}>", *(f"    <lens {said}/>" for said in facts), f"  </{called}>"]
    return "\n".join(["<shop>", *lines, "</shop>", ""])


def _json(lists: Lists) -> str:
    return json.dumps({called: [_facts(one) for one in row] for called, row in lists.items()}, indent=2) + "\n"


def _json_line(lists: Lists) -> str:
    return json.dumps({called: [_facts(one) for one in row] for called, row in lists.items()}, separators=(",", ":"))


def _yaml(lists: Lists) -> str:
    lines = []
    for called, row in lists.items():
        lines.append(f"{called}:" + ("" if row else " []"))
        for one in row:
            facts = [f"{key}: {value}" for key, value in _facts(one).items()]
            lines += [f"{'    ' if at else '  - '}{said}" for at, said in enumerate(facts)]
    return "\n".join([*lines, ""])


def _toml(lists: Lists) -> str:
    lines = []
    for called, row in lists.items():
        for one in row:
            lines += [f"[[{called}]]", *(f"{key} = {json.dumps(value)}" for key, value in _facts(one).items()), ""]
    return "\n".join(lines)


def _ini(lists: Lists) -> str:
    lines = []
    for one in (one for row in lists.values() for one in row):
        lines += [f"[{one.name}]", *(f"{key} = {value}" for key, value in _facts(one).items() if key != "mark"), ""]
    return "\n".join(lines)


def _properties(lists: Lists) -> str:
    every = [one for row in lists.values() for one in row]
    return "".join(f"{one.name}.{key}={value}\n" for one in every for key, value in _facts(one).items())


LISTS: Mapping[str, Callable[[Lists], str]] = {
    "lenses.xml": _xml,
    "flat.xml": _flat_xml,
    "lenses.json": _json,
    "line.json": _json_line,
    "lenses.yaml": _yaml,
    "lenses.toml": _toml,
}
NAMED: Mapping[str, Callable[[Lists], str]] = {"lenses.ini": _ini, "lenses.properties": _properties}
each_list = pytest.mark.parametrize("path", depth.some(list(LISTS), 3))
each_format = pytest.mark.parametrize("path", depth.some([*LISTS, *NAMED], 4))


def written(path: str, drawn: Sides) -> list[str]:
    write = {**LISTS, **NAMED}[path]
    beside = {"glasses": drawn.elsewhere} if drawn.elsewhere else {}
    return [write({"lenses": row + drawn.beside, **beside}) for row in (drawn.old, drawn.mine, drawn.new)]


def merge(path: str, texts: Sequence[str]) -> FileMerge:
    result = merge_file(path, *(text.encode() for text in texts))
    assert result.fault is None
    assert result.warnings == ()
    return result


def text_of(result: FileMerge, mine: str) -> str:
    return mine if result.data is None else result.data.decode()


def says(path: str, text: str) -> object:
    """All that a file says, in its order."""
    document = registry.parse(path, text.encode())
    assert document is not None
    return content(document.root)


def asked(result: FileMerge) -> Counter[tuple[str | None, ...]]:
    """The questions, by their values; of those about an order, that there is one."""
    return Counter((q.field,) if q.field == ORDER else (q.field, q.old, q.mine, q.new) for q in result.questions)


def mirrored(question: Question) -> tuple[str | None, ...]:
    return (ORDER,) if question.field == ORDER else (question.field, question.old, question.new, question.mine)


# --- laws ---------------------------------------------------------------------


@each_format
@given(data=st.data())
def test_what_only_one_side_changed_is_that_sides(path: str, data: st.DataObject) -> None:
    """Mine as the old defaults gives the new ones, order included; new ones as the old give mine to the byte."""
    old, mine, new = written(path, data.draw(sides(named=path in NAMED)))
    result = merge(path, (old, old, new))
    assert not result.questions
    assert says(path, text_of(result, old)) == says(path, new)
    result = merge(path, (old, mine, old))
    assert not result.questions
    assert result.data is None


@each_format
@given(data=st.data(), which=st.integers(0, 2))
def test_the_line_ends_of_one_side_change_nothing_else(path: str, data: st.DataObject, which: int) -> None:
    texts = written(path, data.draw(sides(named=path in NAMED)))
    other = [text.replace("\n", "\r\n") if at == which else text for at, text in enumerate(texts)]
    plain, swapped = merge(path, texts), merge(path, other)
    assert asked(swapped) == asked(plain)
    result, expected = text_of(swapped, other[1]), text_of(plain, texts[1])
    assert result.replace("\r\n", "\n") == expected
    if texts[1] != texts[0] and "\n" in texts[1] and expected:
        assert ("\r" in result) == (which == 1)


_WORD = re.compile(r"[a-z]+[0-9]*")


def renaming(words: set[str], salt: int) -> dict[str, str]:
    """Each word by another one; those that stood before others in the alphabet do so still."""
    chance = random.Random(salt)
    return {word: f"{at:03d}".translate(_LETTERS) + chance.choice("aeiou") for at, word in enumerate(sorted(words))}


_LETTERS = str.maketrans("0123456789", "bcdfghjklm")


@each_format
@given(data=st.data(), salt=st.integers(0, 4))
def test_renaming_every_word_renames_the_result(path: str, data: st.DataObject, salt: int) -> None:
    texts = written(path, data.draw(sides(named=path in NAMED)))
    names = renaming({word for text in texts for word in _WORD.findall(text)}, salt)
    other = [_WORD.sub(lambda found: names[found.group()], text) for text in texts]
    plain, renamed = merge(path, texts), merge(path, other)
    assert text_of(renamed, other[1]) == _WORD.sub(lambda found: names[found.group()], text_of(plain, texts[1]))
    # whether a list is sorted by name hangs on which of its words is the name
    assert len([q for q in renamed.questions if q.field != ORDER]) == len(
        [q for q in plain.questions if q.field != ORDER]
    )


_ORDER = Counter({(ORDER,): 1})
STRANGER = Lens("ulla", "zenith", 70, "harbour", 40_000)


@each_list
@given(lists=sides(), twice=st.booleans())
def test_a_record_in_another_list_changes_nothing_else(path: str, lists: Sides, twice: bool) -> None:
    assume(path != "lenses.toml" or all((lists.old, lists.mine, lists.new)))
    texts, more = written(path, lists), written(path, replace(lists, elsewhere=(STRANGER,) * (1 + twice)))
    plain, grown = merge(path, texts), merge(path, more)
    assert asked(grown) == asked(plain)
    assert _rows(path, text_of(grown, more[1]), "lenses") == _rows(path, text_of(plain, texts[1]), "lenses")


@each_format
@given(lists=sides(named=True, least=8), twice=st.booleans())
def test_an_unrelated_record_changes_nothing_else(path: str, lists: Sides, twice: bool) -> None:
    """Nor does the same one twice, where a list may have a few doubles. Whether an order means something hangs on how much
    of the list was moved, so that may change."""
    beside = (STRANGER, STRANGER) if twice and path in LISTS else (STRANGER,)
    texts, more = written(path, lists), written(path, replace(lists, beside=beside))
    plain, grown = merge(path, texts), merge(path, more)
    assert asked(grown) - _ORDER == asked(plain) - _ORDER
    found = _rows(path, text_of(grown, more[1]), "lenses")
    for row in _rows(path, written(path, Sides(beside, beside, beside))[0], "lenses"):
        found.remove(row)
    assert found == _rows(path, text_of(plain, texts[1]), "lenses")


def _rows(path: str, text: str, called: str) -> list[object]:
    """The records of a list."""
    document = registry.parse(path, text.encode())
    assert document is not None
    root = document.root
    if path in NAMED:
        return [content(item) for item in root.items]
    lists = [item for item in root.items if item.name == called]
    return [content(item) for one in lists for item in ([one] if path == "lenses.toml" else one.items)]


@each_format
@given(data=st.data())
def test_mirrored_sides_ask_the_same(path: str, data: st.DataObject) -> None:
    old, mine, new = written(path, data.draw(sides(named=path in NAMED)))
    there, back = merge(path, (old, mine, new)), merge(path, (old, new, mine))
    assert asked(there) == Counter(mirrored(question) for question in back.questions)
