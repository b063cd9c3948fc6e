"""``emberkeep keep-toml [TABLE]``: what keep.toml may hold."""

from __future__ import annotations

import argparse

from emberkeep.cli.context import answer
from emberkeep.errors import UsageError, did_you_mean
from emberkeep.keep import reference
from emberkeep.keep.reference import Key, Table
from emberkeep.show import reference as view
from emberkeep.show.console import Screen

EXAMPLES = (
    "emberkeep keep-toml",
    "emberkeep keep-toml start",
    "emberkeep keep-toml stop.tell",
    "emberkeep keep-toml --full | less",
)
EXITS = {0: "shown"}


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Which table, or all."""
    parser.add_argument("table", nargs="?", metavar="TABLE", help="a table, or one of its keys: start, stop.tell")
    parser.add_argument("--full", action="store_true", help="every table with every key")
    parser.add_argument("--schema", action="store_true", help="as a JSON Schema, for editors")


def run(args: argparse.Namespace, screen: Screen) -> int:
    """It needs no keep."""
    if args.schema:
        if args.table or args.full:
            raise UsageError("--schema is of the whole keep.toml")
        screen.text(reference.shipped_schema().decode())
        return 0
    tables = reference.tables()
    if args.table is None:
        show = _all if args.full else view.listed
        return answer(args, 0, {"tables": tables}, lambda: show(screen, tables))
    table, keys = _found(tables, args.table)
    return answer(args, 0, {"table": table}, lambda: view.described(screen, table, keys))


def _all(screen: Screen, tables: tuple[Table, ...]) -> None:
    for number, table in enumerate(tables):
        if number:
            screen.line()
        view.described(screen, table, table.keys)


def _found(tables: tuple[Table, ...], asked: str) -> tuple[Table, tuple[Key, ...]]:
    """The table that is asked for, as ``start``, ``[[event]]`` or ``stop.tell``, and the keys to tell of it."""
    name, _, key = asked.strip("[]").partition(".")
    names = {table.name: table for table in tables if table.name}
    if name not in names:
        above = next(table for table in tables if not table.name)
        if any(name == one.name for one in above.keys):
            return above, above.keys
        raise UsageError(
            f"keep.toml has no table '{name}'",
            hint=did_you_mean(name, names, "'emberkeep keep-toml' lists them"),
        )
    table = names[name]
    keys = tuple(one for one in table.keys if one.name == key or one.name.startswith(f"{key}."))
    if keys or not key or table.header == f"[{name}.NAME]":
        return table, keys or table.keys
    known = [one.name for one in table.keys]
    raise UsageError(f"{table.header} has no key '{key}'", hint=did_you_mean(key, known, f"known: {', '.join(known)}"))
