"""Launch scripts for sh, cmd and PowerShell: the variables they set, the arguments they pass, what they execute."""

from __future__ import annotations

import os
import posixpath
import re
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass

from emberkeep.detection.context import InferenceContext
from emberkeep.detection.findings import Argument, LaunchFinding, Sure
from emberkeep.documents.formats.script import NO_PROGRAMS
from emberkeep.fs import globs
from emberkeep.fs.trees import Kind, Tree
from emberkeep.inventory.probe import FileProbe

_VARIABLE = re.compile(
    r"""^\s*(?:export\s+|set\s+|\$(?=\w+\s*=))?"?([A-Za-z_]\w*)\s?=\s?(?:"([^"\n]*)"|'([^'\n]*)'|([^\s"'#&]*))"?\s*$""",
    re.MULTILINE | re.IGNORECASE,
)
_ARGUMENT = re.compile(
    r"""(?<![^\s'",])(?!(?i:-(?:argumentlist|filepath|workingdirectory))\b)"""
    r"""((?:--?|\+|/)[A-Za-z][\w.-]*)"""
    r"""(?:(?:[ =:]|["'],\s*(?=["']))(?!--?[A-Za-z])(?:"([^"\n]*)"|'([^'\n]*)'|([^\s"';,]+)))?"""
)
_USED = re.compile(r"\$\{(?P<braced>\w+)(?::?[-=](?P<default>[^{}]*))?\}|\$(?P<bare>\w+)|%(?P<cmd>\w+)%")
_TOKEN = re.compile(r"""(?:"[^"\n]*"|'[^'\n]*'|[^\s"';&|<>()])+""")
_PRINTS_TO = re.compile(r"""(?:(?<!<)[12&]?>{1,2}|\|\s*tee(?:\s+-a)?\s)\s*((?:"[^"\n]*"|'[^'\n]*'|[^\s"';&|<>()])+)""")
_PART = re.compile(r"&&|\|\||;|\||(?<!\S)&(?=\s)|(?<=\s)&$")
_COMMENT = re.compile(r"(?i)^\s*(?:#|rem\b|@rem\b|::)")
_BEFORE = frozenset(
    (
        "exec",
        "nohup",
        "nice",
        "sudo",
        "env",
        "command",
        "time",
        "start",
        "call",
        "@start",
        "@call",
        "do",
        "then",
        "else",
        "if",
        "while",
        "until",
        "!",
        "start-process",
    )
)
_COMPUTED = re.compile(r"^(?:\$\{?\w+\}?|\$\(.*\)|%~[a-z]*\d|%\w+%|`.*`)/?")
"""A folder that a script computes, at the head of a path: mostly its own."""
_SOURCED = re.compile(r"""(?im)^[ \t]*(?:\.|source|call)[ \t]+["']?([^\s"';&|]+)""")
DEEPEST_SOURCED = 3
"""Scripts that read each other, at most."""
_CLASS_PATHS = frozenset(("-cp", "-classpath", "--class-path"))
_CONTAINERS = frozenset(("docker", "podman", "docker-compose", "podman-compose"))
_STARTS = frozenset(("up", "run", "start"))
_GOES_TO = frozenset(("cd", "pushd", "chdir", "set-location"))
SHORTEST_NUMBER = 3
"""Digits of a number that recurs in the name of a save by more than chance."""
_PURPOSES = (
    ("seed", re.compile(r"seed", re.IGNORECASE)),
    ("size", re.compile(r"size|radius|width|extent", re.IGNORECASE)),
    ("port", re.compile(r"(?:^|[_.-])port$|^port", re.IGNORECASE)),
    ("name", re.compile(r"title|name$|hostname", re.IGNORECASE)),
)


@dataclass(frozen=True)
class Setting:
    """A variable (``SEED``) or an argument (``--seed``) of a script, with its value, variables in it resolved."""

    key: str
    value: str


def settings(text: str) -> list[Setting]:
    """Variables first, then the arguments, in the order of the script. An argument that only passes a variable on is
    left out, as the variable is where the value stands."""
    variables = {found[1]: _default(found[2] or found[3] or found[4] or "") for found in _VARIABLE.finditer(text)}
    result = [Setting(key, value) for key, value in variables.items()]
    for found in _ARGUMENT.finditer(text):
        value = found[2] or found[3] or found[4] or ""
        if value and not value.startswith(("-", "+")) and not _USED.fullmatch(value):
            result.append(Setting(found[1], _resolved(value, variables)))
    return result


def _default(value: str) -> str:
    """What a variable is where nobody set it before, as in ``PORT="${PORT:-27400}"``."""
    used = _USED.fullmatch(value)
    return used["default"] if used and used["default"] else value


def passed_as(text: str) -> dict[str, str]:
    """Variable -> the argument that passes it on."""
    found = {}
    for argument in _ARGUMENT.finditer(text):
        used = _USED.fullmatch(argument[2] or argument[3] or argument[4] or "")
        if used:
            found[_variable_of(used)] = argument[1]
    return found


def _resolved(value: str, variables: dict[str, str]) -> str:
    """What the shell would make of it: a variable that is not set is its default, or stays as it stands."""
    return _USED.sub(lambda found: variables.get(_variable_of(found), found["default"] or found[0]), value)


def _variable_of(used: re.Match[str]) -> str:
    return used["braced"] or used["bare"] or used["cmd"]


@dataclass(frozen=True)
class Executed:
    """A file of the server folder that a script executes. ``line``: the command, as it is written."""

    path: str
    line: str


def executed(scene: InferenceContext, script: str) -> list[Executed]:
    """The files of the server folder that a script executes, in its order: by itself or through an interpreter. It is
    followed into the folders that it changes to; what stands behind a program is an argument, and nothing that runs."""
    beside = script.rpartition("/")[0]
    here = beside
    found: list[Executed] = []
    for line, words in _commands(scene, script):
        if words and words[0].lower() in _GOES_TO:
            here = _gone_to(scene, beside, here, words[1:])
            continue
        path = _program_of(scene, words, [here, beside, ""])
        if path and path != script:
            found.append(Executed(path, line.strip()))
    return list({item.path: item for item in found}.values())


def container_commands(scene: InferenceContext, script: str) -> list[list[str]]:
    """The words of each command of a script that starts containers, from its program on."""
    every = (words[_first_word(words) :] for _, words in _commands(scene, script))
    return [words for words in every if words and words[0] in _CONTAINERS and _STARTS.intersection(words)]


def _commands(scene: InferenceContext, script: str) -> Iterator[tuple[str, list[str]]]:
    """Each simple command of a script: the line that it stands in, and its words, variables in it resolved."""
    variables = _variables(scene, script)
    for line in _whole_lines(script, scene.look.text(script)):
        for part in () if _COMMENT.match(line) else _PART.split(_resolved(line, variables)):
            yield line, [word.strip("\"'") for word in _TOKEN.findall(part)]


def _first_word(words: Sequence[str]) -> int:
    """Where the program of a simple command stands, behind what only hands it on."""
    at = 0
    while at < len(words) and (
        words[at].lower() in _BEFORE or words[at] == "&" or re.match(r"[A-Za-z_]\w*=|[-/]\w$|\d+$", words[at])
    ):
        at += 1
    return at


def _whole_lines(script: str, text: str) -> list[str]:
    """The lines of a script, those that go on joined."""
    ending = script[script.rfind(".") :].lower()
    mark = {".ps1": "`", ".cmd": "^", ".bat": "^"}.get(ending, "\\")
    return re.sub(rf"{re.escape(mark)}\r?\n\s*", " ", text).splitlines()


def sourced(scene: InferenceContext, script: str) -> list[str]:
    """The files of the server folder from which a script reads variables."""
    beside = script.rpartition("/")[0]
    named = (_file_named(scene, found[1], [beside, ""]) for found in _SOURCED.finditer(scene.look.text(script)))
    return list(dict.fromkeys(path for path in named if path and path != script))


def _variables(scene: InferenceContext, script: str, deep: int = DEEPEST_SOURCED) -> dict[str, str]:
    """The variables that a script sets, and those that it reads from other files."""
    found: dict[str, str] = {}
    for path in sourced(scene, script) if deep else ():
        found |= _variables(scene, path, deep - 1)
    assigned = settings(scene.look.text(script))
    return found | {setting.key: _resolved(setting.value, found) for setting in assigned}


def _gone_to(scene: InferenceContext, beside: str, here: str, words: Sequence[str]) -> str:
    """The folder that a script changes to; its own where that lies outside or is computed."""
    wanted = next((word for word in words if word.lower() != "/d" and not word.startswith("-")), "")
    wanted = _COMPUTED.sub("", wanted.replace("\\", "/")).rstrip("/")
    for folder in (here, beside):
        path = posixpath.normpath(f"{folder}/{wanted}" if folder else wanted)
        if path in scene.dirs:
            return path
    return beside


def _program_of(scene: InferenceContext, words: Sequence[str], folders: Sequence[str]) -> str:
    """The file that a simple command executes; "" for none of the folder's."""
    at = _first_word(words)
    if at < len(words) and words[at].lower() in NO_PROGRAMS - _BEFORE:
        return ""
    for number, word in enumerate(words[at:]):
        if word in _CLASS_PATHS:
            return _of_class_path(scene, words[at + number + 1 :], folders)
        if words[at + number - 1] == "-m" and number:
            return _module_named(scene, word, folders)
        path = _file_named(scene, word, folders)
        if path and number and scene.look.kind(path) not in ("program", "zip", "script", "text", "binary"):
            continue
        if path:
            return path
        if number == 0 and ("/" in word or "\\" in word):
            return ""  # a program that is not here, and what follows are its arguments
        if number and not word.startswith(("-", "+", "/", "@", "$", "%")) and words[at + number - 1][:1] != "-":
            return ""
    return ""


def _module_named(scene: InferenceContext, word: str, folders: Sequence[str]) -> str:
    """The file of the server folder that an interpreter of Python runs for a module's name."""
    at = word.replace(".", "/")
    return next((path for end in ("/__main__.py", ".py") if (path := _file_named(scene, at + end, folders))), "")


def _of_class_path(scene: InferenceContext, words: Sequence[str], folders: Sequence[str]) -> str:
    """The archive of a class path that holds the class that is executed."""
    named = re.split(r"[:;]", words[0]) if words else []
    patterns = [_COMPUTED.sub("", part.replace("\\", "/")).removeprefix("./") for part in named]
    archives = [
        path
        for folder in dict.fromkeys(folders)
        for pattern in patterns
        for path in scene.matching(f"{globs.escape(folder)}/{pattern}" if folder else pattern)
        if path not in scene.dirs and scene.look.kind(path) == "zip"
    ]
    main = next((word for word in words[1:] if word[:1] not in "-$%@"), "")
    inside = main.replace(".", "/") + ".class"
    return next((path for path in archives if inside in scene.look.members(path)), next(iter(archives), ""))


def _file_named(scene: InferenceContext, word: str, folders: Sequence[str]) -> str:
    name = _COMPUTED.sub("", word.replace("\\", "/")).removeprefix("./")
    for folder in dict.fromkeys(folders):
        for ending in ("", ".exe"):
            path = scene.through_links(posixpath.normpath(f"{folder}/{name}{ending}" if folder else name + ending))
            entry = scene.tree.entries().get(path)
            if entry is not None and entry.kind is Kind.FILE:
                return path
    return ""


def printed_files(scene: InferenceContext, script: str) -> list[str]:
    """Files of the server folder into which a script lets what it starts print."""
    variables, beside = _variables(scene, script), script.rpartition("/")[0]
    found = []
    for item in executed(scene, script):
        words = (target[1].strip("\"'") for target in _PRINTS_TO.finditer(_resolved(item.line, variables)))
        found += [_file_named(scene, word, [item.path.rpartition("/")[0], beside, ""]) for word in words]
    return list(dict.fromkeys(path for path in found if path))


def passed_files(scene: InferenceContext, script: str) -> list[str]:
    """Texts of the server folder that a script that starts something passes to it, or reads."""
    found = sourced(scene, script)
    variables = _variables(scene, script)
    beside = script.rpartition("/")[0]
    for item in executed(scene, script):
        line = _PRINTS_TO.sub(" ", _resolved(item.line, variables))
        words = [word.strip("\"'").rpartition("=")[2].removeprefix("@") for word in _TOKEN.findall(line)]
        paths = (_file_named(scene, word, [item.path.rpartition("/")[0], beside, ""]) for word in words)
        found += [path for path in paths if path and path != item.path]
    return list(dict.fromkeys(found))


def programs_of(tree: Tree, script: str) -> list[str]:
    """The files of a tree that a script in it executes."""
    return started_files(InferenceContext(tree, FileProbe(tree, None)), script)


def renamed(text: str, programs: Mapping[str, str]) -> str:
    """A script that names those programs that took the place of others; ``programs``: old path -> new, "" for none."""
    for old, new in programs.items():
        was, now = old.rpartition("/")[2], new.rpartition("/")[2]
        if now and was in text:
            text = text.replace(was, now)
    return text


def started_files(scene: InferenceContext, script: str) -> list[str]:
    """The same, without the lines."""
    return [item.path for item in executed(scene, script)]


def launch(scene: InferenceContext, scripts: Iterable[str], save_numbers: Iterable[str]) -> LaunchFinding | None:
    """The launch script: the one that executes a program of the engine; of several the one that runs here, else the one
    that was written to last. ``save_numbers``: numbers in the names of saves, which tell seed and size by value."""
    engine = set(scene.of_role("engine"))
    found = []
    scripts = list(scripts)
    for script in scripts:
        programs = [path for path in started_files(scene, script) if path in engine]
        if programs:
            found.append((_preference(scene, script, programs[0]), script, programs[0]))
    if not found:
        return _of_containers(scene, scripts)
    found.sort(key=lambda item: (item[0], -item[1].count("/")), reverse=True)
    (best, script, program) = found[0]
    arguments = _arguments(scene.look.text(script), set(save_numbers))
    alone = len(found) == 1 or found[1][0][:2] < best[:2]
    evidence = f"it executes {program}" + ("" if len(found) == 1 else f"; {found[1][1]} does too")
    return LaunchFinding(script, program, tuple(arguments), evidence, Sure.SURE if alone else Sure.LIKELY)


def _of_containers(scene: InferenceContext, scripts: Iterable[str]) -> LaunchFinding | None:
    """The only script that starts containers; what runs in them lies elsewhere."""
    found = [script for script in scripts if container_commands(scene, script)]
    if len(found) != 1:
        return None
    arguments = _arguments(scene.look.text(found[0]), set())
    return LaunchFinding(found[0], "", tuple(arguments), "it starts containers", Sure.LIKELY)


def _preference(scene: InferenceContext, script: str, program: str) -> tuple[int, int, int, int]:
    """What tells launch scripts apart: whether the script is of the system that its program is of, whether it may be
    executed, when it was written to, and whether it is of this system."""
    windows = scene.look.beginning(program, 2) == b"MZ"
    cmd = script.lower().endswith((".cmd", ".bat", ".ps1"))
    entry = scene.tree.entries()[script]
    return int(cmd == windows), int(bool(entry.mode & 0o111) or cmd), entry.mtime_ns, int(cmd == (os.name == "nt"))


def _arguments(text: str, save_numbers: set[str]) -> list[Argument]:
    passed = passed_as(text)
    found: dict[str, Argument] = {}
    for setting in settings(text):
        spelled = f"{setting.key} {passed.get(setting.key, '')}"
        for purpose, pattern in _PURPOSES:
            key = next((part for part in spelled.split() if pattern.search(part.lstrip("-+/"))), "")
            if key and purpose not in found and _plausible(purpose, setting.value):
                reason = f"it is called {key}" + (
                    ", and the save's name carries it" if setting.value in save_numbers else ""
                )
                found[purpose] = Argument(purpose, setting.key, setting.value, reason, Sure.SURE)
    for setting in settings(text):
        if (
            setting.key == "-p"
            and "port" not in found
            and _plausible("port", setting.value)
            and int(setting.value) > 1023
        ):
            evidence = "it is called -p, and is a number that ports of games have"
            found["port"] = Argument("port", setting.key, setting.value, evidence, Sure.LIKELY)
        taken = {argument.key for argument in found.values()}
        if setting.value in save_numbers and len(setting.value) >= SHORTEST_NUMBER and setting.key not in taken:
            purpose = "size" if _round(setting.value) and "size" not in found else "seed"
            if purpose not in found:
                reason = f"the save's name carries {setting.value}"
                found[purpose] = Argument(purpose, setting.key, setting.value, reason, Sure.LIKELY)
    return [found[purpose] for purpose in ("seed", "size", "name", "port") if purpose in found]


def _plausible(purpose: str, value: str) -> bool:
    if purpose == "port":
        return value.isdigit() and 0 < int(value) < 65536
    if purpose == "size":
        return value.isdigit()
    return bool(value) and "/" not in value


def _round(value: str) -> bool:
    """Whether a number is one that people take for the side of a map."""
    return value.isdigit() and int(value) > 0 and (int(value) % 50 == 0 or int(value) % 64 == 0)
