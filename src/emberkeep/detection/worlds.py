"""The world among a server's files: which folders or files may be one, what speaks for each, and what leads to it.

What an engine saves is neither program nor text. Folders and files that hold such are candidates; settings whose values
lead to one, write times, shapes (tiles, a key-value store, copies) are weighed against each other (``evidence``). Of
several worlds that are alike the one that is played is told by what leads there and by what was saved last.
"""

from __future__ import annotations

import re
from collections import Counter, defaultdict
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, field, replace
from itertools import pairwise

from emberkeep.databases import sqlite
from emberkeep.detection.context import SAVED, Scene, numbered_glob
from emberkeep.detection.evidence import Evidence, Hypothesis
from emberkeep.detection.findings import Sure, WorldCandidate, WorldFinding
from emberkeep.detection.leads import Lead, Leads, is_found_again
from emberkeep.fs import globs
from emberkeep.inventory.probe import Family
from emberkeep.inventory.tiles import tile_names, tile_places, whole_sectors

_STORE_MARK = re.compile(r"(?:^|/)CURRENT$")
_COPY = re.compile(
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
_WORDS = re.compile(r"(?i)world|save|map(?:s|$)")
CLOSE = 120.0
"""Seconds within which two write times are one save."""
LITTLE = 0.1
"""Share of a folder's files that an engine saved, below which it is none of the engine's."""
A_DAY = 86_400.0
A_SESSION = 7 * A_DAY
"""Seconds within which parts of one world are saved: nobody may go to the farther ones for days."""
MANY_TEXTS, MANY_TIMES = 8, 4
"""Texts in a folder, and moments at which they were written, from which they may be a world."""
SMALL_TEXT = 4000
"""Bytes of a file that tells versions, at most."""


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


# --- candidates --------------------------------------------------------------------


def world(scene: Scene) -> WorldFinding:
    """Cover the world's files and say what they are."""
    leads = Leads(scene)
    weighed = _all_weighed(scene, _candidates(scene, leads, _saved(scene)))
    if all(told.probability < EVEN for _, told in weighed):
        texts = sorted(scene.saved_texts) or _written(scene)
        weighed += _all_weighed(scene, _candidates(scene, leads, texts))
    scene.weighed += [told for _, told in weighed]
    best, hypothesis = max(weighed, key=lambda item: (item[1].log_odds, -len(item[0].at)), default=(None, None))
    if best is None or hypothesis is None or hypothesis.probability < LEAST:
        return WorldFinding()
    played = _also_played(best)
    rivals = [told.log_odds for other, told in weighed if other in best.rivals and other.at not in played]
    sure = hypothesis.sure if hypothesis.log_odds - max(rivals, default=-99.0) >= 2 else Sure.GUESS
    if _is_contradicted(scene, best, played) or best.is_mostly_other or best.in_turn:
        sure = Sure.GUESS
    finding = replace(_finding(scene, best, hypothesis, sure), candidates=_told(scene, weighed))
    finding = replace(finding, dimensions=(*_dimensions(scene, best), *played))
    finding = replace(finding, others=_cover(scene, best, finding))
    return _pointer(scene, leads, best, _told_by_engine(scene, replace(finding, numbered=_numbered(scene, best))))


def _also_played(best: Candidate) -> tuple[str, ...]:
    """Worlds beside it to which the same key leads, as a list of them does, saved about when it was."""
    keys = {(lead.file, lead.key) for lead in best.leads}
    over = best.at.rpartition("/")[0]
    return tuple(
        other.at
        for other in best.rivals
        if not other.is_file
        and other.at.rpartition("/")[0] == over
        and any((lead.file, lead.key) in keys for lead in other.leads)
        and best.newest - other.newest < A_SESSION
    )


def _is_contradicted(scene: Scene, best: Candidate, played: Sequence[str]) -> bool:
    """Whether another of the same kind was saved later than the one to which something leads."""
    shape = _kind_of(best.at)
    return scene.times_differ and any(
        other.newest > best.newest + CLOSE and _kind_of(other.at) == shape and other.at not in played
        for other in best.rivals
    )


def _kind_of(path: str) -> tuple[str, str]:
    folder, _, name = path.rpartition("/")
    return folder, name.partition(".")[2]


def saved_texts(scene: Scene) -> dict[str, list[str]]:
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
        moments = {int(_time(scene, path) / CLOSE) for path in family.members}
        later = all(_time(scene, path) > scene.engine_time / 1e9 + CLOSE for path in family.members)
        if len(family.members) >= MANY_TEXTS and len(moments) >= MANY_TIMES and later:
            found |= {path: [] for path in family.members if scene.look.kind(path) not in (*SAVED, "program")}
    return found


def _all_weighed(scene: Scene, found: Sequence[Candidate]) -> list[tuple[Candidate, Hypothesis]]:
    everything = sum(scene.look.size(path) for path in {path for one in found for path in (*one.files, *one.copies)})
    return [(one, _weighed(scene, one, everything, _by_writing(scene, one, found))) for one in found]


EVEN, LEAST = 0.5, 0.3
"""Probabilities from which something is more likely than not, and from which it is told of at all."""
MOST_TOLD = 6
A_SERIES = 2
"""Older copies of a save that the server writes again and again."""
MOST_LONE = 24
"""Files in the top folder of which each may be a save; of more, those alone that a value names."""


def _told(scene: Scene, weighed: Sequence[tuple[Candidate, Hypothesis]]) -> tuple[WorldCandidate, ...]:
    ranked = sorted(weighed, key=lambda item: -item[1].log_odds)[:MOST_TOLD]
    return tuple(
        WorldCandidate(
            one.at,
            one.is_file,
            len(one.files),
            one.size,
            int(one.newest * 1e9),
            hypothesis.reasons,
            (one.leads[0].file, one.leads[0].key) if one.leads else None,
        )
        for one, hypothesis in ranked
    )


def _saved(scene: Scene) -> list[str]:
    """Files that an engine may have saved: no texts, and of no other role."""
    entries = scene.tree.entries()
    stores = {path.rpartition("/")[0] for path in scene.paths if _STORE_MARK.search(path)}
    found = []
    for path in scene.paths:
        if path not in entries or entries[path].size == 0 or scene.is_covered(path) or path in scene.dirs:
            continue
        if scene.look.kind(path) in SAVED or path.rpartition("/")[0] in stores:
            found.append(path)
    return found


def _written(scene: Scene) -> list[str]:
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
        if len(paths) >= MANY_TEXTS and len({int(_time(scene, path) / CLOSE) for path in paths}) >= MANY_TIMES
        for path in paths
    ]


def _candidates(scene: Scene, leads: Leads, saved: Sequence[str]) -> list[Candidate]:
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
        one.newest = max(_time(scene, path) for path in one.files)
        one.others = 0 if one.is_file else _uncovered(scene, one.at) - len(one.files)
    _set_rivals(made)
    return made


def _siblings(path: str, saved: Sequence[str]) -> list[str]:
    folder = path.rpartition("/")[0]
    return [other for other in saved if other.rpartition("/")[0] == folder]


def _within(scene: Scene, folder: str, below: dict[str, list[str]], leads: Leads) -> list[Candidate]:
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
        told = any(leads.to([one.at]) for one in stems) or sum(len(one.copies) >= A_SERIES for one in stems) == 1
        return [Candidate(folder, files, is_file=False), *(stems if told and len(stems) <= MOST_LONE else ())]
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


def _among_others(scene: Scene, one: Candidate, below: dict[str, list[str]]) -> str:
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


def _files(scene: Scene, leads: Leads, paths: Sequence[str]) -> list[Candidate]:
    """Single files as candidates; those that are copies of another by their names beside it, and what belongs to one
    save with it."""
    by_stem: dict[str, list[str]] = defaultdict(list)
    for path in paths:
        folder, _, name = path.rpartition("/")
        while (plain := _COPY.sub("", name)) != name:  # as in a.map.1.bak
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
            last = max(stems, key=lambda stem: (max(int(_time(scene, path)) for path in by_stem[stem]), stem))
            ordered = [last, *(stem for stem in reversed(stems) if stem != last)]
            by_stem[shape] = [path for stem in ordered for path in by_stem.pop(stem)]
            turned.update([shape] if in_turn else [])
    made = []
    for shape, held in by_stem.items():
        main = held[0] if "#" in shape else min(held, key=lambda path: (len(path), path))
        copies = [path for path in held if path != main]
        made.append(Candidate(main, [main], is_file=True, copies=copies, in_turn=shape in turned))
    return _with_sidecars(scene, made)


def _are_in_turn(scene: Scene, leads: Leads, paths: Sequence[str]) -> bool:
    """Whether files were written one after the other at about even intervals, as a server that saves in turn does, and
    no setting chooses one of them, as of slots. Slots may look like that by chance: it is a guess."""
    if leads.to(paths):
        return False
    times = sorted(_time(scene, path) for path in paths)
    between = [later - earlier for earlier, later in pairwise(times)]
    return len(paths) >= FEWEST_IN_TURN and min(between) > 0 and max(between) <= EVENLY * min(between)


def _with_sidecars(scene: Scene, made: Sequence[Candidate]) -> list[Candidate]:
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


def _tile_families(scene: Scene, saved: Sequence[str]) -> list[tuple[Family, str]]:
    there = set(saved)
    found = []
    for family in scene.families:
        places = tile_places(family) if family.members[0] in there else None
        if places is not None:
            found.append((family, tile_names(family, places)))
    return sorted(found, key=lambda item: -len(item[0].members))


# --- weighing ----------------------------------------------------------------------------


def _weighed(scene: Scene, one: Candidate, everything: int, by_writing: Iterable[Evidence]) -> Hypothesis:
    """``everything``: bytes of what all candidates hold, with their copies."""
    evidence: list[Evidence] = []
    if one.leads:
        lead = max(one.leads, key=lambda item: (item.script, item.ours))
        name = "a setting leads to it" if lead.script or lead.ours else "some value leads to it"
        evidence.append(Evidence(name, f"{lead.key} in {lead.file} is {lead.value}"))
    elif any(lead.script or lead.ours for other in one.rivals for lead in other.leads):
        evidence.append(
            Evidence("a setting leads to another", f"a setting leads to {next(o.at for o in one.rivals if o.leads)}")
        )
    evidence += by_writing
    if _is_in_the_log(scene, one):
        evidence.append(Evidence("the log names it"))
    if one.tiles:
        evidence.append(Evidence("tiles", f"{len(one.tiles[0].members)} tiles {one.tiles[1]}"))
    if any(_STORE_MARK.search(path) for path in one.files):
        evidence.append(Evidence("a key-value store", "a key-value store lies in it"))
    if one.size + sum(scene.look.size(path) for path in one.copies) >= 0.6 * everything:
        evidence.append(Evidence("most of what is saved", "most of what is neither program nor text lies there"))
    if one.moments > 1:
        evidence.append(
            Evidence("older copies stand beside it", f"{one.moments} folders in it are called after moments")
        )
    if one.is_mostly_other:
        evidence.append(Evidence("little of what is in it was saved", f"{one.others} other files are in it"))
    if one.copies:
        evidence.append(Evidence("older copies stand beside it", f"{len(one.copies)} older copies beside it"))
    if _COPY.search(one.at.rsplit("/", 1)[-1]) or _is_called_a_copy(scene, one.at):
        evidence.append(Evidence("a copy of another", "it is called as copies are"))
    if _WORDS.search(one.at):
        evidence.append(Evidence("called as worlds are"))
    return Hypothesis("world", one.at, tuple(evidence))


_OF_COPIES = re.compile(r"(?i)(?:^|[ _-])(?:old|backup|bak)(?:[ _-]|$)")


def _is_called_a_copy(scene: Scene, path: str) -> bool:
    """Whether a part of a path says that it is an older one: it is called so and no more, or what it is the copy of
    stands beside it. A world may be called Old Harbour."""
    parts = path.split("/")
    for at, part in enumerate(parts):
        rest = _OF_COPIES.sub("", part)
        beside = "/".join((*parts[:at], rest))
        if rest != part and (not re.search(r"[^\W\d]", rest) or beside in scene.tree.entries()):
            return True
    return False


def _uncovered(scene: Scene, folder: str) -> int:
    """How many files in a folder have no role yet."""
    return sum(path not in scene.dirs and not scene.is_covered(path) for path in scene.below(folder))


def _is_in_the_log(scene: Scene, one: Candidate) -> bool:
    """Whether the newest log names it, by its path or as a file."""
    entries = scene.tree.entries()
    texts = [path for path in scene.of_role("logs") if scene.look.kind(path) in ("text", "json")]
    if not texts or not (one.is_file or "/" in one.at):
        return False
    newest = max(texts, key=lambda path: (entries[path].mtime_ns, path))
    names = {one.at, one.at.rsplit("/", 1)[-1]} if one.is_file else {one.at}
    spelled = "|".join(map(re.escape, sorted(names)))
    return re.search(rf"(?<![\w.-])(?:{spelled})(?![\w-])", scene.look.text(newest)) is not None


def _by_writing(scene: Scene, one: Candidate, every: Sequence[Candidate]) -> Iterator[Evidence]:
    inner = [other for other in every if other.at.startswith(f"{one.at}/")]
    written = next((path for path in one.files if path in scene.opened), "")
    if written and not any(written in other.files for other in inner):
        yield Evidence("a running program writes it", f"a running program has {written} open for writing")
    mine = one.newest
    all_times = {other.newest for other in every}
    came = None if scene.engine_time is None else scene.engine_time / 1e9 + CLOSE
    if came is not None and mine <= came:
        yield Evidence("as old as the program", "nothing in it was saved since the program came")
        since = [other.at for other in one.rivals if other.leads and other.newest > came]
        if since:
            yield Evidence("another was saved since", f"{since[0]} was saved since")
        return
    if len(every) == 1 or max(all_times) - min(all_times) < CLOSE:
        return
    if mine >= max(all_times) - CLOSE:
        if any(other.newest >= mine - CLOSE for other in inner):
            return  # that one is what was saved
        yield Evidence("the newest save is in it", "the newest save is in it")
    elif any(other.newest > mine + A_DAY for other in one.rivals):
        yield Evidence("others were saved later", "others were saved later")


# --- what is written of it -----------------------------------------------------------------


def _finding(scene: Scene, one: Candidate, hypothesis: Hypothesis, sure: Sure) -> WorldFinding:
    told = hypothesis.reasons
    if one.is_file and scene.look.kind(one.at) == "sqlite":
        rows = {name: max(map(len, held.values()), default=0) for name, held in scene.look.columns(one.at).items()}
        blobs = scene.look.blobs(one.at)
        mixed = blobs and any(rows[name] > sqlite.FEW_ROWS for name in rows.keys() - blobs)
        tables = tuple(sorted(blobs)) if mixed else ()
        told = f"SQLite, tables {', '.join(sorted(rows))}; {told}"
        return WorldFinding(one.at, evidence=told, sure=sure, is_file=True, tables=tables)
    if one.is_file or not one.tiles:
        shown = f"one save file of {scene.look.size(one.at)} bytes" if one.is_file else f"{len(one.files)} saved files"
        return WorldFinding(one.at, evidence=f"{shown}; {told}" if told else shown, sure=sure, is_file=one.is_file)
    family, names = one.tiles
    below = f"{family.folder}/{names}".removeprefix(f"{one.at}/")
    return WorldFinding(
        one.at,
        tiles=below,
        sector=whole_sectors(scene.look.size(path) for path in family.members),
        evidence=f"{len(family.members)} tiles {names}; {told}",
        sure=sure,
    )


def _dimensions(scene: Scene, best: Candidate) -> tuple[str, ...]:
    """Further folders of the same world: tiles named alike, saved about when its own were, that nothing leads to. What
    stands in one folder with it is a world beside it."""
    if best.tiles is None or "/" in best.at:
        return ()
    inner = best.tiles[0].folder.removeprefix(best.at)
    alike = []
    for other in best.rivals:
        folder = other.tiles[0].folder if other.tiles and other.tiles[1] == best.tiles[1] else ""
        over = folder.removesuffix(inner) if folder.endswith(inner) else ""
        if over and "/" not in over and not other.leads and best.newest - other.newest < A_SESSION:
            alike.append(over)
    return tuple(sorted(alike))


def _time(scene: Scene, path: str) -> float:
    return scene.tree.entries()[path].mtime_ns / 1e9


def _cover(scene: Scene, best: Candidate, finding: WorldFinding) -> tuple[str, ...]:
    """Give the world's files their role, and those of worlds beside it; these are returned."""
    if best.is_file:
        scene.cover("world", numbered_glob(best.at), finding.evidence, finding.sure)
        for path in [path for path in _parts_of(scene, best) if not scene.is_covered(path)]:
            alone = len(best.files) == 1 and finding.sure is Sure.SURE
            sure = Sure.LIKELY if alone else finding.sure
            scene.cover("world", globs.escape(path), f"called as {best.at.rsplit('/', 1)[-1]} is", sure)
        for path in (*best.copies, *scene.saved_texts.get(best.at, ())):
            scene.cover("world", numbered_glob(path), f"an older copy of {best.at.rsplit('/', 1)[-1]}", finding.sure)
        return ()
    tables = [path for path in best.files if scene.look.kind(path) == "sqlite"]
    for path in tables if len(tables) < len(best.files) else ():
        told = f"SQLite, tables {', '.join(sorted(scene.look.columns(path)))}"
        scene.cover("databases", numbered_glob(path), told, Sure.LIKELY)
    scene.cover("world", f"{globs.escape(best.at)}/**", finding.evidence, finding.sure)
    for folder in finding.dimensions:
        scene.cover(
            "world",
            f"{globs.escape(folder)}/**",
            f"tiles named as those of {best.at}, saved when they were",
            Sure.LIKELY,
        )
    over = best.at.rpartition("/")[0]
    others = []
    for other in best.rivals:
        beside = (
            over and other.at.rpartition("/")[0] == over and not other.is_file and other.at not in finding.dimensions
        )
        if beside and not scene.is_covered(other.files[0]):
            scene.cover("world", f"{globs.escape(other.at)}/**", f"a world beside {best.at}", Sure.LIKELY)
            others.append(other.at)
    return tuple(others)


def _parts_of(scene: Scene, best: Candidate) -> list[str]:
    """What else belongs to a save: those that are called as it is up to the first dot, texts too."""
    folder, _, name = best.at.rpartition("/")
    bare = f"{folder}/{name.split('.', 1)[0]}.".lstrip("/")
    beside = scene.matching(f"{globs.escape(bare)}*")
    return [path for path in beside if path != best.at and path not in scene.dirs]


def _numbered(scene: Scene, one: Candidate) -> str:
    """A save whose name carries numbers: those that scripts and settings also give are size and seed, the rest
    its format. "" when there is none."""
    told = {
        value for path in scene.of_role("scripts", "settings") for value in re.findall(r"\d+", scene.look.text(path))
    }
    folder = one.at.rpartition("/")[0] if one.is_file else one.at
    for path in one.files:
        name = path.rsplit("/", 1)[-1]
        numbers = save_numbers(name)
        own = [value for value in numbers if value not in told]
        if len(numbers) >= 2 and len(own) == 1 and scene.look.kind(path) in ("binary", "packed"):
            parts = [
                ("{number}" if part == own[0] else "*") if part.isdigit() else part for part in re.split(r"(\d+)", name)
            ]
            below = path.removeprefix(f"{folder}/").rpartition("/")[0]
            shape = "".join(parts)
            return f"{below}/{shape}" if below else shape
    return _shared_number(scene, one, told)


def _shared_number(scene: Scene, one: Candidate, told: set[str]) -> str:
    """Saves that share one number, which no setting gives, in the same place of their names: before the ending."""
    sets: dict[tuple[str, str, str, str], int] = Counter()
    for path in one.files:
        parent, _, name = path.rpartition("/")
        found = re.fullmatch(r"([A-Za-z][\w-]*?)([._-])(\d+)(\.\w+)", name)
        if found and found[3] not in told and scene.look.kind(path) in ("binary", "packed"):
            sets[parent, found[2], found[3], found[4]] += 1
    shared = {key: count for key, count in sets.items() if count >= 2}
    if len(shared) != 1:
        return ""  # none, or rather copies by generation
    parent, mark, _, ending = next(iter(shared))
    below = parent.removeprefix(one.at).lstrip("/")
    shape = f"*{mark}{{number}}{ending}"
    return f"{below}/{shape}" if below else shape


def save_numbers(name: str) -> list[str]:
    """The numbers between dots, dashes or underscores of a file's name."""
    return re.findall(r"(?<=[.\-_])\d+(?=[.\-_])", name)


def _told_by_engine(scene: Scene, found: WorldFinding) -> WorldFinding:
    """Where a small text of the engine's own names the number that the saves carry."""
    if not found.numbered:
        return found
    shape = found.numbered.rsplit("/", 1)[-1]
    names = re.compile(re.escape(shape).replace(r"\*", "[^/]*").replace(r"\{number\}", r"(\d+)"))
    numbers = {told[1] for path in scene.below(found.base) if (told := names.fullmatch(path.rsplit("/", 1)[-1]))}
    for path in scene.of_role("engine"):
        if scene.look.kind(path) != "text" or scene.look.size(path) > SMALL_TEXT:
            continue
        for line in scene.look.text(path).splitlines():
            told = re.fullmatch(r"(\D*[A-Za-z]\D*)(\d+)\s*", line)
            if told and told[2] in numbers:
                return replace(
                    found, number_in=path, number_pattern=f"{re.escape(told[1]).replace(chr(92) + ' ', ' ')}(\\d+)"
                )
    return found


def all_save_numbers(scene: Scene, found: WorldFinding) -> Iterable[str]:
    """Numbers in the names of the world's saves."""
    if not found.evidence:
        return []
    files = [found.folder] if found.is_file else scene.below(found.folder)
    return [value for path in files for value in save_numbers(path.rsplit("/", 1)[-1])]


def _pointer(scene: Scene, leads: Leads, one: Candidate, found: WorldFinding) -> WorldFinding:
    """The setting or launch argument whose value leads to the world, by what speaks for each."""
    if not one.leads:
        return found
    parts = _parts_of(scene, one) if one.is_file else []
    named = [path for path in parts if leads.name_whole(path)]
    weighed = [(lead, _weighed_lead(scene, lead, one, named)) for lead in one.leads]
    scene.weighed += [told for _, told in weighed]
    lead, hypothesis = max(weighed, key=lambda item: item[1].log_odds)
    second = max((told.log_odds for other, told in weighed if other is not lead), default=-99.0)
    sure = hypothesis.sure if hypothesis.log_odds - second >= 1 else Sure.GUESS
    kept = is_found_again(scene, lead)
    sure = max(sure, found.sure, key=(Sure.SURE, Sure.LIKELY, Sure.GUESS).index) if kept else Sure.GUESS
    return replace(
        found,
        pointer_file=lead.file,
        pointer_key=lead.key,
        pointer_evidence=hypothesis.reasons,
        pointer_sure=sure,
        pointer_kept=kept,
    )


def _weighed_lead(scene: Scene, lead: Lead, one: Candidate, named: Sequence[str]) -> Hypothesis:
    """``named``: other parts of the same save that settings name."""
    evidence = [Evidence("its value leads to the world", f"its value {lead.value} leads to {one.at}")]
    if lead.script:
        evidence.append(Evidence("the script passes it", "the launch script gives it"))
    elif lead.ours:
        evidence.append(Evidence("its file is the server's", "its file is the server's own"))
    if len(one.leads) > 1:
        evidence.append(Evidence("another leads there too", "another value leads there too"))
    if named and lead.value.rsplit("/", 1)[-1] == one.at.rsplit("/", 1)[-1]:
        evidence.append(Evidence("it names one part", f"it names one part of it, and others name {named[0]}"))
    if not is_found_again(scene, lead):
        evidence.append(
            Evidence("it cannot be read again", "the file is of no format in which values are found by key")
        )
    return Hypothesis("pointer", f"{lead.file}:{lead.key}", tuple(evidence))
