"""What holds for the source as a whole, beside what linters and the layers in pyproject.toml hold."""

from __future__ import annotations

import argparse
import ast
import re
import shutil
import subprocess
from collections import Counter
from collections.abc import Iterator
from functools import cache
from pathlib import Path

import pytest

import emberkeep
from emberkeep.cli.main import COMMANDS, parser_for

PACKAGE = Path(emberkeep.__file__).parent
ROOT = Path(__file__).parent.parent

CAUGHT_WHOLE = {
    "cli/main.py": 1,  # nothing reaches a user as a traceback
    "operations/engine/runner.py": 1,  # a run that failed by a fault of ours is taken back like any other
    "transfer/ftp.py": 2,  # closing a connection must never hide why it is closed, whatever state it is in
    "transfer/sftp.py": 2,
    "vault/backends.py": 1,  # each package of object storage has a tree of errors of its own
}
"""Where any exception at all is caught and not raised again as it is, how often."""


@cache
def sources() -> dict[Path, list[ast.AST]]:
    """The modules of the product, each with all that stands in it."""
    return {path: list(ast.walk(ast.parse(path.read_bytes()))) for path in sorted(PACKAGE.rglob("*.py"))}


def catches_all(node: ast.AST) -> bool:
    """Whether something catches every exception, and does not raise the very same again."""
    if isinstance(node, ast.ExceptHandler):
        names = {part.id for part in ast.walk(node.type) if isinstance(part, ast.Name)} if node.type else {"Exception"}
        again = isinstance(node.body[-1], ast.Raise) and node.body[-1].exc is None
        handed_on = "BaseException" in names  # which nobody catches to be done with it, but to tidy up or hand it on
        return "Exception" in names and not again and not handed_on
    called = node.func if isinstance(node, ast.Call) else None
    name = called.attr if isinstance(called, ast.Attribute) else called.id if isinstance(called, ast.Name) else ""
    return name == "suppress" and any(isinstance(told, ast.Name) and told.id == "Exception" for told in node.args)  # type: ignore[attr-defined]


def test_exceptions_are_caught_by_name() -> None:
    """A fault of ours must come through wherever only the system's or an input's are expected."""
    found: Counter[str] = Counter()
    for path, nodes in sources().items():
        found[path.relative_to(PACKAGE).as_posix()] += sum(map(catches_all, nodes))
    assert +found == CAUGHT_WHOLE


POSSESSIVE = re.compile(r"(?<!\\)(?:[*+?]|\{\d*,?\d*\})\+|\(\?>")


def test_no_pattern_has_possessive_parts() -> None:
    """Python 3.11.2 matches them wrongly, and values come out of documents otherwise than they stand there."""
    found = {}
    for path, nodes in sources().items():
        for node in nodes:
            if isinstance(node, ast.Constant) and isinstance(node.value, str) and POSSESSIVE.search(node.value):
                found[f"{path.relative_to(PACKAGE)}:{node.lineno}"] = node.value
    assert found == {}


def texts() -> Iterator[tuple[str, str]]:
    """All that the product says, with what it puts in left out, and its documents, by place."""
    for path, nodes in sources().items():
        for node in nodes:
            where = f"{path.name}:{getattr(node, 'lineno', 0)}"
            if isinstance(node, ast.Constant) and isinstance(node.value, str):
                yield where, node.value
            elif isinstance(node, ast.JoinedStr):
                yield where, "".join(str(part.value) if isinstance(part, ast.Constant) else "X" for part in node.values)
    for path in [ROOT / "README.md", *(ROOT / "docs").glob("*.md")]:
        for number, line in enumerate(path.read_text(encoding="utf-8").splitlines(), 1):
            yield f"{path.name}:{number}", line


def test_what_a_hint_or_the_docs_tell_to_type_is_there() -> None:
    """Every option that is named behind a command's name is one of that command's."""
    options = {}
    for name in COMMANDS:
        every = parser_for(name)
        (commands,) = (one for one in every._actions if isinstance(one, argparse._SubParsersAction))
        options[name] = {*every._option_string_actions, *commands.choices[name]._option_string_actions}
    typed = re.compile(rf"(?:emberkeep (?:--keep \S+ )?|['`])({'|'.join(COMMANDS)})\b((?: (?!emberkeep)[^'`\n;,)(]*)?)")
    named = [
        (where, command, option)
        for where, text in texts()
        for command, rest in typed.findall(text)
        for option in re.findall(r"(?<![\w-])--?[a-z][a-z-]*", rest)
    ]
    assert len(named) > 150
    assert [one for one in named if one[2] not in options[one[1]]] == []


def test_an_interpreter_that_is_too_old_is_refused_in_words() -> None:
    pythons = [shutil.which("python3.10"), *Path("~/.pyenv/versions").expanduser().glob("3.10.*/bin/python")]
    line = ["-m", "emberkeep"]
    for old in filter(None, pythons):
        asked = subprocess.run([old, "--version"], capture_output=True, text=True, check=False)
        if not asked.stdout.startswith("Python 3.10"):
            continue  # a name that stands for nothing
        environment = {"PYTHONPATH": str(PACKAGE.parent)}
        done = subprocess.run([old, *line], capture_output=True, text=True, env=environment, check=False)
        assert done.returncode == 1
        assert done.stderr == "emberkeep needs Python 3.11 or newer, and this is 3.10\n"
        return
    pytest.skip("there is no Python 3.10 here")


def test_the_architecture_page_names_every_module_once() -> None:
    page = (ROOT / "docs" / "architecture.md").read_text(encoding="utf-8")
    rooms = page[page.index("## Rooms") : page.index("## Three walks")]
    named = Counter()
    for paragraph in rooms.split("\n\n"):
        heading = re.match(r"\*\*([\w/]+)\*\*", paragraph)
        if heading is None:
            continue
        room = heading[1].rstrip("/")
        if not heading[1].endswith("/"):
            named.update(re.findall(r"\*\*(\w+)\*\*", paragraph))
            continue
        below = ""
        for word in re.findall(r"`([\w/]+)`", paragraph):
            if word.endswith("/"):
                below = word.rstrip("/")
            else:
                named[
                    f"{room}/{below}/{word}" if (PACKAGE / room / below / f"{word}.py").is_file() else f"{room}/{word}"
                ] += 1
    there = {path.relative_to(PACKAGE).with_suffix("").as_posix() for path in sources() if path.name[:2] != "__"}
    found = {name.replace("//", "/"): count for name, count in named.items()}
    assert sorted(there - set(found)) == []
    assert sorted(set(found) - there) == []
    assert [name for name, count in found.items() if count > 1] == []
