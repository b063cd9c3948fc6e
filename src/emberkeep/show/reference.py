"""What keep.toml may hold, in words: on a terminal, and as a page of Markdown."""

from __future__ import annotations

import textwrap
from collections.abc import Iterator, Sequence

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
        _wrapped(screen, _sentence(key.words), "    ")
        for example in examples(key):
            screen.line(f"        {example}")


def _wrapped(screen: Screen, words: str, indent: str, style: str = "") -> None:
    for line in textwrap.wrap(words, _WIDTH, initial_indent=indent, subsequent_indent=indent):
        screen.line(line, style)


def first_sentence(words: str) -> str:
    """What comes first."""
    return words.partition(". ")[0].removesuffix(".") + "."


def _sentence(words: str) -> str:
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


def page(tables: Sequence[Table]) -> str:
    """The same as Markdown."""
    return "\n".join((*_HEAD, *(line for one in tables for line in _section(one)))).rstrip() + "\n"


_HEAD = (
    "# keep.toml: every table and key",
    "",
    "`emberkeep adopt` writes a first keep.toml. It is yours to edit. This page tells all that it may hold;",
    "`emberkeep keep-toml TABLE` tells the same on a terminal. A key that is not known here is refused, with its line.",
    "",
    '* A **length of time** is written as `"30 s"`, `"90 min"`, `"2 hours"` or `"3 days"`.',
    "* A **glob** names paths below the server folder: `*` stands for anything within a folder, `**` for folders too.",
    "* A **regular expression** is one of Python's. Write it in single quotes, so that `\\` stays as it is.",
    '* **Secrets** never stand in keep.toml. `{ env = "NAME" }` names a variable, `{ file = "PATH" }` a private file.',
    "* Lines that begin with `# ?` are questions of adopt. Settle what they ask, then delete them.",
    "* Editors complete keep.toml by `keep.schema.json` beside it (JSON Schema, draft 2020-12), where they know how.",
    "  `emberkeep keep-toml --schema` prints it.",
    "",
    "This page is made from the readers of keep.toml and from `src/emberkeep/keep/reference.toml`.",
    "Run `python docs/generate.py` after changing either.",
    "",
)


def _section(one: Table) -> Iterator[str]:
    yield f"## {'`' + one.header + '`' if one.header else 'Above all tables'}"
    yield ""
    if one.words:
        yield f"{one.words}"
    if one.used_by:
        yield f"Used by: {one.used_by}."
    yield ""
    yield "| key | type | what it is |"
    yield "|---|---|---|"
    for key in one.keys:
        yield f"| `{key.name}` | {_escaped(type_of(key))} | {_escaped(_sentence(key.words))} |"
    yield ""
    yield "```toml"
    if one.header:
        yield one.example
    for key in one.keys:
        for number, example in enumerate(examples(key)):
            yield f"# or: {example}" if number else example
    yield "```"
    yield ""


def _escaped(text: str) -> str:
    return text.replace("|", "\\|").replace("<", "&lt;").replace("*", "\\*")
