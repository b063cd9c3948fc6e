"""Merges of documents nobody would write: odd nesting, mixed text, records without identity, everything on one line."""

from __future__ import annotations

import random
import re

import pytest

from emberkeep.comparing.records import compare, facts
from emberkeep.documents import registry
from emberkeep.merging.merge import merge_file
from tests import depth


def body(some: random.Random, depth: int, inline: bool) -> str:
    line = "" if inline else "\n" + "  " * (3 - depth)
    parts = []
    for _ in range(some.randrange(4)):
        if some.random() < 0.15:
            parts.append(f"{line}<!-- c{some.randrange(3)} -->")
            continue
        parts.append(line + element(some, depth, inline))
        if some.random() < 0.1:
            parts.append(" <!-- behind -->")
    return "".join(parts)


def element(some: random.Random, depth: int, inline: bool) -> str:
    tag = some.choice("ab")
    attributes = "".join(
        f' {name}="{some.choice("123x")}"' for name in some.sample(["id", "n", "m"], some.randrange(3))
    )
    kind = some.random()
    if kind < 0.1 or (depth == 0 and kind < 0.5):
        return f"<{tag}{attributes}/>"
    if kind < 0.2 or depth == 0:
        return f"<{tag}{attributes}></{tag}>"
    if kind < 0.5:
        return f"<{tag}{attributes}>{some.choice(['1', '2', 'x y'])}</{tag}>"
    if kind < 0.57:
        return f"<{tag}{attributes}>t <i/> u</{tag}>"
    flat = inline or some.random() < 0.15
    close = "" if flat else "\n" + "  " * (3 - depth)
    return f"<{tag}{attributes}>{body(some, depth - 1, flat)}{close}</{tag}>"


def document(some: random.Random) -> str:
    return f"<r>{body(some, 3, some.random() < 0.2)}\n</r>" + ("\n" if some.random() < 0.8 else "")


def edited(some: random.Random, text: str) -> str:
    for _ in range(some.randrange(3)):
        kind = some.random()
        pattern = r'"[123x]"' if kind < 0.4 else r"\n *<[ab][^>\n]*/>" if kind < 0.7 else r"(?<=<r>)|(?<=</a>)"
        places = list(re.finditer(pattern, text))
        if not places:
            continue
        place = some.choice(places)
        put = f'"{some.choice("456")}"' if kind < 0.4 else "" if kind < 0.7 else f'\n    <{some.choice("ab")} id="7"/>'
        text = text[: place.start()] + put + text[place.end() :]
    return text


@pytest.mark.parametrize("block", range(6))
def test_no_document_makes_the_merge_stumble(block: int) -> None:
    for seed in range(block * 90, block * 90 + depth.choose(20, 90)):
        some = random.Random(seed)
        old = document(some)
        related = some.random() < 0.7
        mine, new = (edited(some, old), edited(some, old)) if related else (document(some), document(some))
        for answer in ("", "new", "old"):
            sides = (side.encode() for side in (old, mine, new))
            result = merge_file("x.xml", *sides, resolve=lambda question, answer=answer: (answer, "test"))  # type: ignore[misc]
            assert result.fault is None, seed
            registry.parse("x.xml", mine.encode() if result.data is None else result.data, as_format="xml")
        assert merge_file("x.xml", old.encode(), mine.encode(), old.encode()).data is None, seed
        first, second = (registry.parse("x.xml", side.encode()) for side in (mine, new))
        assert first is not None
        assert second is not None
        if not [item for item in compare(first, second) if item.kind != "moved"]:
            assert facts(first) == facts(second), seed
