"""Wiping as a run: told, stopped, a snapshot that is read back, cleared, values set, started, looked at, announced."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any

from emberkeep.callbacks import no_op
from emberkeep.errors import Place, Refused, RunFailed
from emberkeep.fs.folder_tree import FolderTree
from emberkeep.fs.trees import FILE, Tree
from emberkeep.inventory.roles import Roles, selection
from emberkeep.keep.keep import Keep
from emberkeep.operations.engine.kind import RunKind
from emberkeep.operations.engine.step import FileStep, Notes, Plan, RunContext, Step
from emberkeep.operations.flows.wipe_preview import NAME, Request, clear, known_of, rests_on, served, some_of
from emberkeep.operations.steps.server import OnWatch, StartStep, StopStep, WarnStep
from emberkeep.operations.steps.snapshot import SnapshotStep
from emberkeep.process import announce
from emberkeep.process.announce import Message
from emberkeep.process.signs import matching
from emberkeep.process.watch import last_start
from emberkeep.store.manifest import beside
from emberkeep.store.store import Store
from emberkeep.store.verify import verify
from emberkeep.wiping import values
from emberkeep.wiping.results import Deletion, WipeResult
from emberkeep.wiping.scopes import MADE, OF_EXTENSIONS, scope_of
from emberkeep.wiping.values import Setting

if TYPE_CHECKING:
    from emberkeep.databases.mariadb import Connection


# --- the steps --------------------------------------------------------------------------------


def steps(keep: Keep, store: Store, request: Request, on_watch: OnWatch = no_op) -> list[Step]:
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
        found += [StartStep(on_watch), LookStep(request)]
    return [*found, AnnounceStep(request)]


class VerifyStep(Step):
    """Nothing is deleted before its snapshot has been read back."""

    name, title = "verify", "read the snapshot back, every byte of it"

    def act(self, context: RunContext, plan: Plan) -> None:
        """Read every byte of the snapshot before. RunFailed where one is not what was stored."""
        found = verify(context.store, context.run.before, progress=context.progress)
        if not found.sound:
            first = found.files[0].path if found.files else found.faults[0]
            raise RunFailed(
                f"the snapshot could not be read back ({first}), so nothing is cleared",
                place=Place(str(context.keep.store_folder)),
                hint="'emberkeep verify' tells more",
            )
        context.note(blocks=found.blocks, bytes=found.bytes)


class _Clear:
    def __init__(self, request: Request) -> None:
        self.request = request

    def __call__(self, context: RunContext) -> Notes:
        known = known_of(context.keep, context.folder)
        with served(context.keep) as there:
            cleared = clear(context.keep, context.folder, self.request, known, in_use=context.only_planned, there=there)
        context.findings.cleared = cleared
        context.findings.made = _definitions(context.keep, context.folder)
        return Notes(
            [
                f"{one.scope}: {len(one.files)} files, {sum(gone.count for gone in one.records)} records, "
                f"{sum(gone.count for gone in one.rows)} rows"
                for one in cleared.scopes
            ]
        )


def _cleared(context: RunContext) -> WipeResult:
    """What the clearing planned, which every step behind it goes by."""
    assert context.findings.cleared is not None
    return context.findings.cleared


def _takes_rows(keep: Keep, request: Request) -> bool:
    """Whether a wipe may take rows out of a database of a server."""
    names = {one.name for one in keep.config.databases.served}
    return any(pick.database in names for name in request.scopes for pick in scope_of(keep.config, name).picked.rows)


class RowsStep(Step):
    """Take the rows out of databases of servers that the clearing counted: one transaction for each database."""

    name, title = "rows", "clear rows of databases"

    def plan(self, context: RunContext) -> Plan:
        """The rows that the clearing counted, by database and table."""
        deletions = _cleared(context).deletions
        touched = frozenset(beside(one.database) for one in deletions)
        return Plan(
            notes=tuple(f"{one.database}: {one.count} rows of {one.table}" for one in deletions), touched=touched
        )

    def act(self, context: RunContext, plan: Plan) -> None:
        """Delete the counted rows. Refused, and rolled back, where a table has another count by now."""
        with served(context.keep) as there:
            for name, connection in there.items():
                own = [one for one in _cleared(context).deletions if one.database == name]
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

    def __call__(self, context: RunContext) -> Notes:
        found = values.set_all(context.folder, self.request.texts, self.request.values, context.environment)
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

    def act(self, context: RunContext, plan: Plan) -> None:
        """Look at the live folder. RunFailed where what was made by hand is gone, or the seed is not the one set."""
        live = FolderTree(context.keep.server)
        lost = _lost(context, live)
        if lost:
            raise RunFailed(
                f"after the start these are gone or empty: {', '.join(lost[:4])}",
                place=Place(str(context.keep.server)),
                hint="'emberkeep undo --go' brings back what stood there before",
            )
        notes = self._seed(context, live)
        waits = self._players(context, live)
        context.findings.looked, context.findings.waits = tuple(notes), tuple(waits)
        context.note(looked=notes, waits=waits)

    def _seed(self, context: RunContext, live: Tree) -> list[str]:
        wanted = self.request.values.seed
        if "map" not in self.request.scopes or not wanted:
            return []
        log = context.keep.config.log
        watched = context.findings.watched or last_start(context.keep.server, log)
        if watched.seed:
            if watched.seed != wanted:
                raise RunFailed(
                    f"the server began with the seed {watched.seed}, not {wanted}",
                    place=Place(str(next(iter(matching(context.keep.server, log.within)), ""))),
                    hint="see where [launch] says that the seed stands",
                )
            return [f"the log tells the seed {wanted}"]
        roles = Roles(context.keep.config.roles)
        named = [path for path in live.entries() if roles.of(path) == "world" and wanted in path]
        if named:
            return [f"{named[0]} carries the seed {wanted}"]
        return ["nothing in the log or the saves tells the seed; [log] seed would"]

    def _players(self, context: RunContext, live: Tree) -> list[str]:
        if "players" not in self.request.scopes:
            return []
        wanted = selection(
            scope_of(context.keep.config, "players").picked.files,
            context.keep.config.roles,
            context.keep.config.world.tiles,
        )
        spared = context.findings.cleared
        before = {path for one in spared.scopes for path in one.files} if spared else set()
        left = [
            path for path, entry in live.entries().items() if entry.kind is FILE and wanted(path) and path in before
        ]
        return [f"{len(left)} players of before are there again: {', '.join(left[:3])}"] if left else []


def _lost(context: RunContext, live: Tree) -> list[str]:
    """What was made by hand and is gone or empty after the start."""
    before = context.findings.made
    there = live.entries()
    return [path for path, size in before.items() if path not in there or (size and not there[path].size)]


class AnnounceStep(Step):
    """Say that it is done; who cannot be told is reported, and holds nothing up."""

    name, title = "announce", "announce that it is done"

    def __init__(self, request: Request) -> None:
        self.request = request

    def plan(self, context: RunContext) -> Plan:
        """Who is told, and how."""
        announcing = context.keep.config.calendar.announcing
        ways = [
            *(["in the game"] if announcing.in_game and self.request.start else []),
            *([announcing.file] if announcing.file else []),
            *(f"webhook {hook.name}" for hook in announcing.webhooks),
        ]
        return Plan(notes=(", ".join(ways) or "keep.toml tells nobody to be told",))

    def act(self, context: RunContext, plan: Plan) -> None:
        """Tell it every way that keep.toml knows; failures are noted."""
        template = context.keep.config.calendar.announcing.done
        name = self.request.event or f"Wipe {self.request.values.number}"
        message = Message(name, self.request.values.scopes, context.clock(), self.request.values.number)
        ways = announce.announce(context.keep, context.environment, message, template, context.clock())
        failed = [one.words for one in ways if one.why]
        context.findings.announced = ways
        context.note(announced=[one.words for one in ways], failed=failed)


# --- what it came to ----------------------------------------------------------------------------


@dataclass(frozen=True)
class Report:
    """What a wipe came to. ``since``: what went besides what the preview had said, as it came up while players were
    told; ``waits``: what wants the admin's eye."""

    run: int
    before: str
    cleared: WipeResult
    looked: tuple[str, ...] = ()
    announced: tuple[str, ...] = ()
    since: tuple[str, ...] = ()
    waits: tuple[str, ...] = field(default=())


def report(context: RunContext, number: int, foreseen: Mapping[str, Any] | None = None) -> Report:
    """What the run in ``context`` came to. ``foreseen``: what its preview had said."""
    cleared = _cleared(context)
    announced = context.findings.announced
    waits = [*context.findings.waits, *(one.words for one in announced if one.why)]
    watched = context.findings.watched
    waits += [*watched.failures, *watched.errors] if watched is not None else []
    gone = {path for one in cleared.scopes for path in one.files}
    said = {path for one in (foreseen or {}).get("scopes", {}).values() for path in one["files"]}
    since = some_of(gone - said) if foreseen else []
    return Report(
        number,
        context.run.before,
        cleared,
        context.findings.looked,
        tuple(one.words for one in announced),
        tuple(since),
        tuple(waits),
    )


KIND = RunKind(NAME, Request, title=lambda request: request.title, steps=steps)
