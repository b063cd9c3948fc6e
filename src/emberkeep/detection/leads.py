"""Values of settings and launch scripts that lead somewhere: to a folder or file of the server."""

from __future__ import annotations

import re
from collections import defaultdict
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass

from emberkeep.detection import launch
from emberkeep.detection.context import InferenceContext
from emberkeep.documents import edit
from emberkeep.errors import EmberKeepError
from emberkeep.inventory.leading import bare, spellings


@dataclass(frozen=True)
class Lead:
    """A value that may lead to a world. ``ours``: it stands in settings that are the server's own."""

    file: str
    key: str
    value: str
    script: bool = False
    ours: bool = False


class Leads:
    """All values that may be names or paths, to be asked which of them lead to a path."""

    def __init__(self, scene: InferenceContext) -> None:
        self._by_value: dict[str, list[Lead]] = defaultdict(list)
        for lead in _values(scene):
            self._by_value[bare(lead.value)].append(lead)

    def to(self, paths: Iterable[str]) -> list[Lead]:
        """Those that lead to any of ``paths``."""
        wanted = {spelling for path in paths for spelling in spellings(path)}
        return [lead for spelling in sorted(wanted) for lead in self._by_value.get(spelling, ())]

    def name_whole(self, path: str) -> bool:
        """Whether one is a path as it stands."""
        return path in self._by_value


def is_found_again(scene: InferenceContext, lead: Lead) -> bool:
    """Whether a value is found again by its key, by the code that survey and runs find it with."""
    try:
        return edit.value(lead.file, scene.look.whole(lead.file), lead.key) == lead.value
    except EmberKeepError:
        return False


def _values(scene: InferenceContext) -> Iterator[Lead]:
    for path in scene.of_role("scripts"):
        for setting in launch.settings(scene.look.text(path)):
            if _may_lead(setting.value):
                yield Lead(path, setting.key, setting.value, script=True)
    programs = [other.rsplit("/", 1)[-1].split(".", 1)[0].lower() for other in scene.of_role("engine")]
    for path in scene.of_role("settings"):
        pairs = scene.pairs(path)
        ours = is_the_servers(path, pairs, programs)
        for key, value in pairs:
            if _may_lead(value):
                yield Lead(path, key, value, ours=ours)


def _may_lead(value: str) -> bool:
    return 2 <= len(value.strip()) <= 200 and not value.strip().replace(".", "").isdigit()


def is_the_servers(path: str, pairs: Sequence[tuple[str, str]], programs: Sequence[str]) -> bool:
    """Whether a settings file is the server's own: it is called as a program is, or tells a title or port."""
    stem = path.rsplit("/", 1)[-1].split(".", 1)[0].lower()
    name = re.split(r"[^a-z0-9]", stem, maxsplit=1)[0]
    if len(name) > 2 and any(name in program for program in programs):
        return True
    return any(re.search(r"(?i)title|hostname|servername|port$", key) for key, _ in pairs)
