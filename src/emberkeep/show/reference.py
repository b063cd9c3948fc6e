"""What keep.toml may hold, in words."""

from __future__ import annotations

import textwrap
from collections.abc import Sequence

from emberkeep.keep.reference import Key, Table
from emberkeep.show.console import HEAD, QUIET, Screen, cell, table

_WIDTH = 96


def listed(screen: Screen, tables: Sequence[Table]) -> None:
    """Every table, with what it is for."""
    rows = table("table", "what it is for")
    for one in tables:
        if one.header:
            rows.add_row(cell(one.header), cell(first_sentence(one.words)))
    screen.show(rows)
    screen.next("emberkeep keep-toml start tells every key of [start]; --full tells all of them")


def described(screen: Screen, one: Table, keys: Sequence[Key]) -> None:
    """One table, with these of its keys."""
    screen.line(one.header or "Above all tables", HEAD)
    _wrapped(screen, one.words, "")
    if one.used_by:
        _wrapped(screen, f"Used by: {one.used_by}.", "", QUIET)
    for key in keys:
        screen.line()
        screen.parts((f"  {key.name}", HEAD), (f"  {type_of(key)}", QUIET))
        _wrapped(screen, sentence(key.words), "    ")
        for example in examples(key):
            screen.line(f"        {example}")


def _wrapped(screen: Screen, words: str, indent: str, style: str = "") -> None:
    for line in textwrap.wrap(words, _WIDTH, initial_indent=indent, subsequent_indent=indent):
        screen.line(line, style)


def first_sentence(words: str) -> str:
    """What comes first."""
    return words.partition(". ")[0].removesuffix(".") + "."


def sentence(words: str) -> str:
    """Words as a sentence of their own."""
    return words[0].upper() + words[1:].removesuffix(".") + "." if words else ""


def examples(key: Key) -> tuple[str, ...]:
    """Lines of keep.toml with this key."""
    return (key.example, *key.others) if key.example else ()


def type_of(key: Key) -> str:
    """The type of a key, and what stands for it where it is missing."""
    kind = "one of " + ", ".join(key.choices) if key.choices else key.what
    if key.required:
        return f"{kind}; required"
    return f"{kind}; default {key.default}" if key.default else kind
