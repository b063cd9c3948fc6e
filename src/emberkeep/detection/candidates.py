"""What may be a world: folders of tiles, saves, stores, databases, and what belongs to each."""

from __future__ import annotations

import re
from collections import Counter, defaultdict
from collections.abc import Sequence
from dataclasses import dataclass, field
from itertools import pairwise

from emberkeep.detection.context import SAVED, InferenceContext
from emberkeep.detection.leads import Lead, Leads
from emberkeep.inventory.probe import Family
from emberkeep.inventory.tiles import tile_names, tile_places

STORE_MARK = re.compile(r"(?:^|/)CURRENT$")


COPY = re.compile(
    r"(?i)(?:[._ -](?:bak|backup|old|copy|prev|orig)\d*|~|[._ -]\d{4}-?\d\d-?\d\d(?:[T_. -]?\d\d)*)(?=\.|$)"
    r"|(?<=\w)\.\d{1,2}$"
)


_COUNTED = re.compile(r"\d{3,}(?=\.[A-Za-z]\w*$)")


_IN_TURN = re.compile(r"(?:(?<!\d)\d{1,2}|(?<=[._ -])[a-z])(?=\.[A-Za-z]\w*$)")


FEWEST_IN_TURN, EVENLY = 4, 4.0
"""Files that are written in turn, and how much longer than others an interval between two of them may be."""


_GENERATION = re.compile(r"[._-]\d{1,3}(?=\.[A-Za-z]\w*$)")


_DATED = re.compile(r"(?<!\d)\d{4}[-_.]?\d\d[-_.]?\d\d(?!\d)|(?<!\d)1\d{9}(?:\d{3})?(?!\d)")


_MOMENT = re.compile(rf"[._ -]*(?:{_DATED.pattern})(?:[T_. -]?\d\d)*(?=\.|$)")


LEAST_SAVED = 4096
"""Bytes of a text that an engine saves, and keeps copies of."""


CLOSE = 120.0
"""Seconds within which two write times are one save."""


LITTLE = 0.1
"""Share of a folder's files that an engine saved, below which it is none of the engine's."""


A_DAY = 86_400.0


A_SESSION = 7 * A_DAY
"""Seconds within which parts of one world are saved: nobody may go to the farther ones for days."""


MANY_TEXTS, MANY_TIMES = 8, 4
"""Texts in a folder, and moments at which they were written, from which they may be a world."""


@dataclass
class Candidate:
    """A folder or a file that may be the world. ``files``: what is saved in it; ``copies``: older ones beside it."""

    at: str
    files: list[str]
    is_file: bool
    copies: list[str] = field(default_factory=list)
    leads: list[Lead] = field(default_factory=list)
    rivals: list[Candidate] = field(default_factory=list)
    tiles: tuple[Family, str] | None = None
    named: list[str] = field(default_factory=list)
    """Folders about it by which it may be called, too."""
    moments: int = 0
    """How many folders in it are called after moments."""
    size: int = 0
    newest: float = 0.0
    """Bytes of its files, and when the last of them was written, in seconds since 1970."""
    in_turn: bool = False
    """Whether only the times tell that its copies are some, and no worlds of their own."""
    others: int = 0
    """Files in it that no engine saved and that have no other role."""

    @property
    def is_mostly_other(self) -> bool:
        """Whether hardly anything in it was saved: a wipe of it would clear what an engine never wrote."""
        return len(self.files) < LITTLE * (len(self.files) + self.others)


def kind_at(path: str) -> tuple[str, str]:
    """The folder of a path, and the ending of its name."""
    folder, _, name = path.rpartition("/")
    return folder, name.partition(".")[2]


def saved_texts(scene: InferenceContext) -> dict[str, list[str]]:
    """Texts that an engine saves, and no admin writes: with copies called after moments (which are given), or many that
    differ in a number, written again and again since the program came."""
    texts = [path for path in scene.paths if path not in scene.dirs and not scene.is_covered(path)]
    texts = [path for path in texts if scene.look.size(path) and scene.look.kind(path) not in (*SAVED, "program")]
    copies: dict[str, list[str]] = defaultdict(list)
    for path in texts:
        name = path.rpartition("/")[2]
        if _DATED.search(name):
            copies[_MOMENT.sub("", name)].append(path)
    found = {
        path: copies[name]
        for path in texts
        if len(copies.get(name := path.rpartition("/")[2], ())) > 1 and scene.look.size(path) >= LEAST_SAVED
    }
    if scene.engine_time is None:
        return found
    for family in scene.open_families():
        moments = {int(time_of(scene, path) / CLOSE) for path in family.members}
        later = all(time_of(scene, path) > scene.engine_time / 1e9 + CLOSE for path in family.members)
        if len(family.members) >= MANY_TEXTS and len(moments) >= MANY_TIMES and later:
            found |= {path: [] for path in family.members if scene.look.kind(path) not in (*SAVED, "program")}
    return found


A_SERIES = 2
"""Older copies of a save that the server writes again and again."""


MOST_LONE = 24
"""Files in the top folder of which each may be a save; of more, those alone that a value names."""


def saved_files(scene: InferenceContext) -> list[str]:
    """Files that an engine may have saved: no texts, and of no other role."""
    entries = scene.tree.entries()
    stores = {path.rpartition("/")[0] for path in scene.paths if STORE_MARK.search(path)}
    found = []
    for path in scene.paths:
        if path not in entries or entries[path].size == 0 or scene.is_covered(path) or path in scene.dirs:
            continue
        if scene.look.kind(path) in SAVED or path.rpartition("/")[0] in stores:
            found.append(path)
    return found


def written_files(scene: InferenceContext) -> list[str]:
    """Texts that were written again and again since the program came, many to a folder: what an engine saves that saves
    no bytes."""
    if scene.engine_time is None:
        return []
    by_top: dict[str, list[str]] = defaultdict(list)
    entries = scene.tree.entries()
    for path in scene.paths:
        later = entries[path].mtime_ns > scene.engine_time + CLOSE * 1e9
        if "/" in path and path not in scene.dirs and not scene.is_covered(path) and later and entries[path].size:
            by_top[path.split("/", 1)[0]].append(path)
    return [
        path
        for paths in by_top.values()
        if len(paths) >= MANY_TEXTS and len({int(time_of(scene, path) / CLOSE) for path in paths}) >= MANY_TIMES
        for path in paths
    ]


def candidates_in(scene: InferenceContext, leads: Leads, saved: Sequence[str]) -> list[Candidate]:
    """What may be a world among some saved files."""
    below: dict[str, list[str]] = defaultdict(list)
    for path in saved:
        parts = path.split("/")
        for depth in range(1, len(parts)):
            below["/".join(parts[:depth])].append(path)
    lone = [path for path in saved if "/" not in path]
    made: list[Candidate] = []
    for top in sorted({path.split("/", 1)[0] for path in saved if "/" in path}):
        made += _within(scene, top, below, leads)
    alone = _files(scene, leads, lone)
    made += alone if len(alone) <= MOST_LONE else [one for one in alone if leads.to([one.at])]
    there = {one.at for one in made}
    made += [  # what a value names is one, wherever it lies
        Candidate(at, below[at], is_file=False) for at in sorted(below) if at not in there and leads.to([at])
    ]
    for path in saved:
        if leads.name_whole(path) and path not in there:
            made.append(
                next(one for one in _files(scene, leads, _siblings(path, saved)) if path in (*one.files, *one.copies))
            )
    for one in [one for one in made if not one.is_file]:
        inner = _among_others(scene, one, below)
        if inner != one.at:
            one.named, one.at = [one.at], inner
    tiles = _tile_families(scene, saved)
    for one in made:
        one.leads = leads.to((one.at, *one.named))
        one.tiles = next((item for item in tiles if f"{item[0].folder}/".startswith(f"{one.at}/")), None)
        one.size = sum(scene.look.size(path) for path in one.files)
        one.newest = max(time_of(scene, path) for path in one.files)
        one.others = 0 if one.is_file else uncovered(scene, one.at) - len(one.files)
    _set_rivals(made)
    return made


def _siblings(path: str, saved: Sequence[str]) -> list[str]:
    folder = path.rpartition("/")[0]
    return [other for other in saved if other.rpartition("/")[0] == folder]


def _within(scene: InferenceContext, folder: str, below: dict[str, list[str]], leads: Leads) -> list[Candidate]:
    """The candidates in a folder: itself, its only folder with saves, each of several that are alike, or single
    files. Folders called after moments are one world, saved again and again."""
    files = below[folder]
    own = [path for path in files if path.rpartition("/")[0] == folder]
    inner = sorted({path[len(folder) + 1 :].split("/", 1)[0] for path in files if path not in set(own)})
    if not inner:
        stems = _files(scene, leads, own)
        plain = [one for one in stems if scene.look.kind(one.at) != "sqlite"]
        if len(plain) == 1 or (not plain and len(own) <= 3):
            return plain or stems
        distinct = any(leads.to([one.at]) for one in stems) or sum(len(one.copies) >= A_SERIES for one in stems) == 1
        return [Candidate(folder, files, is_file=False), *(stems if distinct and len(stems) <= MOST_LONE else ())]
    whole = Candidate(folder, files, is_file=False)
    if not own and len(inner) == 1:
        return _within(scene, f"{folder}/{inner[0]}", below, leads)
    if all(_DATED.search(name) for name in inner):
        whole.moments = len(inner)
        return [whole]
    if 2 <= len(inner) <= 12 and not any(re.fullmatch(r"[0-9a-f]{1,2}", name) for name in inner):
        shapes = [_shape(below[f"{folder}/{name}"], f"{folder}/{name}") for name in inner]
        alike = [name for name, shape in zip(inner, shapes, strict=True) if sum(shape == other for other in shapes) > 1]
        if alike and len(alike) >= len(inner) - 1:
            return [whole, *(Candidate(f"{folder}/{name}", below[f"{folder}/{name}"], is_file=False) for name in inner)]
    if own and len(_files(scene, leads, own)) <= 3 and all(scene.look.kind(path) == "sqlite" for path in own):
        return [whole, *_files(scene, leads, own)]
    return [whole]


def _among_others(scene: InferenceContext, one: Candidate, below: dict[str, list[str]]) -> str:
    """The folder in which all that is saved lies, where files that the engine did not save stand beside it."""
    at = one.at
    while True:
        inner = {path[len(at) + 1 :].split("/", 1)[0] for path in below.get(at, []) if "/" in path[len(at) + 1 :]}
        own = [path for path in below.get(at, []) if path.rpartition("/")[0] == at]
        others = [p for p in scene.below(at) if p.rpartition("/")[0] == at and p not in scene.dirs]
        if own or len(inner) != 1 or not others:
            return at
        at = f"{at}/{inner.pop()}"


def _shape(paths: Sequence[str], folder: str) -> frozenset[str]:
    """What a folder holds, numbers left open."""
    return frozenset(re.sub(r"\d+", "0", path[len(folder) + 1 :]) for path in paths)


def _files(scene: InferenceContext, leads: Leads, paths: Sequence[str]) -> list[Candidate]:
    """Single files as candidates; those that are copies of another by their names beside it, and what belongs to one
    save with it."""
    by_stem: dict[str, list[str]] = defaultdict(list)
    for path in paths:
        folder, _, name = path.rpartition("/")
        while (plain := COPY.sub("", name)) != name:  # as in a.map.1.bak
            name = plain
        by_stem[f"{folder}/{name}"].append(path)
    for stem in sorted(by_stem):  # generations: a number before the ending of one that stands without it, too
        plain = _GENERATION.sub("", stem)
        if plain != stem and plain in by_stem:
            by_stem[plain] += by_stem.pop(stem)
    numbered: dict[str, list[str]] = defaultdict(list)
    turned: set[str] = set()
    for stem in sorted(by_stem):  # numbered on, or in turn: the newest is played, where times tell none the highest
        shape = next((opened for mark in (_COUNTED, _IN_TURN) if (opened := mark.sub("#", stem)) != stem), "")
        if shape:
            numbered[shape].append(stem)
    for shape, stems in numbered.items():
        counted = _COUNTED.search(stems[0]) and len(stems) > 2 and len({len(stem) for stem in stems}) == 1
        in_turn = not counted and _are_in_turn(scene, leads, [by_stem[stem][0] for stem in stems])
        if counted or in_turn:
            last = max(stems, key=lambda stem: (max(int(time_of(scene, path)) for path in by_stem[stem]), stem))
            ordered = [last, *(stem for stem in reversed(stems) if stem != last)]
            by_stem[shape] = [path for stem in ordered for path in by_stem.pop(stem)]
            turned.update([shape] if in_turn else [])
    made = []
    for shape, held in by_stem.items():
        main = held[0] if "#" in shape else min(held, key=lambda path: (len(path), path))
        copies = [path for path in held if path != main]
        made.append(Candidate(main, [main], is_file=True, copies=copies, in_turn=shape in turned))
    return _with_sidecars(scene, made)


def _are_in_turn(scene: InferenceContext, leads: Leads, paths: Sequence[str]) -> bool:
    """Whether files were written one after the other at about even intervals, as a server that saves in turn does, and
    no setting chooses one of them, as of slots. Slots may look like that by chance: it is a guess."""
    if leads.to(paths):
        return False
    times = sorted(time_of(scene, path) for path in paths)
    between = [later - earlier for earlier, later in pairwise(times)]
    return len(paths) >= FEWEST_IN_TURN and min(between) > 0 and max(between) <= EVENLY * min(between)


def _with_sidecars(scene: InferenceContext, made: Sequence[Candidate]) -> list[Candidate]:
    """Files called alike but for their endings are one save, of which the largest counts, where several have the same
    endings."""
    called: dict[str, list[Candidate]] = defaultdict(list)
    for one in made:
        called[
            one.at[: one.at.index(".", one.at.rfind("/") + 1)] if "." in one.at.rsplit("/", 1)[-1] else one.at
        ].append(one)
    endings = {bare: frozenset(one.at[len(bare) :] for one in held) for bare, held in called.items()}
    times = Counter(ends for ends in endings.values() if len(ends) > 1)
    found = []
    for bare, held in called.items():
        if times[endings[bare]] < 2:
            found += held
            continue
        main, *others = sorted(held, key=lambda one: -scene.look.size(one.at))
        main.files += [one.at for one in others]
        main.copies += [path for one in others for path in one.copies]
        found.append(main)
    return found


def _set_rivals(made: Sequence[Candidate]) -> None:
    for one in made:
        for other in made:
            nested = f"{other.at}/".startswith(f"{one.at}/") or f"{one.at}/".startswith(f"{other.at}/")
            if other is not one and not nested:
                one.rivals.append(other)


def _tile_families(scene: InferenceContext, saved: Sequence[str]) -> list[tuple[Family, str]]:
    there = set(saved)
    found = []
    for family in scene.families:
        places = tile_places(family) if family.members[0] in there else None
        if places is not None:
            found.append((family, tile_names(family, places)))
    return sorted(found, key=lambda item: -len(item[0].members))


def uncovered(scene: InferenceContext, folder: str) -> int:
    """How many files in a folder have no role yet."""
    return sum(path not in scene.dirs and not scene.is_covered(path) for path in scene.below(folder))


def time_of(scene: InferenceContext, path: str) -> float:
    """When a file was last written to, in seconds."""
    return scene.tree.entries()[path].mtime_ns / 1e9
