"""Carrying a server's own files from one install into another beside it: copied, never moved, and never the engine."""

from __future__ import annotations

import os
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from emberkeep.detection import launch
from emberkeep.documents.encoding import decode
from emberkeep.errors import Fault, Refused, RunFailed, UnreadableInput, UsageError
from emberkeep.fs.folder_tree import FolderTree
from emberkeep.fs.overlay import Overlay
from emberkeep.fs.trees import FILE, FOLDER, NoTree, Tree, digest_of, file_chunks, read, whole
from emberkeep.inventory.roles import MERGED, Roles
from emberkeep.inventory.versions import ordering
from emberkeep.keep.config import Config
from emberkeep.keep.edit import make_like
from emberkeep.keep.keep import Keep, beside
from emberkeep.keep.locate import FILE as KEEP_FILE
from emberkeep.keep.tables.server import UNSORTED
from emberkeep.merging.answers import GIVEN, Answer, Answers
from emberkeep.merging.merge import merge_trees
from emberkeep.merging.results import LINES, MINE, RECORD, Merge, Outcome, Question
from emberkeep.operations.engine.kind import RunKind, Saves
from emberkeep.operations.engine.step import FileStep, Notes, Plan, RunContext, Step
from emberkeep.operations.flows import migrate
from emberkeep.operations.record import defaults
from emberkeep.operations.steps.merge import Once, into, stands
from emberkeep.operations.steps.snapshot import SnapshotStep, unconfirmed
from emberkeep.process.signs import signs
from emberkeep.store.shared import store_of
from emberkeep.store.store import Store
from emberkeep.survey import landmarks

CARRIED = ("world", "players", "progress", "access", "extensions", "extension-data", "databases", UNSORTED)
STAYING = ("engine", "logs", "scratch")
FRESH = ("world", "players", "progress")
"""Roles of which a fresh install's own files make place."""
MOST_SAID = 24
"""Differences that a preview names."""
SHORT = 60
"""Characters of a value that are shown."""
RESTS_ON = (*STAYING, *FRESH)
"""Roles on which something is left behind or deleted."""


@dataclass(frozen=True)
class Request:
    """From which folder to which. ``base``: the release whose defaults the old files began from, None to go without;
    ``answers``: which of two values holds; ``mine``: that OLD's does where no answer says."""

    old: Path
    new: Path
    base: str | None = None
    answers: tuple[Answer, ...] = ()
    mine: bool = False


def require_apart(request: Request, config: Config) -> tuple[str, str]:
    """The versions of both, "" where nothing tells. Refused when they are the same folder, one lies in the other,
    either runs, or they are swapped: the old one newer than the new one."""
    old, new = (Path(os.path.realpath(folder)) for folder in (request.old, request.new))
    for folder in (old, new):
        if not folder.is_dir():
            raise UsageError(f"{folder} is no folder")
    if old == new or old in new.parents or new in old.parents:
        raise Refused(
            f"{request.old} and {request.new} are not two folders beside each other",
            hint="name two installs that lie side by side",
        )
    for folder, what in ((old, "it would write while it is copied"), (new, "it would write over what is carried")):
        sign = next(signs(folder, None), None)
        if sign is not None:
            raise Refused(f"the server in {folder} is running ({sign.words}); {what}", hint="stop it, and try again")
    before, after = _version(config, old), _version(config, new)
    if before and after and ordering(before) > ordering(after):
        raise Refused(
            f"{request.old} is {before} and {request.new} is {after}: are they swapped?",
            hint="name the folder that files come from first; a downgrade ruins the world",
        )
    return before, after


def _version(config: Config, folder: Path) -> str:
    """The engine's version in a folder, "" where nothing tells it."""
    try:
        return migrate.engine_version(config, FolderTree(folder))
    except Refused:
        return ""


def keep_for(new: Path, old: Keep, *, make: bool) -> Keep:
    """The keep of the new folder: what it has, else one like the old folder's, made only when ``make``."""
    folder = beside(new)
    if (folder / KEEP_FILE).is_file():
        return Keep(folder, old.environment)
    if not make:
        shown = Keep(old.folder, old.environment)
        shown.server = new
        return shown
    guesses = tuple(unconfirmed(old.config, RESTS_ON))
    if guesses:  # before there is a keep that holds the same questions
        raise Refused.gathered(guesses)
    return make_like(old, folder, new)


def steps(keep: Keep, store: Store, request: Request) -> list[Step]:
    """The steps of carrying."""
    return [
        SnapshotStep("before carrying", KIND.name, rests_on=RESTS_ON),
        FileStep("carry", f"bring what is {request.old.name}'s own", _Carry(request, base_of(request, keep, store))),
        VerifyStep(request),
        SeedStep(request),
    ]


def base_of(request: Request, keep: Keep, store: Store) -> Tree | None:
    """The recorded defaults that the old files began from: of the new folder's keep, else of the old one's."""
    if request.base is None:
        return None
    if request.base in store.versions():
        return defaults.tree_of(store, request.base)
    other = beside(request.old)
    if (other / KEEP_FILE).is_file():
        return defaults.tree_of(store_of(Keep(other)), request.base)
    return None


@dataclass
class _Carry:
    """What is the old folder's own goes into the planned new one, by role."""

    request: Request
    base: Tree | None
    once: Once = field(default_factory=Once)

    def __call__(self, context: RunContext) -> Notes:
        folder, old = context.folder, whole(FolderTree(self.request.old, str(self.request.old)))
        roles = Roles(context.keep.config.roles)
        notes = Notes()
        by_role: dict[str, list[str]] = {}
        for path, entry in old.entries().items():
            if entry.kind is not FOLDER:
                by_role.setdefault(roles.of(path), []).append(path)
        _make_place(folder, old, roles, notes)
        differing = []
        for role in CARRIED:
            for path in by_role.get(role, ()):
                if path in folder.entries() and folder.entries()[path].kind is FILE:
                    differing += [path] if folder.digest(path) != old.digest(path) else []
                folder.take(path, old)
        _empty_folders(folder, old, roles)
        notes.lines.append("comes along: " + _counted(by_role, CARRIED))
        if staying := _counted(by_role, STAYING):
            notes.lines.append(f"stays: {staying}")
        if by_role.get(UNSORTED):
            some = ", ".join(by_role[UNSORTED][:4])
            notes.warnings.append(f"unsorted, and carried along: {some}" + (" …" if len(by_role[UNSORTED]) > 4 else ""))
        if differing:
            notes.warnings.append(f"in both and different, the old one's is taken: {', '.join(differing[:4])}")
        notes.lines += self._merge(context, notes, [path for role in MERGED for path in by_role.get(role, ())])
        return notes

    def _merge(self, context: RunContext, notes: Notes, paths: list[str]) -> list[str]:
        """Settings, economy and scripts: what the fresh install ships is brought into the old, edited files."""
        folder = context.folder
        fresh, old = folder.base, _relaunched(whole(FolderTree(self.request.old)), folder.base, context.keep.config)
        both = [path for path in paths if path in folder.entries()]
        for path in paths:
            if path not in folder.entries():
                folder.take(path, old)
        merged = self.once.of(
            (both, stands((self.base or NoTree(), fresh, old), both)),
            lambda: _merged(self.request, context.keep.config, self.base, fresh, old, both),
        )
        if merged.faults:
            raise UnreadableInput.gathered(merged.faults)
        for item in merged.files:
            if item.outcome is Outcome.SAME and item.path in old.entries():
                folder.take(item.path, old)
        into(folder, merged)
        context.findings.merge = merged
        taken = sum(len(item.taken) for item in merged.files)
        how = "with the defaults they began from" if self.base else "two-way, as their old defaults are not recorded"
        if merged.open:
            notes.obstacles.append(_undecided(merged.open))
        said = [_said(question) for question in merged.open[:MOST_SAID]]
        if len(merged.open) > MOST_SAID:
            said.append(f"and {len(merged.open) - MOST_SAID} more: --questions FILE writes all of them down")
        return [f"merged by key {how}: {len(both)} files, {taken} of the new release's changes taken", *said]


def merged(request: Request, config: Config, base: Tree | None) -> Merge:
    """The merge that a carrying makes, with its open questions."""
    fresh = whole(FolderTree(request.new))
    old = _relaunched(whole(FolderTree(request.old)), fresh, config)
    roles, there = Roles(config.roles), fresh.entries()
    both = [path for path in old.entries() if path in there and roles.of(path) in MERGED]
    return _merged(request, config, base, fresh, old, both)


def require_decided(request: Request, config: Config, base: Tree | None) -> None:
    """Refused while nobody has said which of two values holds."""
    found = merged(request, config, base)
    if found.open:
        raise Refused.gathered((_undecided(found.open),))


def _merged(request: Request, config: Config, base: Tree | None, fresh: Tree, old: Tree, paths: Sequence[str]) -> Merge:
    answers = Answers.of((GIVEN, request.answers))

    def resolve(question: Question) -> tuple[str, str]:
        answer, by = answers.resolve(question)
        return (MINE, "--mine") if not answer and request.mine else (answer, by)

    return merge_trees(base or NoTree(), fresh, old, paths, rules=config.record_rules, resolve=resolve)


def _relaunched(old: Tree, fresh: Tree, config: Config) -> Tree:
    """The old install, whose launch script names the fresh one's program where its own does not come along."""
    script = config.launch.script
    if script not in old.entries() or script not in fresh.entries():
        return old
    gone = [path for path in launch.programs_of(old, script) if path not in fresh.entries()]
    theirs = launch.programs_of(fresh, script)
    source = decode(read(old, script))
    if not gone or not theirs or source is None:
        return old
    planned = Overlay(old, old.entries()[script].mtime_ns)
    planned.write(script, source.encode(launch.renamed(source.text, dict.fromkeys(gone, theirs[0]))))
    return planned


def _said(question: Question) -> str:
    what = question.record if question.field in (RECORD, LINES) else f"{question.record} {question.field}".strip()
    old, new = (value if value is not None else "nothing" for value in (question.mine, question.new))
    return f"both differ: {question.file}: {what}: OLD says {_short(old)}, NEW says {_short(new)}"


def _short(text: str) -> str:
    first = text.strip().split("\n", 1)[0]
    return first if len(first) <= SHORT else f"{first[:SHORT]} …"


def _undecided(asked: Sequence[Question]) -> Fault:
    one = "one value differs" if len(asked) == 1 else f"{len(asked)} values differ"
    return Fault(
        f"{one} between OLD and NEW, and nobody said which holds",
        hint="--ask puts them to you; --questions FILE writes them down and --answers FILE brings them back; "
        "--mine takes OLD's for all",
    )


def _make_place(folder: Overlay, old: Tree, roles: Roles, notes: Notes) -> None:
    """The fresh install's own world goes, so that the two do not mix; it is in the snapshot."""
    fresh = [
        path
        for path, entry in folder.entries().items()
        if entry.kind is not FOLDER and roles.of(path) in FRESH and path not in old.entries()
    ]
    for path in fresh:
        folder.remove(path)
    folder.remove_emptied(fresh, lambda path: path not in old.entries())
    if fresh:
        notes.lines.append(f"the fresh install's own world makes place: {len(fresh)} files, kept in the snapshot")


def _empty_folders(folder: Overlay, old: Tree, roles: Roles) -> None:
    """Empty folders come along, and folders keep their modes."""
    filled = {path.rpartition("/")[0] for path in old.entries()}
    for path, entry in old.entries().items():
        is_empty = entry.kind is FOLDER and path not in filled and path not in folder.entries()
        if is_empty and roles.of(path) not in STAYING:
            folder.take(path, old)


def _counted(by_role: Mapping[str, list[str]], wanted: tuple[str, ...]) -> str:
    return ", ".join(f"{len(by_role[role])} {role}" for role in wanted if by_role.get(role))


class VerifyStep(Step):
    """Every file that was carried is read again on both sides and compared by its hash."""

    name, title = "verify", "read every carried file again on both sides, and compare"

    def __init__(self, request: Request) -> None:
        self.request = request

    def act(self, context: RunContext, plan: Plan) -> None:
        """Read what was carried on both sides. RunFailed where a byte differs."""
        old, roles = whole(FolderTree(self.request.old)), Roles(context.keep.config.roles)
        differing, count, done = [], 0, 0
        total = sum(entry.size for entry in old.entries().values())
        for path, entry in old.entries().items():
            if entry.kind is not FILE or roles.of(path) not in CARRIED:
                continue
            count += 1
            there = context.keep.server / path
            if not there.is_file() or digest_of(file_chunks(there)) != old.digest(path):
                differing.append(path)
            done += entry.size
            context.progress(done, total)
        context.note(verified=count)
        context.findings.verified = count
        if differing:
            raise RunFailed(
                f"{len(differing)} carried files are not what they were: {', '.join(differing[:5])}",
                hint="look at the disk; 'emberkeep undo --go' takes the run back",
            )


class SeedStep(Step):
    """Seed, size and world pointer are those of the old install, in settings and launch script."""

    name, title = "guard", "check that seed, size, world pointer and save numbers are as they must be"

    def __init__(self, request: Request) -> None:
        self.request = request

    def plan(self, context: RunContext) -> Plan:
        """Refused where seed, size or world pointer would not be those of the old install."""
        config = context.keep.config
        before = landmarks.measure_facts(FolderTree(self.request.old), config)
        migrate.check_facts(before, context.folder, config)
        notes = [f"{name} {value}" for name, value in before.items()]
        warnings = []
        try:
            notes.append(migrate.check_number(config, context.folder))
        except Refused as error:
            if "goes back" in str(error):
                raise
            warnings.append(f"{error}; 'emberkeep migrate' comes next")
        return Plan(notes=tuple(notes), warnings=tuple(warnings))


def _from_earlier(request: Mapping[str, Any]) -> Mapping[str, Any]:
    """One that was begun before anybody was asked takes OLD's values."""
    return {"mine": True, **request}


KIND = RunKind(
    "carry",
    Request,
    title=lambda request: f"carrying from {request.old.name}",
    steps=steps,
    from_earlier=_from_earlier,
    saves=Saves.REPLACED,
)
