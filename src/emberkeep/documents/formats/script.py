"""Launch scripts for sh, cmd and PowerShell: where the values of variables and of arguments stand in them.

Everything else in a script is text by line. A variable is a line that only sets one (``NAME=value``, ``export
NAME=value``, ``set NAME=value``, ``set "NAME=value"``, ``$NAME = value``, ``$env:NAME = value``). A command is a line,
with those it goes on over (``\\``, ``^`` or a backtick at the end), whose program is followed by arguments with names:
``--name value``, ``--name=value``, ``-name``, ``+name value``, and outside sh ``/name:value``.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass

SH, CMD, POWERSHELL = "sh", "cmd", "powershell"
_ENDINGS = {".sh": SH, ".bash": SH, ".cmd": CMD, ".bat": CMD, ".ps1": POWERSHELL}
_SHEBANG = re.compile(r"\ufeff?#!\s*\S*(?:/|\s)(?:ba|da|k|z)?sh\b")


@dataclass(frozen=True)
class Variable:
    """A variable that is set; ``start`` to ``end``: its value, quotes included."""

    name: str
    start: int
    end: int


@dataclass(frozen=True)
class Argument:
    """An argument with what stands before it: ``start`` is behind the one before, ``begin`` where it begins itself.

    ``name``: "" for one without; ``value_start`` to ``value_end``: its value, quotes included, empty without one.
    """

    name: str
    start: int
    begin: int
    end: int
    value_start: int
    value_end: int


@dataclass(frozen=True)
class Command:
    """A program and its arguments, which fill ``start`` to ``end``."""

    program: str
    start: int
    end: int
    arguments: tuple[Argument, ...]


@dataclass(frozen=True)
class Script:
    """What of a script has names."""

    text: str
    variables: tuple[Variable, ...]
    commands: tuple[Command, ...]


def language(path: str, text: str) -> str:
    """``sh``, ``cmd``, ``powershell``, or "" for what is no script of these."""
    name = path.rsplit("/", 1)[-1].lower()
    known = _ENDINGS.get(name[name.rfind(".") :]) if "." in name else None
    return known or (SH if _SHEBANG.match(text) else "")


@dataclass(frozen=True)
class _Grammar:
    variable: re.Pattern[str]
    space: re.Pattern[str]
    token: re.Pattern[str]
    option: re.Pattern[str]
    comment: re.Pattern[str]
    words: frozenset[str]
    """First words of lines that are no commands of this kind."""


_SH_WORDS = (
    "if then else elif fi for while until do done case esac function [ [[ test echo printf cd set read "
    "trap export readonly return exit shift eval source . local unset alias ulimit umask kill wait sleep "
    "mkdir rm rmdir cp mv ln cat grep sed awk chmod chown find ls ps tee head tail cut sort uniq tr wc touch tar gzip "
    "gunzip zip unzip date basename dirname readlink realpath stat df du diff cmp file mkfifo mktemp sync truncate "
    "logger rsync curl wget"
)
_CMD_WORDS = (
    "if for goto echo @echo set cd cls pause rem exit setlocal endlocal title timeout md mkdir rd rmdir "
    "del copy xcopy robocopy move ren type taskkill color chcp pushd popd"
)

_POWERSHELL_WORDS = (
    "if elseif else for foreach while do until switch function filter param begin process end try catch finally throw "
    "trap return exit break continue . echo cd chdir sl pause sleep mkdir md rm rmdir del cp copy mv move ren type cat "
    "set-location push-location pop-location start-sleep write-host write-output write-warning write-error read-host "
    "test-path join-path split-path resolve-path new-item remove-item copy-item move-item rename-item get-item "
    "get-childitem get-content set-content add-content out-file get-date get-process stop-process wait-process "
    "set-executionpolicy set-strictmode import-module clear-host cls invoke-webrequest expand-archive compress-archive"
)

NO_PROGRAMS = frozenset((*_SH_WORDS.split(), *_CMD_WORDS.split(), *_POWERSHELL_WORDS.split()))
"""First words of commands that start nothing of the server's."""
_SH = _Grammar(
    re.compile(
        r"^[ \t]*(?:export[ \t]+|readonly[ \t]+)?([A-Za-z_]\w*)="
        r"((?:\"(?:[^\"\\]|\\.)*\"|'[^']*'|\\.|[^\s\"'\\;&|#`()])*)[ \t]*(?=\r?$|[ \t]#)",
        re.MULTILINE,
    ),
    re.compile(r"(?:[ \t]|\\\r?\n)+"),
    re.compile(r"(?:\"(?:[^\"\\]|\\.)*\"|'[^']*'|\$\([^()\n]*\)|\\[^\r\n]|[^\s\"'\\;&|<>()`])+"),
    re.compile(r"((?:--?|\+)[A-Za-z][\w.-]*)(?:(=)|$)"),
    re.compile(r"[ \t]*#"),
    frozenset(_SH_WORDS.split()),
)
_OPTION_OF_WINDOWS = re.compile(r"((?:--?|\+|/)[A-Za-z][\w.-]*)(?:([=:])|$)")
_CMD = _Grammar(
    re.compile(
        r"^[ \t]*@?set[ \t]+(?:\"([A-Za-z_][\w.-]*)=([^\"\r\n]*)\"|([A-Za-z_][\w.-]*)=([^\r\n&|<>^\"]*|\"[^\"\r\n]*\"))"
        r"[ \t]*(?=\r?$)",
        re.MULTILINE | re.IGNORECASE,
    ),
    re.compile(r"(?:[ \t]|\^\r?\n)+"),
    re.compile(r"(?:\"[^\"\r\n]*\"|\^[^\r\n]|[^\s\"&|<>^()])+"),
    _OPTION_OF_WINDOWS,
    re.compile(r"[ \t]*(?:@?rem\b|::|:)", re.IGNORECASE),
    frozenset(_CMD_WORDS.split()),
)
_POWERSHELL = _Grammar(
    re.compile(
        r"^[ \t]*(?:\[[\w.\[\]]+\][ \t]*)?\$((?:env:|script:|global:|local:)?[A-Za-z_]\w*)[ \t]*=[ \t]*"
        r"(\"(?:[^\"`\r\n]|`[^\r\n]|\"\")*\"|'(?:[^'\r\n]|'')*'|[^\s\"'`;|&#(){}<>@,]+)[ \t]*(?=\r?$|[ \t]#)",
        re.MULTILINE | re.IGNORECASE,
    ),
    re.compile(r"(?:[ \t]|`\r?\n)+"),
    re.compile(r"(?:\"(?:[^\"`]|`.|\"\")*\"|'[^']*'|\$\([^()\n]*\)|`[^\r\n]|&(?=[ \t])|[^\s\"'`;|&<>(){}])+"),
    _OPTION_OF_WINDOWS,
    re.compile(r"[ \t]*#"),
    frozenset(_POWERSHELL_WORDS.split()),
)
_GRAMMARS = {SH: _SH, CMD: _CMD, POWERSHELL: _POWERSHELL}
_NO_CODE = re.compile(
    r"<#.*?(?:#>|\Z)|@\"[ \t]*\r?\n.*?(?:^\"@|\Z)|@'[ \t]*\r?\n.*?(?:^'@|\Z)", re.DOTALL | re.MULTILINE
)
"""Comments of several lines in PowerShell, and its texts of several lines."""
_BEFORE_PROGRAMS = frozenset(
    ("exec", "nohup", "nice", "sudo", "env", "command", "time", "start", "call", "@start", "@call", "&")
)
_ASSIGNMENT = re.compile(r"[A-Za-z_]\w*=")
_LINE = re.compile(r"^[ \t]*(?=\S)", re.MULTILINE)


def parse(text: str, language: str) -> Script:
    """The variables and commands of a script in a language. Every text is a script of some kind."""
    grammar = _GRAMMARS[language]
    code = _NO_CODE.sub(_blank, text) if language == POWERSHELL else text
    variables = tuple(_variables(code, grammar))
    taken = {code.rfind("\n", 0, variable.start) + 1 for variable in variables}
    return Script(text, variables, tuple(_commands(code, grammar, taken)))


def _blank(found: re.Match[str]) -> str:
    """As many characters, and the same lines, with nothing in them."""
    return re.sub(r"[^\r\n]", "#", found[0])


def _variables(text: str, grammar: _Grammar) -> Iterator[Variable]:
    for found in grammar.variable.finditer(text):
        group = 3 if grammar is _CMD and found[1] is None else 1
        value = found[group + 1]
        end = found.end(group + 1) - (len(value) - len(value.rstrip()))
        yield Variable(found[group], found.start(group + 1), max(end, found.start(group + 1)))


def _commands(text: str, grammar: _Grammar, taken: set[int]) -> Iterator[Command]:
    at = 0
    while found := _LINE.search(text, at):
        at = found.end()
        start = text.rfind("\n", 0, at) + 1
        if start not in taken and not grammar.comment.match(text, start):
            tokens = list(_tokens(text, at, grammar))
            command = _command(text, tokens, grammar)
            if command is not None:
                yield command
            at = tokens[-1][1] if tokens else at  # the lines that it goes on over are not begun with again
        end = text.find("\n", at)
        if end < 0:
            return
        at = end + 1


def _command(text: str, tokens: list[tuple[int, int]], grammar: _Grammar) -> Command | None:
    first = 2 if grammar is _POWERSHELL and [text[slice(*token)] for token in tokens[1:2]] == ["="] else 0
    while first < len(tokens) and _leads(text[slice(*tokens[first])]):
        first += 1
    if first >= len(tokens) or text[slice(*tokens[first])].lower() in grammar.words:
        return None
    arguments = tuple(_arguments(text, tokens[first:], grammar))
    if not any(argument.name for argument in arguments):
        return None
    return Command(text[slice(*tokens[first])], tokens[first][1], arguments[-1].end, arguments)


def _leads(word: str) -> bool:
    return word.lower() in _BEFORE_PROGRAMS or _ASSIGNMENT.match(word) is not None


def _tokens(text: str, at: int, grammar: _Grammar) -> Iterator[tuple[int, int]]:
    """Words up to the line's end, an operator, or a comment."""
    while found := grammar.token.match(text, at):
        if grammar is not _CMD and found[0].startswith("#"):
            return
        yield found.span()
        space = grammar.space.match(text, found.end())
        if space is None:
            return
        at = space.end()


def _arguments(text: str, tokens: list[tuple[int, int]], grammar: _Grammar) -> Iterator[Argument]:
    """What follows the first of some words, which is the program."""
    at = 1
    while at < len(tokens):
        start, (begin, end) = tokens[at - 1][1], tokens[at]
        option = grammar.option.match(text[begin:end])
        at += 1
        if option is None:
            yield Argument("", start, begin, end, begin, end)
        elif option[2]:
            yield Argument(option[1], start, begin, end, begin + option.end(2), end)
        elif at < len(tokens) and not grammar.option.match(text[slice(*tokens[at])]):
            yield Argument(option[1], start, begin, tokens[at][1], *tokens[at])
            at += 1
        else:
            yield Argument(option[1], start, begin, end, end, end)
