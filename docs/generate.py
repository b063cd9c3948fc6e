"""Writes what is made from the program itself: the lower parts of keep-toml.md, commands.md, json.md and
troubleshooting.md, the JSON Schemas of keep.toml and of --json, and in share/ what shells and man look for.

    python docs/generate.py [--check]

--check writes nothing, and ends with 1 where a file is not what it would write. Needs emberkeep and shtab installed.
"""

from __future__ import annotations

import argparse
import ast
import json
import re
import sys
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import shells

from emberkeep.cli.main import COMMANDS, command_module, command_parser
from emberkeep.keep import reference
from emberkeep.keep.reference import Table
from emberkeep.show import json_schema
from emberkeep.show import reference as view

HERE = Path(__file__).parent
EVERYWHERE = ("--help", "--json", "--keep", "--as-owner", "--debug", "--all", "--jobs", "--json-lines")
"""Told once, in the head of the page."""


def commands_page() -> str:
    """Every command with its options, examples and exit codes."""
    index = " · ".join(f"[{name}](#{name})" for name in COMMANDS)
    return "\n".join([index, "", *(line for name in COMMANDS for line in _command(name))]).rstrip() + "\n"


def _command(name: str) -> Iterator[str]:
    parser, module = command_parser(name), command_module(name)
    usage = re.sub(r"\s+", " ", parser.format_usage().removeprefix("usage: "))
    for option in EVERYWHERE:
        usage = re.sub(rf" \[(?:-h, )?(?:-h|{option})(?: [A-Z_]+)?\]", "", usage)
    yield from (f"## {name}", "", f"{parser.description}", "", "```", usage.strip(), "```", "")
    rows = [row for action in parser._actions for row in _option(action)]
    if rows:
        yield from ("| option | what it does |", "|---|---|", *rows, "")
    if any("--all" in action.option_strings for action in parser._actions):
        yield from ("Also takes `--all KEEPS_FOLDER`, `--jobs N` and `--json-lines`: see above.", "")
    yield from ("Exit codes:", "", *(f"* `{code}`: {words}" for code, words in sorted(module.EXITS.items())), "")
    yield from ("```sh", *(re.sub(r"^(.*?)\s+\((.*)\)$", r"\1    # \2", line) for line in module.EXAMPLES), "```", "")


def _option(action: argparse.Action) -> Iterator[str]:
    if action.help == argparse.SUPPRESS or set(action.option_strings) & set(EVERYWHERE):
        return
    named = " ".join(action.metavar) if isinstance(action.metavar, tuple) else action.metavar
    value = named or ("|".join(map(str, action.choices)) if action.choices else "")
    if not action.option_strings:
        name = str(value or action.dest)
    else:
        wants = "" if action.nargs == 0 else f" {value or action.dest.upper()}"
        name = action.option_strings[-1] + (f" [{wants.strip()}]" if action.nargs == "?" else wants)
    words = (action.help or "").replace("%%", "%").replace("|", "\\|")
    yield "| `{}` | {} |".format(name.replace("|", "\\|"), words)


def json_page() -> str:
    """What each command gives with --json."""
    lines: list[str] = []
    defined: dict[str, Any] = {}
    for name in COMMANDS:
        schema = json_schema.schema(name)
        defined |= schema["$defs"]
        lines += [f"## {name}", "", "| key | value |", "|---|---|"]
        given = [key for key in schema["properties"] if key not in ("format", "command", "exit", "keeps")]
        told = [key for key in given if key != "faults" or "anyOf" in schema["properties"][key]]
        lines += [f"| `{key}` | {_type(schema['properties'][key])} |" for key in told]
        lines.append("")
    lines += ["## Objects", "", "What stands in the documents above, by name.", ""]
    for name in sorted(defined):
        lines += [f"### {name}", "", "| key | value |", "|---|---|"]
        lines += [f"| `{key}` | {_type(one)} |" for key, one in defined[name].get("properties", {}).items()]
        lines.append("")
    return "\n".join(lines).rstrip() + "\n"


def _type(node: dict[str, Any]) -> str:
    if "$ref" in node:
        name = node["$ref"].rpartition("/")[2]
        return f"[{name}](#{name.replace('.', '').lower()})"
    if "anyOf" in node:
        return " or ".join(dict.fromkeys(map(_type, node["anyOf"])))
    if "enum" in node:
        return ", ".join(f"`{one}`" for one in node["enum"])
    if node.get("type") == "array":
        if "prefixItems" in node:
            return f"list of {', '.join(map(_type, node['prefixItems']))}"
        return f"list of {_type(node.get('items', {}))}"
    if node.get("type") == "object" and "properties" in node:
        return "{ " + ", ".join(f"`{key}`: {_type(one)}" for key, one in node["properties"].items()) + " }"
    if node.get("type") == "object":
        further = node.get("additionalProperties")
        return f"object of {_type(further)} by name" if isinstance(further, dict) else "object"
    return str(node.get("type", "any value"))


def whole_schema() -> str:
    """One schema for the documents of all commands."""
    return json.dumps(json_schema.whole(), indent=1) + "\n"


ROOMS = {
    "cli": "Calls",
    "api": "Calls",
    "keep": "keep.toml and secrets",
    "detection": "Adopting",
    "operations": "Runs",
    "process": "The server as a process",
    "merging": "Merging",
    "migrating": "Migrating saves",
    "wiping": "Wipes",
    "store": "The store",
    "fs": "The disk",
    "vault": "Vaults",
    "transfer": "Servers elsewhere",
    "databases": "Databases",
}
REFUSING = ("Refused", "RunFailed", "Damage")


@dataclass(frozen=True)
class Refusal:
    """A refusal as the sources hold it; ``what`` and ``hint`` with … for what varies, "" where that is all."""

    room: str
    where: str
    what: str
    hint: str


def refusals() -> Iterator[Refusal]:
    """Every refusal that the program can make."""
    package = json_schema.PACKAGE
    for path in sorted(package.rglob("*.py")):
        room = path.relative_to(package).parts[0].removesuffix(".py")
        for node in ast.walk(ast.parse(path.read_text(encoding="utf-8"))):
            if isinstance(node, ast.Call) and isinstance(node.func, ast.Name) and node.func.id in REFUSING:
                what = _words(node.args[0]) if node.args else ""
                hint = next((_words(one.value) for one in node.keywords if one.arg == "hint"), "(none)")
                yield Refusal(room, f"{path.relative_to(package)}:{node.lineno}", what, hint)


def _words(node: ast.expr) -> str:
    """What a text says, as far as the source tells; either of two."""
    if isinstance(node, ast.Constant) and isinstance(node.value, str):
        return node.value
    if isinstance(node, ast.JoinedStr):
        parts = [str(one.value) if isinstance(one, ast.Constant) else "…" for one in node.values]
        return re.sub("…(?:…)+", "…", "".join(parts))
    if isinstance(node, ast.BinOp):
        return re.sub("…(?:…)+", "…", (_words(node.left) or "…") + (_words(node.right) or "…"))
    if isinstance(node, ast.IfExp):
        return " / ".join(filter(None, (_words(node.body), _words(node.orelse))))
    return ""


def troubleshooting_page() -> str:
    """What happens most, by hand; then every refusal, by where it comes from."""
    lines: list[str] = []
    every = list(refusals())
    for title in dict.fromkeys(ROOMS.values()):
        rows = {one.what: one.hint for one in every if ROOMS.get(one.room) == title and _telling(one.what)}
        if rows:
            lines += [f"### {title}", "", "| it says | do |", "|---|---|"]
            lines += [f"| {_cell(what)} | {_cell(rows[what])} |" for what in sorted(rows, key=str.lower)]
            lines.append("")
    return "\n".join(lines).rstrip() + "\n"


def _telling(what: str) -> bool:
    return any(sign.isalpha() for sign in what)


def _cell(text: str) -> str:
    return text.replace("|", "\\|").replace("<", "&lt;").replace("*", "\\*").replace("\n", " ")


def _table(one: Table) -> Iterator[str]:
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
        yield f"| `{key.name}` | {_cell(view.type_of(key))} | {_cell(view.sentence(key.words))} |"
    yield ""
    yield "```toml"
    if one.header:
        yield one.example
    for key in one.keys:
        for number, example in enumerate(view.examples(key)):
            yield f"# or: {example}" if number else example
    yield "```"
    yield ""


MARK = "<!-- What follows is made from the program: python docs/generate.py -->"
"""Above it a page is written by hand, below it by this script."""
BELOW = {
    "docs/keep-toml.md": lambda: "\n".join(line for one in reference.tables() for line in _table(one)),
    "docs/commands.md": commands_page,
    "docs/json.md": json_page,
    "docs/troubleshooting.md": troubleshooting_page,
}
WHOLE = {
    "docs/json.schema.json": whole_schema,
    "src/emberkeep/keep/keep.schema.json": lambda: json.dumps(reference.schema(), indent=1) + "\n",
}


def made() -> dict[Path, str]:
    """Every file that is made, by its path, as it has to be."""
    root = HERE.parent
    found = {root / name: make() for name, make in WHOLE.items()}
    found |= {root / "share" / name: text for name, text in shells.files().items()}
    for name, make in BELOW.items():
        head = (root / name).read_text(encoding="utf-8").partition(MARK)[0]
        found[root / name] = f"{head}{MARK}\n\n{make().strip()}\n"
    return found


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--check", action="store_true")
    check = parser.parse_args().check
    stale = []
    for path, text in made().items():
        if path.is_file() and path.read_text(encoding="utf-8") == text:
            continue
        stale.append(path.name)
        if not check:
            path.parent.mkdir(parents=True, exist_ok=True)
            path.write_text(text, encoding="utf-8", newline="\n")
    if stale and check:
        print(f"not up to date: {', '.join(stale)}; run python docs/generate.py")
        return 1
    return 0


if __name__ == "__main__":
    sys.exit(main())
