"""What the wheel lays where shells and ``man`` look for it: completion, and a manual page for each command. From the
parsers; ``generate.py`` writes it into ``share/``."""

from __future__ import annotations

import argparse
from collections.abc import Iterator

import shtab

from emberkeep.cli.main import COMMANDS, command_module, command_parser, whole_parser

_FILES = {"FILE", "FILE.png", "SOURCE", "OUT", "SERVER", "SAVES", "OLD", "NEW", "TARGET"}
_FOLDERS = {"DIR", "KEEPS_FOLDER"}
_PLACES = {
    "bash": "bash-completion/completions/emberkeep",
    "zsh": "zsh/site-functions/_emberkeep",
    "fish": "fish/vendor_completions.d/emberkeep.fish",
}


def files() -> dict[str, str]:
    """All of it, by its path below ``share/``."""
    found = {place: _completion(shell) for shell, place in _PLACES.items()}
    found["man/man1/emberkeep.1"] = _manual_of_all()
    return found | {f"man/man1/emberkeep-{name}.1": _manual(name) for name in COMMANDS}


def _completion(shell: str) -> str:
    parser = whole_parser()
    for action in _every(parser):
        if str(action.metavar) in _FILES:
            action.complete = shtab.FILE  # type: ignore[attr-defined]
        elif str(action.metavar) in _FOLDERS:
            action.complete = shtab.DIRECTORY  # type: ignore[attr-defined]
    return str(shtab.complete(parser, shell)).rstrip() + "\n"


def _every(parser: argparse.ArgumentParser) -> Iterator[argparse.Action]:
    for action in parser._actions:
        if isinstance(action, argparse._SubParsersAction):
            for sub in action.choices.values():
                yield from _every(sub)
        elif action.nargs != 0:
            yield action


def _manual_of_all() -> str:
    lines = [
        *_head("emberkeep", "take a survival game server safely across an update"),
        ".SH SYNOPSIS",
        ".B emberkeep",
        "[\\fB\\-\\-keep\\fR \\fIDIR\\fR] \\fICOMMAND\\fR ...",
        ".SH DESCRIPTION",
        "Nothing in a server folder changes without \\fB\\-\\-go\\fR. Without it, a command shows what it would do.",
        "Each command has a page of its own, as \\fBemberkeep\\-snapshot\\fR(1).",
        ".SH COMMANDS",
    ]
    for name, words in COMMANDS.items():
        lines += [".TP", f".B {_plain(name)}", _plain(words)]
    lines += [".SH ENVIRONMENT", ".TP", ".B EMBERKEEP_KEEP", "the keep to work with, where \\-\\-keep does not say"]
    return "\n".join(lines) + "\n"


def _manual(name: str) -> str:
    parser, module = command_parser(name), command_module(name)
    usage = " ".join(parser.format_usage().removeprefix("usage: ").split())
    lines = [*_head(f"emberkeep-{name}", COMMANDS[name]), ".SH SYNOPSIS", _plain(usage), ".SH OPTIONS"]
    for action in parser._actions:
        if action.help == argparse.SUPPRESS:
            continue
        value = action.metavar or ("|".join(map(str, action.choices)) if action.choices else action.dest.upper())
        called = ", ".join(action.option_strings) or str(value)
        shown = called if not action.option_strings or action.nargs == 0 else f"{called} {value}"
        lines += [".TP", f".B {_plain(shown)}", _plain((action.help or "").replace("%%", "%"))]
    lines.append(".SH EXIT STATUS")
    for code, words in sorted(module.EXITS.items()):
        lines += [".TP", f".B {code}", _plain(words)]
    lines += [
        ".PP",
        "Others are explained by \\fBemberkeep\\fR(1) and \\fBemberkeep \\-\\-help\\fR.",
        ".SH EXAMPLES",
        ".nf",
    ]
    lines += [_plain(line) for line in module.EXAMPLES]
    return "\n".join([*lines, ".fi", ".SH SEE ALSO", ".BR emberkeep (1)"]) + "\n"


def _head(name: str, words: str) -> list[str]:
    title = name.upper().replace("-", "\\-")
    return [f'.TH {title} 1 "" "Ember Keep" "Ember Keep"', ".SH NAME", f"{_plain(name)} \\- {_plain(words)}"]


def _plain(text: str) -> str:
    """A line of text that troff takes as it stands."""
    safe = text.replace("\\", "\\e").replace("-", "\\-").replace("…", "...").replace("'", "\\(aq")
    return f"\\&{safe}" if safe.startswith(".") else safe
