"""Extensions: archives with a manifest inside, which version they are, what they were built for, what they need.

A manifest is a small file at the archive's top that tells a name (or id) and a version, in JSON or as keys and values.
"""

from __future__ import annotations

import json
import re
from collections import Counter
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from emberkeep.inventory.probe import FileProbe

_NAMES = re.compile(r"\.(json|toml|ya?ml|properties|ini|cfg|txt)$", re.IGNORECASE)
_PAIR = re.compile(r"""^\s*"?([\w.-]+)"?\s*[:=]\s*(.*?)\s*$""", re.MULTILINE)
_CODE = re.compile(r"\.(?:lua|js|py|cs|rb|pl|sp|as|nut|gsc|txt)$", re.IGNORECASE)
MANIFEST_KINDS = ("json", "toml", "yaml", "properties", "ini")
LARGEST_MANIFEST = 64 * 1024
"""Bytes of an unpacked extension's manifest, at most."""
_NEEDS = ("needs", "requires", "depends", "dependencies", "depend")
_BUILT_FOR = ("built-for", "built_for", "engine", "game-version", "for")


@dataclass(frozen=True)
class Extension:
    """An installed extension. ``built_for``: the engine version it says it was built for, "" when it says none."""

    path: str
    name: str
    version: str
    built_for: str
    needs: tuple[str, ...]


def read_manifest(look: FileProbe, path: str) -> Extension | None:
    """What the extension at ``path`` says of itself: an archive by a manifest in it, an unpacked one by its manifest, a
    script by its first lines; None when it is no extension."""
    kind = look.kind(path)
    if kind == "zip":
        members = look.members(path)
        tops = {name.partition("/")[0] for name in members}
        deep = 1 if len(tops) == 1 and not any(name in tops for name in members) else 0  # all in one folder
        texts = (look.member_text(path, name) for name in members if name.count("/") == deep and _NAMES.search(name))
        return next((extension for text in texts if (extension := _extension(path, _facts(text)))), None)
    if kind in MANIFEST_KINDS and "/" in path and look.size(path) <= LARGEST_MANIFEST:
        return _extension(path, _facts(look.text(path)))
    if kind == "text" and "/" in path and _CODE.search(path):
        first = look.text(path)[:2000].splitlines()[:20]
        header = "\n".join(line.lstrip("-#/*; \t") for line in first if line[:1] in "-#/*;")
        return _extension(path, _facts(header)) if header else None
    return None


def read_facts(look: FileProbe, path: str) -> Mapping[str, Any]:
    """The top-level keys of a small manifest, in lower case; {} for a file that is large."""
    return _facts(look.text(path)) if look.size(path) <= LARGEST_MANIFEST else {}


def _extension(path: str, facts: Mapping[str, Any]) -> Extension | None:
    name, version = facts.get("name") or facts.get("id"), facts.get("version")
    if isinstance(name, str) and isinstance(version, (str, int, float)) and not isinstance(version, bool):
        return Extension(path, name, str(version), _first(facts, _BUILT_FOR), tuple(_listed(facts, _NEEDS)))
    return None


def _facts(text: str) -> Mapping[str, Any]:
    """The manifest's top-level keys, in lower case."""
    try:
        found = json.loads(text)
    except (ValueError, RecursionError):
        found = {key: value.strip("\"'") for key, value in _PAIR.findall(text)}
    if not isinstance(found, dict):
        return {}
    return {str(key).lower(): value for key, value in found.items()}


def _first(facts: Mapping[str, Any], keys: Iterable[str]) -> str:
    return next((str(facts[key]) for key in keys if isinstance(facts.get(key), (str, int, float))), "")


def _listed(facts: Mapping[str, Any], keys: Iterable[str]) -> list[str]:
    """Names in a list, in an object's keys, or in a text with commas; versions behind a name are left out."""
    value: Any = next((facts[key] for key in keys if key in facts), [])
    items = re.split(r"[,\s]+", value.strip("[]")) if isinstance(value, str) else value
    if not isinstance(items, (list, dict)):
        return []
    names = (re.match(r"[\w.-]*\w", item.strip("\"' ")) for item in items if isinstance(item, str))
    return [name[0] for name in names if name]


def missing_companions(installed: Sequence[Extension]) -> list[tuple[Extension, str]]:
    """Each extension with a companion that it needs and that is not there."""
    there = {extension.name.lower() for extension in installed}
    return [(item, need) for item in installed for need in item.needs if need.lower() not in there]


def duplicates(installed: Sequence[Extension]) -> list[tuple[Extension, ...]]:
    """Several builds of one extension."""
    counts = Counter(extension.name.lower() for extension in installed)
    return [
        tuple(item for item in installed if item.name.lower() == name) for name, count in counts.items() if count > 1
    ]


def fits_engine(extension: Extension, engine: str) -> bool:
    """Whether it was built for this engine version or its line (4.2 fits 4.2.0); one that says nothing fits."""
    wanted = extension.built_for
    return not wanted or engine == wanted or engine.startswith(wanted + ".") or wanted.startswith(engine + ".")
