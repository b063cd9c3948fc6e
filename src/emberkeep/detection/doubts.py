"""What adopt only guessed, as questions: what was seen, what hangs on the answer, and what it writes into keep.toml.

A question stands in keep.toml as a line that begins with ``# ?`` until it is answered here, or struck out by hand.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, replace
from datetime import UTC, datetime
from typing import TYPE_CHECKING

from emberkeep.detection.draft import plain
from emberkeep.detection.findings import Adoption, Finding, LogLine, Sure, VersionFinding, WorldCandidate, WorldFinding
from emberkeep.fs import globs
from emberkeep.keep.config import QUESTION

if TYPE_CHECKING:  # keep.toml is written where somebody answers
    from tomlkit.toml_document import TOMLDocument

Edit = Callable[["TOMLDocument"], None]
STAKES = {
    "world": "A wipe of the map clears it, and landmarks are measured in it.",
    "players": "A wipe of players clears them.",
    "progress": "A wipe of progress clears them.",
    "engine": "An update replaces them by the vendor's.",
    "settings": "An update merges them with the vendor's.",
    "economy": "An update merges them with the vendor's.",
    "access": "access: lists of people, as who is banned, allowed or in charge. No wipe clears them.",
    "scripts": "scripts: what starts the server, or helps it. An update merges them with the vendor's.",
    "extensions": "extensions: what adds to the game. An update asks for a new build of each.",
    "extension-data": "extension-data: what extensions keep.",
    "databases": "databases: files that are neither a world's nor a player's.",
    "logs": "logs: what the server tells. No wipe clears them.",
    "scratch": "scratch: files that nobody needs again.",
}


@dataclass(frozen=True)
class Choice:
    """An answer in words, and what it writes. ``edit``: None where keep.toml says so already."""

    words: str
    edit: Edit | None = None


@dataclass(frozen=True)
class Doubt:
    """Something that was only guessed. ``text``: the question, as it stands in keep.toml; ``seen``: lines of evidence;
    ``choices``: none where only the admin can write the answer in."""

    text: str
    seen: tuple[str, ...] = ()
    stakes: str = ""
    choices: tuple[Choice, ...] = ()


def doubts(found: Adoption) -> list[Doubt]:
    """All that an adoption leaves open, in the order in which it is asked."""
    every = [
        *(_of_role(items) for items in _alike(found.roles)),
        *(_of_version(item) for item in found.versions if item.sure is Sure.GUESS),
        *_of_world(found.world),
        *(
            _of_line(line)
            for line in (found.log.lines if found.log else ())
            if line.sure is Sure.GUESS and line.example and line.kind != "version"  # asked with the version itself
        ),
        *_lacking(found),
    ]
    return [replace(one, text=plain(one.text)) for one in every]


def answered(text: str, doubt: Doubt, choice: Choice) -> str:
    """keep.toml with an answer in it and the question struck out; all else as it was."""
    if choice.edit is not None:
        import tomlkit

        document = tomlkit.parse(text)
        choice.edit(document)
        text = tomlkit.dumps(document)
    lines = text.splitlines(keepends=True)
    return "".join(line for line in lines if line.removeprefix(QUESTION).strip() != doubt.text or not _asks(line))


def _asks(line: str) -> bool:
    return line.startswith(QUESTION)


def _alike(roles: Sequence[Finding]) -> Iterator[list[Finding]]:
    """Guesses about roles, those together that rest on the same, where they are many: nobody answers one thing twenty
    times."""
    together: dict[tuple[str, str], list[Finding]] = defaultdict(list)
    for item in roles:
        if item.sure is Sure.GUESS and item.role != "world":
            together[item.role, item.evidence].append(item)
    for items in together.values():
        yield from [items] if len(items) > MOST_ASKED_ALONE else ([item] for item in items)


MOST_ASKED_ALONE = 3


def _of_role(items: Sequence[Finding]) -> Doubt:
    """A guess about files, or several that are alike; the question names the first."""
    first, several = items[0], len(items) > 1

    def leave_out(document: TOMLDocument) -> None:
        _without(document["roles"], first.role, [item.glob for item in items])
        _tidy(document, first.role)

    no = f"no: leave {'them' if several else 'it'} unsorted, so that no wipe deletes {'them' if several else 'it'}"
    choices = (Choice("yes"), Choice(no, leave_out))
    more = f" and {len(items) - 1} more like it" if several else ""
    seen = tuple(item.glob for item in items) if several else (first.evidence,)
    text = f"is {first.glob}{more} {first.role}? {first.evidence}"
    return Doubt(text, seen, STAKES.get(first.role, ""), choices)


def _of_version(item: VersionFinding) -> Doubt:
    def forget(document: TOMLDocument) -> None:
        document["versions"].pop(item.name, None)
        if item.name == "engine" and "log" in document:
            document["log"].pop("version", None)

    text = f"is {item.version} the version of the {item.name}? {item.evidence}"
    stakes = "Updates and recipes go by it."
    return Doubt(text, (item.evidence,), stakes, (Choice("yes"), Choice("no: look for none", forget)))


def _of_line(line: LogLine) -> Doubt:
    def forget(document: TOMLDocument) -> None:
        document["log"].pop(line.kind, None)

    text = f"does the log line “{line.example}” mean {line.kind}? {line.evidence}"
    return Doubt(text, (line.example,), "Starts are followed by it.", (Choice("yes"), Choice("no", forget)))


def _of_world(world: WorldFinding) -> Iterator[Doubt]:
    if world.evidence and world.sure is Sure.GUESS:
        described = tuple(_described(one) for one in world.candidates)
        choices = [Choice(f"{one.at}", None if one.at == world.folder else _world_is(one)) for one in world.candidates]
        choices.append(Choice("none of these: no wipe clears any of them", _no_world))
        text = f"is {world.folder} the world? {world.evidence}"
        yield Doubt(text, described, STAKES["world"], tuple(choices))
    elif world.pointer_file and world.pointer_kept and world.pointer_sure is Sure.GUESS:

        def forget(document: TOMLDocument) -> None:
            document["world"].pop("pointer", None)

        text = f"does {world.pointer_key} in {world.pointer_file} say which world is played? {world.pointer_evidence}"
        stakes = "A run that lets it lead elsewhere is taken back."
        yield Doubt(text, (world.pointer_evidence,), stakes, (Choice("yes"), Choice("no", forget)))


def _described(one: WorldCandidate) -> str:
    written = datetime.fromtimestamp(one.newest_ns / 1e9, UTC)
    files = f"{one.files} file{'s' if one.files != 1 else ''}, {one.bytes / 1e6:.1f} MB"
    return f"{one.at}: {files}, last written {written:%Y-%m-%d %H:%M} UTC" + (f"; {one.reasons}" if one.reasons else "")


def _world_is(one: WorldCandidate) -> Edit:
    def edit(document: TOMLDocument) -> None:
        import tomlkit
        from tomlkit.items import Array

        _no_world(document)
        roles = document["roles"]
        glob = globs.escape(one.at) + ("" if one.is_file else "/**")
        held = roles.get("world")
        if not isinstance(held, Array):
            roles["world"] = tomlkit.array()
            held = roles["world"]
        held.insert(0, glob)
        scopes = document.get("scopes", {})
        if "map" in scopes:
            scopes["map"]["files"] = [f"world/{glob}"]
        world = tomlkit.table()
        if one.pointer:
            pointer = tomlkit.inline_table()
            pointer.update({"file": one.pointer[0], "key": one.pointer[1]})
            world["pointer"] = pointer
            document["world"] = world

    return edit


def _no_world(document: TOMLDocument) -> None:
    document.pop("world", None)


def _without(table: object, key: str, gone: Sequence[str]) -> None:
    """A list of keep.toml without some texts; its comments stay with what stays."""
    from tomlkit.items import Array

    held = table.get(key) if hasattr(table, "get") else None
    if isinstance(held, Array):
        for at in reversed(range(len(held))):
            if str(held[at]) in gone:
                held.pop(at)


def _tidy(document: TOMLDocument, role: str) -> None:
    """Take a role that no file has any more out, and the scope that would clear nothing else."""
    if document["roles"].get(role):
        return
    document["roles"].pop(role, None)
    scopes = document.get("scopes", {})
    for name in [name for name, scope in scopes.items() if dict(scope) == {"files": [role]}]:
        scopes.pop(name)


def _lacking(found: Adoption) -> Iterator[Doubt]:
    if not any(version.name == "engine" for version in found.versions):
        yield Doubt(
            "which version is the engine? no file name, version file or log line tells it",
            stakes="Updates and recipes go by it; 'emberkeep keep-toml versions' tells how to name where it stands. "
            "Of a game that tells none, only delete the question.",
        )
    if not found.world.evidence:
        yield Doubt(
            "where is the world? no tile files, no large save, no setting that names a folder",
            stakes="Landmarks and wipes go by it; 'emberkeep keep-toml roles' tells how to name its files.",
        )
    if found.log and not any(line.kind == "ready" for line in found.log.lines):
        yield Doubt(
            f"which line of {found.log.file} says that players can join? none stands out",
            stakes="Starts and drills wait for it; 'emberkeep keep-toml log' tells how to name it.",
        )
