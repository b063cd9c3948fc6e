"""The world among a server's files: which folders or files may be one, what speaks for each, and what leads to it.

What an engine saves is neither program nor text. Folders and files that hold such are candidates; settings whose values
lead to one, write times, shapes (tiles, a key-value store, copies) are weighed against each other (``evidence``). Of
several worlds that are alike the one that is played is told by what leads there and by what was saved last.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import replace

from emberkeep.detection.candidates import (
    A_DAY,
    A_SESSION,
    CLOSE,
    COPY,
    STORE_MARK,
    Candidate,
    candidates_in,
    kind_at,
    saved_files,
    written_files,
)
from emberkeep.detection.context import InferenceContext
from emberkeep.detection.evidence import Evidence, Hypothesis
from emberkeep.detection.findings import Sure, WorldCandidate, WorldFinding
from emberkeep.detection.leads import Leads
from emberkeep.detection.world_facts import (
    cover_files,
    dimensions_of,
    finding_of,
    number_shape,
    with_engine_number,
    with_pointer,
)

_WORDS = re.compile(r"(?i)world|save|map(?:s|$)")


# --- candidates --------------------------------------------------------------------


def world(scene: InferenceContext) -> WorldFinding:
    """Cover the world's files and say what they are."""
    leads = Leads(scene)
    weighed = _all_weighed(scene, candidates_in(scene, leads, saved_files(scene)))
    if all(rated.probability < EVEN for _, rated in weighed):
        texts = sorted(scene.saved_texts) or written_files(scene)
        weighed += _all_weighed(scene, candidates_in(scene, leads, texts))
    scene.weighed += [rated for _, rated in weighed]
    best, hypothesis = max(weighed, key=lambda item: (item[1].log_odds, -len(item[0].at)), default=(None, None))
    if best is None or hypothesis is None or hypothesis.probability < LEAST:
        return WorldFinding()
    played = _also_played(best)
    rivals = [rated.log_odds for other, rated in weighed if other in best.rivals and other.at not in played]
    sure = hypothesis.sure if hypothesis.log_odds - max(rivals, default=-99.0) >= 2 else Sure.GUESS
    if _is_contradicted(scene, best, played) or best.is_mostly_other or best.in_turn:
        sure = Sure.GUESS
    finding = replace(finding_of(scene, best, hypothesis, sure), candidates=_told(scene, weighed))
    finding = replace(finding, dimensions=(*dimensions_of(scene, best), *played))
    finding = replace(finding, others=cover_files(scene, best, finding))
    return with_pointer(
        scene, leads, best, with_engine_number(scene, replace(finding, numbered=number_shape(scene, best)))
    )


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


def _is_contradicted(scene: InferenceContext, best: Candidate, played: Sequence[str]) -> bool:
    """Whether another of the same kind was saved later than the one to which something leads."""
    shape = kind_at(best.at)
    return scene.times_differ and any(
        other.newest > best.newest + CLOSE and kind_at(other.at) == shape and other.at not in played
        for other in best.rivals
    )


def _all_weighed(scene: InferenceContext, found: Sequence[Candidate]) -> list[tuple[Candidate, Hypothesis]]:
    everything = sum(scene.look.size(path) for path in {path for one in found for path in (*one.files, *one.copies)})
    return [(one, _weighed(scene, one, everything, _by_writing(scene, one, found))) for one in found]


EVEN, LEAST = 0.5, 0.3
"""Probabilities from which something is more likely than not, and from which it is told of at all."""
MOST_TOLD = 6


def _told(scene: InferenceContext, weighed: Sequence[tuple[Candidate, Hypothesis]]) -> tuple[WorldCandidate, ...]:
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


# --- weighing ----------------------------------------------------------------------------


def _weighed(scene: InferenceContext, one: Candidate, everything: int, by_writing: Iterable[Evidence]) -> Hypothesis:
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
    if any(STORE_MARK.search(path) for path in one.files):
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
    if COPY.search(one.at.rsplit("/", 1)[-1]) or _is_called_a_copy(scene, one.at):
        evidence.append(Evidence("a copy of another", "it is called as copies are"))
    if _WORDS.search(one.at):
        evidence.append(Evidence("called as worlds are"))
    return Hypothesis("world", one.at, tuple(evidence))


_OF_COPIES = re.compile(r"(?i)(?:^|[ _-])(?:old|backup|bak)(?:[ _-]|$)")


def _is_called_a_copy(scene: InferenceContext, path: str) -> bool:
    """Whether a part of a path says that it is an older one: it is called so and no more, or what it is the copy of
    stands beside it. A world may be called Old Harbour."""
    parts = path.split("/")
    for at, part in enumerate(parts):
        rest = _OF_COPIES.sub("", part)
        beside = "/".join((*parts[:at], rest))
        if rest != part and (not re.search(r"[^\W\d]", rest) or beside in scene.tree.entries()):
            return True
    return False


def _is_in_the_log(scene: InferenceContext, one: Candidate) -> bool:
    """Whether the newest log names it, by its path or as a file."""
    entries = scene.tree.entries()
    texts = [path for path in scene.of_role("logs") if scene.look.kind(path) in ("text", "json")]
    if not texts or not (one.is_file or "/" in one.at):
        return False
    newest = max(texts, key=lambda path: (entries[path].mtime_ns, path))
    names = {one.at, one.at.rsplit("/", 1)[-1]} if one.is_file else {one.at}
    spelled = "|".join(map(re.escape, sorted(names)))
    return re.search(rf"(?<![\w.-])(?:{spelled})(?![\w-])", scene.look.text(newest)) is not None


def _by_writing(scene: InferenceContext, one: Candidate, every: Sequence[Candidate]) -> Iterator[Evidence]:
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
