"""What is told of the world that was found: its pointer, numbers, dimensions, and the files that it covers."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Iterable, Sequence
from dataclasses import replace

from emberkeep.databases import sqlite
from emberkeep.detection.candidates import (
    A_SESSION,
    Candidate,
)
from emberkeep.detection.context import InferenceContext, numbered_glob
from emberkeep.detection.evidence import Evidence, Hypothesis
from emberkeep.detection.findings import Sure, WorldFinding
from emberkeep.detection.leads import Lead, Leads, is_found_again
from emberkeep.fs import globs
from emberkeep.inventory.tiles import whole_sectors

SMALL_TEXT = 4000
"""Bytes of a file that tells versions, at most."""


def finding_of(scene: InferenceContext, one: Candidate, hypothesis: Hypothesis, sure: Sure) -> WorldFinding:
    """What is told of a candidate."""
    reasons = hypothesis.reasons
    if one.is_file and scene.look.kind(one.at) == "sqlite":
        rows = {name: max(map(len, held.values()), default=0) for name, held in scene.look.columns(one.at).items()}
        blobs = scene.look.blobs(one.at)
        mixed = blobs and any(rows[name] > sqlite.FEW_ROWS for name in rows.keys() - blobs)
        tables = tuple(sorted(blobs)) if mixed else ()
        reasons = f"SQLite, tables {', '.join(sorted(rows))}; {reasons}"
        return WorldFinding(one.at, evidence=reasons, sure=sure, is_file=True, tables=tables)
    if one.is_file or not one.tiles:
        shown = f"one save file of {scene.look.size(one.at)} bytes" if one.is_file else f"{len(one.files)} saved files"
        return WorldFinding(
            one.at, evidence=f"{shown}; {reasons}" if reasons else shown, sure=sure, is_file=one.is_file
        )
    family, names = one.tiles
    below = f"{family.folder}/{names}".removeprefix(f"{one.at}/")
    counted = f"{len(family.members)} tiles {names}"
    return WorldFinding(
        one.at,
        tiles=below,
        sector=whole_sectors(scene.look.size(path) for path in family.members),
        evidence=reasons if counted in reasons else f"{counted}; {reasons}",
        sure=sure,
    )


def dimensions_of(scene: InferenceContext, best: Candidate) -> tuple[str, ...]:
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


def cover_files(scene: InferenceContext, best: Candidate, finding: WorldFinding) -> tuple[str, ...]:
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
        evidence = f"SQLite, tables {', '.join(sorted(scene.look.columns(path)))}"
        scene.cover("databases", numbered_glob(path), evidence, Sure.LIKELY)
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


def _parts_of(scene: InferenceContext, best: Candidate) -> list[str]:
    """What else belongs to a save: those that are called as it is up to the first dot, texts too."""
    folder, _, name = best.at.rpartition("/")
    bare = f"{folder}/{name.split('.', 1)[0]}.".lstrip("/")
    beside = scene.matching(f"{globs.escape(bare)}*")
    return [path for path in beside if path != best.at and path not in scene.dirs]


def number_shape(scene: InferenceContext, one: Candidate) -> str:
    """A save whose name carries numbers: those that scripts and settings also give are size and seed, the rest
    its format. "" when there is none."""
    given = {
        value for path in scene.of_role("scripts", "settings") for value in re.findall(r"\d+", scene.look.text(path))
    }
    folder = one.at.rpartition("/")[0] if one.is_file else one.at
    for path in one.files:
        name = path.rsplit("/", 1)[-1]
        numbers = save_numbers(name)
        own = [value for value in numbers if value not in given]
        right = len(numbers) >= 2 and len(own) == 1 and scene.look.kind(path) in ("binary", "packed")
        if right and not _is_coordinate(path, own[0], one.files):
            parts = [
                ("{number}" if part == own[0] else "*") if part.isdigit() else part for part in re.split(r"(\d+)", name)
            ]
            below = path.removeprefix(f"{folder}/").rpartition("/")[0]
            shape = "".join(parts)
            return f"{below}/{shape}" if below else shape
    return _shared_number(scene, one, given)


def _is_coordinate(path: str, number: str, files: Iterable[str]) -> bool:
    """Whether a number in a file's name counts places: files beside it have others in its place, each beside several
    other numbers. All saves of one format have the same."""
    parts = [re.escape(part) if not part.isdigit() else r"(\d+)" for part in re.split(r"(\d+)", path)]
    digits = re.findall(r"\d+", path)
    at = len(digits) - 1 - digits[::-1].index(number)
    found = [match.groups() for other in files if (match := re.fullmatch("".join(parts), other))]
    return (
        len({groups[at] for groups in found}) > 1 and len({(*groups[:at], *groups[at + 1 :]) for groups in found}) > 1
    )


def _shared_number(scene: InferenceContext, one: Candidate, numbers: set[str]) -> str:
    """Saves that share one number, which no setting gives, in the same place of their names: before the ending."""
    sets: dict[tuple[str, str, str, str], int] = Counter()
    for path in one.files:
        parent, _, name = path.rpartition("/")
        found = re.fullmatch(r"([A-Za-z][\w-]*?)([._-])(\d+)(\.\w+)", name)
        if found and found[3] not in numbers and scene.look.kind(path) in ("binary", "packed"):
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


def with_engine_number(scene: InferenceContext, found: WorldFinding) -> WorldFinding:
    """Where a small text of the engine's own names the number that the saves carry."""
    if not found.numbered:
        return found
    shape = found.numbered.rsplit("/", 1)[-1]
    names = re.compile(re.escape(shape).replace(r"\*", "[^/]*").replace(r"\{number\}", r"(\d+)"))
    stems = (names.fullmatch(path.rsplit("/", 1)[-1]) for path in scene.below(found.base))
    numbers = {stem[1] for stem in stems if stem}
    for path in scene.of_role("engine"):
        if scene.look.kind(path) != "text" or scene.look.size(path) > SMALL_TEXT:
            continue
        for line in scene.look.text(path).splitlines():
            word = re.fullmatch(r"(\D*[A-Za-z]\D*)(\d+)\s*", line)
            if word and word[2] in numbers:
                return replace(
                    found, number_in=path, number_pattern=f"{re.escape(word[1]).replace(chr(92) + ' ', ' ')}(\\d+)"
                )
    return found


def all_save_numbers(scene: InferenceContext, found: WorldFinding) -> Iterable[str]:
    """Numbers in the names of the world's saves."""
    if not found.evidence:
        return []
    files = [found.folder] if found.is_file else scene.below(found.folder)
    return [value for path in files for value in save_numbers(path.rsplit("/", 1)[-1])]


def with_pointer(scene: InferenceContext, leads: Leads, one: Candidate, found: WorldFinding) -> WorldFinding:
    """The setting or launch argument whose value leads to the world, by what speaks for each."""
    if not one.leads:
        return found
    parts = _parts_of(scene, one) if one.is_file else []
    named = [path for path in parts if leads.name_whole(path)]
    weighed = [(lead, _weighed_lead(scene, lead, one, named)) for lead in one.leads]
    scene.weighed += [rated for _, rated in weighed]
    lead, hypothesis = max(weighed, key=lambda item: item[1].log_odds)
    second = max((rated.log_odds for other, rated in weighed if other is not lead), default=-99.0)
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


def _weighed_lead(scene: InferenceContext, lead: Lead, one: Candidate, named: Sequence[str]) -> Hypothesis:
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
