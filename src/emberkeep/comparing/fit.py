"""Which recorded release the live files come from: by what they say, not by a label."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass

from emberkeep.comparing.records import facts
from emberkeep.documents import formats
from emberkeep.documents.encoding import decode
from emberkeep.documents.identity import Rule
from emberkeep.documents.lines import body, split
from emberkeep.errors import EmberKeepError
from emberkeep.trees import Kind, Tree, read

LEAST_SHARE = 0.3
"""A release that shares less with the live files is of another server, or too far from it to merge by."""


@dataclass(frozen=True)
class Fit:
    """How well a release fits: share of its facts (fields, lines) that stand in the live files, 0 to 1."""

    version: str
    share: float
    files: int


def fits(
    releases: Mapping[str, Tree],
    live: Tree,
    paths: Iterable[str],
    rules: Callable[[str], Mapping[str, Rule]],
) -> list[Fit]:
    """Measure each release over the files among ``paths`` that it ships. Facts on either side count alike."""
    shared, total, files = Counter[str](), Counter[str](), Counter[str]()
    for path in paths:
        here: set[tuple[str, str, str]] | None = None
        for version, defaults in releases.items():
            entry = defaults.entries().get(path)
            if entry is None or entry.kind is not Kind.FILE:
                continue
            if here is None:
                here = _facts(path, read(live, path), rules(path)) if path in live.entries() else set()
            there = _facts(path, read(defaults, path), rules(path))
            shared[version] += len(there & here)
            total[version] += len(there | here)
            files[version] += 1
    return [Fit(name, shared[name] / total[name] if total[name] else 0.0, files[name]) for name in releases]


def _facts(path: str, data: bytes, rules: Mapping[str, Rule]) -> set[tuple[str, str, str]]:
    """A file's fields, or its lines where it has no records; a binary one is a single fact."""
    try:
        document = formats.parse(path, data)
    except EmberKeepError:
        document = None
    if document is not None:
        return {(path, record + "/" + field, value) for record, field, value in facts(document, rules)}
    source = decode(data)
    if source is None:
        return {(path, "", str(hash(data)))}
    return {(path, "", body(line)) for line in split(source.text) if line.strip()}
