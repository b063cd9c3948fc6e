"""Which files are settings."""

from __future__ import annotations

import re
from collections.abc import Sequence

from emberkeep.detection import launch
from emberkeep.detection.context import InferenceContext
from emberkeep.detection.findings import (
    Sure,
)
from emberkeep.detection.leads import is_the_servers
from emberkeep.documents.formats import lined
from emberkeep.fs import globs

DATA = ("xml", "json", "yaml", "toml", "properties", "ini")


_SETTINGS_NAME = re.compile(r"(?i)\.(?:ini|cfg|conf|toml|ya?ml|properties|props)$")


_CODE_LINE = re.compile(r"\s*(?:def|class|import|from|for|while|function|elif|else|elseif|end|try|except)\b[^=]*$")


DEEPEST_SETTINGS = 2
"""Folders down to which settings are known by what they hold; farther down, where much of the vendor's lies, by their
names too."""


FEW_ALIKE = 3
"""Files named alike of which each may hold settings; of more the vendor ships translations, or the engine its saves."""


_ENTRY = re.compile(
    r"""^\s*[\w.\-"'\[\]]+\s*[:=]\s*\S.*$|^\s*[\w.-]+\s*=?\s*\{\s*$|^\s*[}\])]+[,;]?\s*$|^\s*return\s*\{\s*$|^\s*(?://|#|--|;).*$"""
)


def find_settings(scene: InferenceContext, scripts: Sequence[str]) -> None:
    """Tell the context which files are settings."""
    for script in scripts:
        for path in launch.passed_files(scene, script):
            if not scene.is_covered(path) and scene.look.kind(path) in ("text", *DATA):
                scene.cover("settings", globs.escape(path), f"{script} passes it to the program", Sure.LIKELY)
    for family in list(scene.open_families()):
        for path in scene.sampled(family) if len(family.members) <= FEW_ALIKE else ():
            kind = scene.look.kind(path)
            if scene.is_covered(path) or path in scene.saved_texts or scene.tells_of_a_save(path):
                continue
            near = path.count("/") <= DEEPEST_SETTINGS or _SETTINGS_NAME.search(path) is not None
            if kind in ("properties", "ini", "toml", "yaml") and near:
                scene.cover("settings", globs.escape(path), f"keys and values ({kind})", Sure.LIKELY)
            elif (
                kind == "json"
                and (path.count("/") < 2 or is_the_servers(path, scene.pairs(path), ()))
                and _is_settings(scene.look.json(path))
            ):
                scene.cover("settings", globs.escape(path), "one JSON object of plain values", Sure.LIKELY)
            elif kind == "json" and path.count("/") < 2 and scene.look.json(path) is None and scene.pairs(path):
                scene.cover("settings", globs.escape(path), "JSON of plain values, with comments", Sure.LIKELY)
            elif kind == "xml" and near and scene.pairs(path):
                scene.cover("settings", globs.escape(path), "XML of plain values", Sure.LIKELY)
            elif kind == "text" and near and _is_pairs(scene.look.text(path)):
                scene.cover("settings", globs.escape(path), "lines of keys and values", Sure.LIKELY)
            elif kind == "text" and near and lined.spaced(None, scene.look.text(path)):
                scene.cover("settings", globs.escape(path), "lines of words and their values", Sure.GUESS)


def _is_settings(value: object) -> bool:
    """Whether a JSON value is an object of plain values, in sections or not."""
    if not isinstance(value, dict) or not value:
        return False
    plain = (str, int, float, bool, type(None))
    return all(
        isinstance(inner, plain)
        or (
            isinstance(inner, dict)
            and all(not isinstance(one, (dict, list)) or len(one) < SEVERAL for one in inner.values())
        )
        or (isinstance(inner, list) and len(inner) < SEVERAL)
        or (isinstance(inner, list) and all(isinstance(one, plain) for one in inner))
        for inner in value.values()
    )


def _is_pairs(text: str) -> bool:
    """Whether most lines are a key with its value, and brackets about such."""
    lines = [line for line in text.splitlines()[:200] if line.strip()]
    if any(_CODE_LINE.match(line) for line in lines):
        return False
    keyed = sum("=" in line or ":" in line for line in lines)
    return keyed >= 2 and sum(_ENTRY.match(line) is not None for line in lines) >= 0.8 * len(lines)


SEVERAL = 5
"""Records without a number in them that are a table all the same."""
