"""Wiping as a run: told, stopped, a snapshot that is read back, cleared, values set, started, looked at, announced."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping, Sequence
from contextlib import ExitStack, contextmanager
from dataclasses import dataclass, field
from datetime import datetime
from typing import TYPE_CHECKING, Any

from emberkeep.databases.access import access
from emberkeep.errors import Fault, Place, Refused, RunFailed
from emberkeep.fs import globs
from emberkeep.fs.folder_tree import FolderTree
from emberkeep.fs.overlay import Planned
from emberkeep.fs.trees import FILE, Tree, read
from emberkeep.inventory.roles import Roles, selection
from emberkeep.keep.config import Config
from emberkeep.keep.keep import Keep
from emberkeep.keep.locate import FILE as KEEP_FILE
from emberkeep.keep.tables.wiping import SetText
from emberkeep.operations.engine.kind import RunKind
from emberkeep.operations.engine.step import FileStep, Notes, Plan, Room, Step
from emberkeep.operations.record.facts import DONE
from emberkeep.operations.record.journal import Journal
from emberkeep.operations.steps.server import StartStep, StopStep, Told, WarnStep, deaf
from emberkeep.operations.steps.snapshot import SnapshotStep, unconfirmed
from emberkeep.process import announce, lifecycle
from emberkeep.process.announce import Message
from emberkeep.process.signs import matching
from emberkeep.process.watch import last_start
from emberkeep.store.intake import Progress, silent
from emberkeep.store.manifest import beside
from emberkeep.store.store import Store
from emberkeep.store.verify import verify
from emberkeep.wiping import leftovers, values
from emberkeep.wiping.identifiers import Known, canonical, known_people, people
from emberkeep.wiping.leftovers import Audit, Leftover
from emberkeep.wiping.results import Cleared, Deletion
from emberkeep.wiping.scopes import MADE, NONE, OF_EXTENSIONS, Clearing, scope_of
from emberkeep.wiping.values import Asked, Setting, Values, Wiped

if TYPE_CHECKING:
    from emberkeep.databases.mariadb import Connection

_WORD = re.compile(r"\w{3,}")


@dataclass(frozen=True)
class Request:
    """What a wipe is asked to do. ``values``: chosen once, so that preview, run and resuming agree; ``left``: the seed
    before it; ``lenient``: whether a scope may find nothing to clear; ``warn`` and ``start``: whether players are told
    first, and the server is started afterwards."""

    scopes: tuple[str, ...]
    values: Values
    texts: tuple[SetText, ...] = ()
    left: str = ""
    event: str = ""
    lenient: bool = False
    warn: bool = True
    start: bool = True

    @property
    def title(self) -> str:
        """It, in words."""
        return f"wipe {self.values.number} ({', '.join(self.scopes)})"


def request_of(
    keep: Keep,
    scopes: Sequence[str],
    now: datetime,
    *,
    asked: Asked | None = None,
    sets: Sequence[SetText] = (),
    event: str = "",
    lenient: bool = False,
    warn: bool = True,
    start: bool | None = None,
    live: FolderTree | None = None,
) -> Request:
    """A wipe of ``scopes``, with its values chosen. ``start``: None to start where keep.toml tells how; ``live``: the
    server folder, where it was scanned already."""
    for name in scopes:
        scope_of(keep.config, name)
    live = live or live_of(keep)
    chosen = values.choose(keep.config, live, scopes, wipes(Journal(keep.folder)), asked or Asked(), now)
    texts = values.texts_of(keep.config, chosen, scopes, sets)
    left = values.current(keep.config, live)[0]
    started = keep.config.running.start is not None if start is None else start
    return Request(tuple(scopes), chosen, tuple(texts), left, event, lenient, warn, started)


def live_of(keep: Keep) -> FolderTree:
    """The server folder as it is."""
    return FolderTree(keep.require_server(), "live")


def wipes(journal: Journal) -> list[Wiped]:
    """The wipes that were carried out and not taken back, oldest first."""
    done = [run for run in journal.runs() if run.kind == KIND.name and run.state == DONE]
    return [
        Wiped(run.begun, asked.values.seed, asked.left, asked.scopes, run.number)
        for run, asked in ((run, KIND.request_of(run)) for run in done)
    ]


# --- what it would do -----------------------------------------------------------------------


@dataclass(frozen=True)
class Preview:
    """What a wipe will do. ``audit``: what it would forget; ``questions``: unsorted files that mention players."""

    request: Request
    cleared: Cleared
    settings: tuple[Setting, ...]
    audit: Audit
    questions: tuple[Leftover, ...] = ()
    obstacles: tuple[Fault, ...] = ()
    """What would keep the server from being started again."""

    @property
    def told(self) -> dict[str, Any]:
        """What goes and what is set, as a later preview is compared with it."""
        return {
            "scopes": {
                one.scope: {
                    "files": list(one.files),
                    "records": {f"{gone.file}: {gone.at}": gone.count for gone in one.records},
                    "rows": {f"{gone.database}: {gone.table}": gone.count for gone in one.rows},
                }
                for one in self.cleared.scopes
            },
            "survives": dict(self.cleared.survives),
            "values": {f"{one.file}: {one.field}": [one.before, one.after] for one in self.settings},
        }


def preview(
    keep: Keep,
    request: Request,
    environment: Mapping[str, str],
    now: datetime,
    *,
    deep: bool = False,
    live: FolderTree | None = None,
    progress: Progress = silent,
) -> Preview:
    """What a wipe would do and forget. Writes nothing. ``deep``: look through tiles that stay, too."""
    live = live or live_of(keep)
    folder = Planned(live, int(now.timestamp()) * 1_000_000_000)
    known = known_of(keep, live)
    with served(keep) as there:
        cleared = clear(keep, folder, request, known, in_use=True, there=there)
        found = leftovers.audit(live, folder, keep.config, cleared, known, deep=deep, served=there, progress=progress)
    settings = values.set_all(folder, request.texts, request.values, environment)
    asked = tuple(item for item in found.forgotten if item.unsorted and not _answered(keep, item.path))
    starts = request.start and keep.config.running.start is not None
    obstacles = tuple(lifecycle.obstacles(keep.config, folder, environment)) if starts else ()
    obstacles = (*unconfirmed(keep.config, rests_on(keep.config, request.scopes)), *obstacles)
    return Preview(request, cleared, tuple(settings), found, asked, obstacles)


def clear(
    keep: Keep,
    folder: Planned,
    request: Request,
    known: Known,
    *,
    in_use: bool,
    there: Mapping[str, Connection] = NONE,
) -> Cleared:
    """Clear the scopes out of a planned folder. ``in_use``: a server may be using its databases; ``there``: the
    databases of servers, whose rows are counted."""
    return Clearing(
        folder, keep.config, request.scopes, known, lenient=request.lenient, in_use=in_use, served=there
    ).run()


@contextmanager
def served(keep: Keep) -> Iterator[Mapping[str, Connection]]:
    """Connections to all databases of servers, by what the keep calls them."""
    if not keep.config.databases.served:
        yield NONE
        return
    from emberkeep.databases.mariadb import Connection  # only where there are some

    with ExitStack() as stack:
        yield {one.name: stack.enter_context(Connection(access(keep, one))) for one in keep.config.databases.served}


def known_of(keep: Keep, tree: Tree) -> Known:
    """The players that are looked for. Names that the game's own files use as words of their own are left out."""
    told = people(tree, keep.config)
    return known_people(told, words_of_the_game(keep, tree, told))


def words_of_the_game(keep: Keep, tree: Tree, told: Mapping[str, str]) -> set[str]:
    """What people are called that stands in the game's own tables as well. ``told``: id -> name."""
    roles = Roles(keep.config.roles)
    names = {name for name in told.values() if name} | {ident for ident in told if not canonical(ident)}
    words: set[str] = set()
    for path, entry in tree.entries().items():
        if names and entry.kind is FILE and roles.of(path) == "economy" and entry.size < leftovers.LARGEST:
            words |= names.intersection(_WORD.findall(read(tree, path).decode("utf-8", "replace")))
    return words


def _answered(keep: Keep, path: str) -> bool:
    return globs.matches(path, keep.config.wiping.unsorted)


MOST_TOLD = 6


def differences(before: Mapping[str, Any], now: Mapping[str, Any]) -> list[str]:
    """What is otherwise than an earlier preview said, in words."""
    found = []
    for scope in sorted({*before["scopes"], *now["scopes"]}):
        was, there = before["scopes"].get(scope, {}), now["scopes"].get(scope, {})
        old, new = set(was.get("files", ())), set(there.get("files", ()))
        found += [f"{scope}: {path} would go now and would not before" for path in _some(new - old)]
        found += [f"{scope}: {path} would have gone and is not there now" for path in _some(old - new)]
        for what in ("records", "rows"):
            found += _changed(f"{scope}: ", was.get(what, {}), there.get(what, {}), f" {what}")
    found += _changed("survives: ", before["survives"], now["survives"], "")
    found += [
        f"{name} is {now['values'].get(name, ['nothing'])[0]} now, was {before['values'].get(name, ['nothing'])[0]}"
        for name in sorted({*before["values"], *now["values"]})
        if before["values"].get(name) != now["values"].get(name)
    ]
    return found


def _some(paths: set[str]) -> list[str]:
    more = [f"and {len(paths) - MOST_TOLD} more"] if len(paths) > MOST_TOLD else []
    return sorted(paths)[:MOST_TOLD] + more


def _changed(lead: str, was: Mapping[str, int], now: Mapping[str, int], what: str) -> list[str]:
    names = sorted({*was, *now})
    return [
        f"{lead}{name}: {now.get(name, 0)}{what}, {was.get(name, 0)} before"
        for name in names
        if was.get(name, 0) != now.get(name, 0)
    ]


# --- the steps --------------------------------------------------------------------------------


def steps(keep: Keep, store: Store, request: Request, told: Told = deaf) -> list[Step]:
    """The steps of a wipe."""
    scopes = ", ".join(request.scopes)
    found: list[Step] = [WarnStep()] if request.warn else []
    found += [
        StopStep(),
        SnapshotStep(
            f"before wipe {request.values.number}: {scopes}",
            KIND.name,
            pin=True,
            rests_on=rests_on(keep.config, request.scopes),
        ),
        VerifyStep(),
        FileStep("clear", f"clear {scopes}", _Clear(request)),
        *([RowsStep()] if _takes_rows(keep, request) else []),
        FileStep("values", "set the values of the new beginning", _Set(request)),
    ]
    if request.start:
        found += [StartStep(told), LookStep(request)]
    return [*found, AnnounceStep(request)]


def rests_on(config: Config, scopes: Sequence[str]) -> tuple[str, ...]:
    """The roles by which scopes are told what to clear."""
    picked = (told for name in scopes for told in scope_of(config, name).picked.files)
    return tuple(dict.fromkeys(told.partition("/")[0] for told in picked))


class VerifyStep(Step):
    """Nothing is deleted before its snapshot has been read back."""

    name, title = "verify", "read the snapshot back, every byte of it"

    def act(self, room: Room, plan: Plan) -> None:
        found = verify(room.store, room.run.before, progress=room.progress)
        if not found.sound:
            told = found.files[0].path if found.files else found.faults[0]
            raise RunFailed(
                f"the snapshot could not be read back ({told}), so nothing is cleared",
                place=Place(str(room.keep.store_folder)),
                hint="'emberkeep verify' tells more",
            )
        room.note(blocks=found.blocks, bytes=found.bytes)


class _Clear:
    def __init__(self, request: Request) -> None:
        self.request = request

    def __call__(self, room: Room) -> Notes:
        known = known_of(room.keep, room.folder)
        with served(room.keep) as there:
            cleared = clear(room.keep, room.folder, self.request, known, in_use=room.only_planned, there=there)
        room.findings.cleared = cleared
        room.findings.made = _definitions(room.keep, room.folder)
        return Notes(
            [
                f"{one.scope}: {len(one.files)} files, {sum(gone.count for gone in one.records)} records, "
                f"{sum(gone.count for gone in one.rows)} rows"
                for one in cleared.scopes
            ]
        )


def _cleared(room: Room) -> Cleared:
    """What the clearing planned, which every step behind it goes by."""
    assert room.findings.cleared is not None
    return room.findings.cleared


def _takes_rows(keep: Keep, request: Request) -> bool:
    """Whether a wipe may take rows out of a database of a server."""
    names = {one.name for one in keep.config.databases.served}
    return any(pick.database in names for name in request.scopes for pick in scope_of(keep.config, name).picked.rows)


class RowsStep(Step):
    """Take the rows out of databases of servers that the clearing counted: one transaction for each database."""

    name, title = "rows", "clear rows of databases"

    def plan(self, room: Room) -> Plan:
        deletions = _cleared(room).deletions
        touched = frozenset(beside(one.database) for one in deletions)
        return Plan(
            notes=tuple(f"{one.database}: {one.count} rows of {one.table}" for one in deletions), touched=touched
        )

    def act(self, room: Room, plan: Plan) -> None:
        with served(room.keep) as there:
            for name, connection in there.items():
                own = [one for one in _cleared(room).deletions if one.database == name]
                if own:
                    with connection.held(), connection.transaction():
                        for one in own:
                            _delete(connection, one)


def _delete(connection: Connection, one: Deletion) -> None:
    count = connection.execute(f"delete from {connection.quoted(one.table)} where {one.where}")
    if count != one.count:
        raise Refused(
            f"{count} rows of {one.table} would go now, {one.count} a moment ago: somebody writes to the database",
            place=Place(one.database),
            hint="stop whatever uses it, and begin again",
        )


def _definitions(keep: Keep, tree: Tree) -> dict[str, int]:
    """What was made by hand and must still be there after the start: sizes by path."""
    roles = Roles(keep.config.roles)
    of = {*MADE, *OF_EXTENSIONS} - {"engine"}
    return {path: entry.size for path, entry in tree.entries().items() if entry.kind is FILE and roles.of(path) in of}


class _Set:
    def __init__(self, request: Request) -> None:
        self.request = request

    def __call__(self, room: Room) -> Notes:
        found = values.set_all(room.folder, self.request.texts, self.request.values, room.environment)
        return Notes([words_of(one) for one in found])


def words_of(one: Setting) -> str:
    """A value that is set, in words; secrets stay unsaid."""
    if one.secret:
        return f"{one.file}: {one.field} is set to a secret"
    was = f" (was {one.before})" if one.before is not None else " (new)"
    return f"{one.file}: {one.field} = {one.after}" + (was if one.before != one.after else " (as before)")


class LookStep(Step):
    """After the start: the new seed, no players of before, and all that was made by hand."""

    name, title = "look", "check the seed, the players and what was made by hand"

    def __init__(self, request: Request) -> None:
        self.request = request

    def act(self, room: Room, plan: Plan) -> None:
        live = FolderTree(room.keep.server)
        lost = _lost(room, live)
        if lost:
            raise RunFailed(
                f"after the start these are gone or empty: {', '.join(lost[:4])}", place=Place(str(room.keep.server))
            )
        told = self._seed(room, live)
        waits = self._players(room, live)
        room.findings.looked, room.findings.waits = tuple(told), tuple(waits)
        room.note(looked=told, waits=waits)

    def _seed(self, room: Room, live: Tree) -> list[str]:
        wanted = self.request.values.seed
        if "map" not in self.request.scopes or not wanted:
            return []
        log = room.keep.config.log
        seen = room.findings.watched or last_start(room.keep.server, log)
        if seen.seed:
            if seen.seed != wanted:
                raise RunFailed(
                    f"the server began with the seed {seen.seed}, not {wanted}",
                    place=Place(str(next(iter(matching(room.keep.server, log.within)), ""))),
                )
            return [f"the log tells the seed {wanted}"]
        roles = Roles(room.keep.config.roles)
        named = [path for path in live.entries() if roles.of(path) == "world" and wanted in path]
        if named:
            return [f"{named[0]} carries the seed {wanted}"]
        return ["nothing in the log or the saves tells the seed; [log] seed would"]

    def _players(self, room: Room, live: Tree) -> list[str]:
        if "players" not in self.request.scopes:
            return []
        wanted = selection(
            scope_of(room.keep.config, "players").picked.files, room.keep.config.roles, room.keep.config.world.tiles
        )
        spared = room.findings.cleared
        before = {path for one in spared.scopes for path in one.files} if spared else set()
        left = [
            path for path, entry in live.entries().items() if entry.kind is FILE and wanted(path) and path in before
        ]
        return [f"{len(left)} players of before are there again: {', '.join(left[:3])}"] if left else []


def _lost(room: Room, live: Tree) -> list[str]:
    """What was made by hand and is gone or empty after the start."""
    before = room.findings.made
    there = live.entries()
    return [path for path, size in before.items() if path not in there or (size and not there[path].size)]


class AnnounceStep(Step):
    """Say that it is done; who cannot be told is reported, and holds nothing up."""

    name, title = "announce", "announce that it is done"

    def __init__(self, request: Request) -> None:
        self.request = request

    def plan(self, room: Room) -> Plan:
        told = room.keep.config.calendar.announcing
        ways = [
            *(["in the game"] if told.in_game and self.request.start else []),
            *([told.file] if told.file else []),
            *(f"webhook {hook.name}" for hook in told.webhooks),
        ]
        return Plan(notes=(", ".join(ways) or "keep.toml tells nobody to be told",))

    def act(self, room: Room, plan: Plan) -> None:
        template = room.keep.config.calendar.announcing.done
        name = self.request.event or f"Wipe {self.request.values.number}"
        message = Message(name, self.request.values.scopes, room.clock(), self.request.values.number)
        told = announce.announce(room.keep, room.environment, message, template, room.clock())
        failed = [one.words for one in told if one.why]
        room.findings.announced = told
        room.note(announced=[one.words for one in told], failed=failed)


# --- what it came to ----------------------------------------------------------------------------


@dataclass(frozen=True)
class Report:
    """What a wipe came to. ``since``: what went besides what the preview had said, as it came up while players were
    told; ``waits``: what wants the admin's eye."""

    run: int
    before: str
    cleared: Cleared
    looked: tuple[str, ...] = ()
    announced: tuple[str, ...] = ()
    since: tuple[str, ...] = ()
    waits: tuple[str, ...] = field(default=())


def report(room: Room, number: int, foreseen: Mapping[str, Any] | None = None) -> Report:
    """What the run in ``room`` came to. ``foreseen``: what its preview had said."""
    cleared = _cleared(room)
    announced = room.findings.announced
    waits = [*room.findings.waits, *(one.words for one in announced if one.why)]
    watched = room.findings.watched
    waits += [*watched.failures, *watched.errors] if watched is not None else []
    gone = {path for one in cleared.scopes for path in one.files}
    said = {path for one in (foreseen or {}).get("scopes", {}).values() for path in one["files"]}
    since = _some(gone - said) if foreseen else []
    return Report(
        number,
        room.run.before,
        cleared,
        room.findings.looked,
        tuple(one.words for one in announced),
        tuple(since),
        tuple(waits),
    )


def require_answers(found: Preview) -> None:
    """Refused while it is open what becomes of unsorted files that mention players."""
    if found.questions:
        names = ", ".join(item.path for item in found.questions[:4])
        raise Refused(
            f"no role covers {names}, and players who are wiped are mentioned there: is it cleared or kept?",
            hint=f"say --unsorted '{found.questions[0].path}=clear' or '=keep'; it is remembered in {KEEP_FILE}",
        )


KIND = RunKind("wipe", Request, title=lambda request: request.title, steps=steps)
