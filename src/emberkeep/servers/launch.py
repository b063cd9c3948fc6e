"""Launch scripts for sh and cmd: the variables they set, the arguments they pass, the program they start."""

from __future__ import annotations

import re
from collections.abc import Iterable
from dataclasses import dataclass

from emberkeep.servers.findings import Argument, LaunchFinding, Sure
from emberkeep.servers.scene import Scene
from emberkeep.trees import Kind

_VARIABLE = re.compile(
    r"""^\s*(?:export\s+|set\s+)?"?([A-Za-z_]\w*)=(?:"([^"\n]*)"|'([^'\n]*)'|([^\s"'#&]*))"?\s*$""",
    re.MULTILINE | re.IGNORECASE,
)
_ARGUMENT = re.compile(r"""(?<!\S)((?:--?|\+|/)[A-Za-z][\w.-]*)(?:[ =](?:"([^"\n]*)"|'([^'\n]*)'|([^\s"']+)))?""")
_USED = re.compile(r"\$\{?(\w+)\}?|%(\w+)%")
_WORD = re.compile(r"[\w./\\-]+")
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
    variables = {found[1]: found[2] or found[3] or found[4] or "" for found in _VARIABLE.finditer(text)}
    result = [Setting(key, value) for key, value in variables.items()]
    for found in _ARGUMENT.finditer(text):
        value = found[2] or found[3] or found[4] or ""
        if value and not value.startswith(("-", "+")) and not _USED.fullmatch(value):
            result.append(Setting(found[1], _resolved(value, variables)))
    return result


def passed_as(text: str) -> dict[str, str]:
    """Variable -> the argument that passes it on."""
    found = {}
    for argument in _ARGUMENT.finditer(text):
        used = _USED.fullmatch(argument[2] or argument[3] or argument[4] or "")
        if used:
            found[used[1] or used[2]] = argument[1]
    return found


def _resolved(value: str, variables: dict[str, str]) -> str:
    return _USED.sub(lambda found: variables.get(found[1] or found[2], found[0]), value)


def started_files(scene: Scene, script: str) -> list[str]:
    """Files of the server folder that a script names, programs first; names relative to the script's folder too."""
    text = scene.look.text(script)
    variables = {setting.key: setting.value for setting in settings(text)}
    words = set(_WORD.findall(_resolved(text, variables)))
    beside = script.rpartition("/")[0]
    found = []
    for word in sorted(words):
        name = word.replace("\\", "/").removeprefix("./")
        for path in dict.fromkeys((name, f"{beside}/{name}" if beside else name)):
            entry = scene.tree.entries().get(path)
            if entry is not None and entry.kind is Kind.FILE and path != script:
                found.append(path)
    return sorted(dict.fromkeys(found), key=lambda path: scene.look.kind(path) not in ("program", "binary"))


def launch(scene: Scene, scripts: Iterable[str], save_numbers: Iterable[str]) -> LaunchFinding | None:
    """The launch script: the one that starts a program of the engine. ``save_numbers``: numbers in the names of saves,
    which tell seed and size by value."""
    engine = set(scene.of_role("engine"))
    for script in sorted(scripts, key=lambda path: (path.count("/"), path)):
        programs = [path for path in started_files(scene, script) if path in engine]
        if not programs:
            continue
        arguments = _arguments(scene.look.text(script), set(save_numbers))
        sure = Sure.SURE if scene.look.kind(programs[0]) == "program" else Sure.LIKELY
        return LaunchFinding(script, programs[0], tuple(arguments), f"it names {programs[0]}", sure)
    return None


def _arguments(text: str, save_numbers: set[str]) -> list[Argument]:
    passed = passed_as(text)
    found: dict[str, Argument] = {}
    for setting in settings(text):
        spelled = f"{setting.key} {passed.get(setting.key, '')}"
        for purpose, pattern in _PURPOSES:
            key = next((part for part in spelled.split() if pattern.search(part.lstrip("-+/"))), "")
            if key and purpose not in found and _plausible(purpose, setting.value):
                told = f"it is called {key}" + (
                    ", and the save's name carries it" if setting.value in save_numbers else ""
                )
                found[purpose] = Argument(purpose, setting.key, setting.value, told, Sure.SURE)
    for setting in settings(text):
        taken = {argument.key for argument in found.values()}
        if setting.value in save_numbers and setting.key not in taken:
            purpose = "size" if _round(setting.value) and "size" not in found else "seed"
            if purpose not in found:
                told = f"the save's name carries {setting.value}"
                found[purpose] = Argument(purpose, setting.key, setting.value, told, Sure.LIKELY)
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
