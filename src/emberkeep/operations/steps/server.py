"""The server as a process, in runs and by itself: warned, stopped, started, followed until it is ready, measured."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace
from typing import Any

from emberkeep.callbacks import no_op
from emberkeep.errors import EmberKeepError, Place, RunFailed, first_of
from emberkeep.fs import metadata
from emberkeep.fs.folder_tree import FolderTree
from emberkeep.fs.trees import FILE
from emberkeep.inventory.extensions import read_manifest
from emberkeep.inventory.probe import FileProbe
from emberkeep.inventory.roles import Roles
from emberkeep.keep.keep import Keep
from emberkeep.keep.tables.process import Service
from emberkeep.migrating.chain import is_of
from emberkeep.operations.engine.step import Plan, RunContext, Step
from emberkeep.operations.record.starts import StartRecord, Starts
from emberkeep.process import lifecycle
from emberkeep.process.forecast import Forecast, forecast
from emberkeep.process.lifecycle import Hear, in_words
from emberkeep.process.signs import signs
from emberkeep.process.watch import Follower, Movement, State, Watch, Watched, last_start, world_folders
from emberkeep.survey import landmarks
from emberkeep.survey.landmarks import Measured, Missed

OnWatch = Callable[[str, Watched], None]


# --- stopping --------------------------------------------------------------------


class WarnStep(Step):
    """Tell the players, at the times of keep.toml."""

    name, title = "warn", "tell the players"

    def plan(self, context: RunContext) -> Plan:
        """When players are told; an obstacle where nobody would hear it."""
        stop = context.keep.config.running.stop
        console = context.keep.config.running.console
        if console is None or "say" not in console.phrases or not stop.tell:
            return Plan(notes=("keep.toml tells no way to talk to players, or no times ([stop] tell)",))
        times = f"{', '.join(map(in_words, stop.tell))} before it stops, if it runs"
        unheard = (
            lifecycle.unheard(context.keep.config, context.environment) if lifecycle.is_running(context.keep) else []
        )
        return Plan(notes=(times,), obstacles=tuple(unheard))

    def act(self, context: RunContext, plan: Plan) -> None:
        """Tell them, and wait until the last time has come; nothing where the server does not run."""
        if lifecycle.is_running(context.keep):
            lifecycle.warn(context.keep, context.environment, context.say)


class StopStep(Step):
    """Save, stop, and wait until the server has stopped."""

    name, title = "stop", "save, stop, and wait until the server is gone and its files are still"

    def plan(self, context: RunContext) -> Plan:
        """Whether it runs, and by which sign."""
        found = next(signs(context.keep.server, context.keep.config), None)
        return Plan(notes=(f"it is running: {found.words}" if found else "it is not running",))

    def act(self, context: RunContext, plan: Plan) -> None:
        """Stop it. RunFailed where it does not end in time."""
        stopped = lifecycle.stop(context.keep, context.environment, context.say)
        context.note(stopped=list(stopped.signs), forced=stopped.forced)
        context.findings.stopped = stopped


# --- starting ---------------------------------------------------------------------


class StartStep(Step):
    """Start the server, and follow it until it is ready. RunFailed when it does not become so, or where another version
    than ``only`` runs then ("" for any)."""

    name, title = "start", "start the server and follow its log until it is ready"
    whole = True

    def __init__(self, on_watch: OnWatch = no_op, only: str = "") -> None:
        self.on_watch, self.only = on_watch, only

    def plan(self, context: RunContext) -> Plan:
        """How it is started, for how long at most, and what would keep it from starting."""
        service = lifecycle.how_to_start(context.keep.config)
        notes = [f"{' '.join(service.command)}; ready within {in_words(service.limit)}"]
        notes += [f"before it: {other.name}" for other in context.keep.config.running.services]
        notes += _as_root(context.keep, service)
        expected = foreseen(context.keep)
        obstacles = lifecycle.obstacles(context.keep.config, context.folder, context.environment)
        return Plan(notes=(*notes, *([expected.words] if expected else [])), obstacles=tuple(obstacles))

    def act(self, context: RunContext, plan: Plan) -> None:
        """Start and follow it; taking the run back stops it first."""
        context.findings.on_back.append(lambda: _stop_ours(context))
        watched = start_and_watch(context, self.on_watch)
        context.findings.watched = watched
        context.note(state=str(watched.state), failures=list(watched.failures), errors=list(watched.errors))
        if watched.state is not State.READY:
            raise RunFailed(f"{unwell(watched)}", hint=f"what it printed is in {context.keep.output}")
        if self.only and (other := another_version(context.keep, watched, self.only)):
            raise RunFailed(other, hint="does the launch script execute the new program?")


def another_version(keep: Keep, watched: Watched, wanted: str) -> str:
    """What is wrong where the log of a start tells another version than the one that was to run; "" where nothing
    is."""
    if not watched.version or is_of(watched.version, wanted):
        return ""
    within = ", ".join(lifecycle.server_log(keep.config).within) or "what it prints"
    return f"{wanted} was to run, and the log ({within}) says {watched.version}"


def _as_root(keep: Keep, service: Service) -> list[str]:
    """What is to know where root starts the server of somebody else."""
    if not metadata.may_give_away() or service.user or not keep.server.is_dir():
        return []
    owner = keep.server.stat().st_uid
    return [f"it would run as root, and its folder is of user {owner}: [start] user tells who"] if owner else []


def unwell(watched: Watched) -> str:
    """Why a server did not become ready, in words."""
    last = f"; its last line was “{watched.last[:160]}”" if watched.last else "; it said nothing"
    first_error = f" ({watched.errors[-1][:160]})" if watched.errors and watched.errors[-1] not in last else ""
    what = {
        State.DIED: f"the server ended after {watched.seconds:.0f} s without being ready",
        State.LATE: f"the server was not ready after {watched.seconds:.0f} s",
        State.SILENT: f"nothing moved for {watched.still:.0f} s: the server hangs",
    }
    return what.get(watched.state, "the server is not ready") + first_error + last


def start_and_watch(context: RunContext, on_watch: OnWatch = no_op) -> Watched:
    """Start the server, or go on following one that runs already, and record how that went."""
    keep = context.keep
    began, world = context.clock(), world_bytes(keep)  # as it is before a conversion, which may make it larger
    if lifecycle.is_running(keep):
        watched = follow(keep, on_watch)
    else:
        pids = context.findings.pids

        def launched(pid: int) -> None:
            pids.append(pid)
            context.note(pids=pids)  # before anything else: whoever takes the run back must know what to end

        started = lifecycle.start(keep, context.environment, keep.output, Hear(launched, on_watch))
        failed = [start for start in started[:-1] if start.watched.state is not State.READY]
        watched = started[-1].watched
        if failed:
            watched = replace(
                watched, errors=(*(f"{one.name}: {unwell(one.watched)}" for one in failed), *watched.errors)
            )
    watched = replace(watched, failures=(*watched.failures, *_not_loaded(keep, watched)))
    record = StartRecord(began, watched.version, world, watched.seconds, watched.converted, str(watched.state))
    Starts(context.keep.folder).add(record, context.run.number or None)
    return watched


def follow(keep: Keep, on_watch: OnWatch = no_op) -> Watched:
    """Follow a server that runs already until it is ready; what its newest log tells so far counts."""
    log = lifecycle.server_log(keep.config)
    watched = last_start(keep.server, log)
    if watched.state is State.READY:
        return watched
    config = keep.config

    def pids() -> list[int]:
        return [sign.pid for sign in signs(keep.server, config) if sign.pid]

    service = lifecycle.how_to_start(config)
    follower = Follower(keep.server, log.within, behind=True)
    watch = Watch(log, service, follower, pids, Movement(keep.server, world_folders(config.roles), pids))
    watch.resume_from(watched)
    return watch.run(lambda now: on_watch("the server", now))


def _not_loaded(keep: Keep, watched: Watched) -> list[str]:
    """Installed extensions of which the log does not tell that they were loaded, nor that they failed."""
    if "loaded" not in keep.config.log.patterns or watched.state is not State.READY:
        return []
    loaded = {item.name.lower() for item in watched.loaded}
    failed = " ".join(watched.failures).lower()
    names = (item.name for item in installed(keep))
    return [
        f"{name} is installed, and the log does not tell of it"
        for name in names
        if name.lower() not in loaded and name.lower() not in failed
    ]


def installed(keep: Keep) -> list[Any]:
    """The extensions that stand in the server folder."""
    tree = FolderTree(keep.server)
    roles, look = Roles(keep.config.roles), FileProbe(tree, keep.server)
    paths = [path for path, entry in tree.entries().items() if entry.kind is FILE and roles.of(path) == "extensions"]
    return [found for path in paths if (found := read_manifest(look, path)) is not None]


def world_bytes(keep: Keep) -> int:
    """Bytes of the world's files."""
    if not keep.server.is_dir():
        return 0
    roles = Roles(keep.config.roles)
    return sum(entry.size for path, entry in FolderTree(keep.server).entries().items() if roles.of(path) == "world")


def foreseen(keep: Keep) -> Forecast | None:
    """How long a start, and a conversion, may take by what earlier ones took."""
    return forecast(Starts(keep.folder).all(), world_bytes(keep))


def _stop_ours(context: RunContext) -> None:
    """Stop what this run started, so that the folder can be put back. A server that this run began and that never
    became ready has no players; it may be ended when it does not listen."""
    pids = context.findings.pids or list(context.facts.get("pids", ()))
    if not lifecycle.is_running(context.keep):
        return
    context.say("stopping what was started")
    try:
        lifecycle.stop(context.keep, context.environment, context.say)
    except EmberKeepError:
        ready = context.findings.watched
        if not pids or (ready is not None and ready.state is State.READY):
            raise
        lifecycle.end(context.keep, pids)


# --- landmarks ----------------------------------------------------------------------


class MeasureStep(Step):
    """Measure the saves before they are changed."""

    name, title = "measure", "measure the landmarks"

    def plan(self, context: RunContext) -> Plan:
        """What is measured, over the planned folder."""
        measured = landmarks.measure(context.folder, context.keep.config)
        context.findings.measured = measured
        return Plan(notes=(measured.words,))


def _measured(context: RunContext) -> Measured:
    assert context.findings.measured is not None
    return context.findings.measured


class LandmarkStep(Step):
    """Compare the saves with what was measured. RunFailed when something is missed that nothing said would change."""

    name, title = "landmarks", "look for every landmark again"

    def __init__(self, allowed: Sequence[str] = (), *, planned: bool = False) -> None:
        self.allowed, self.planned = tuple(allowed), planned

    def plan(self, context: RunContext) -> Plan:
        """What may change; without a start, what would be missed."""
        note = f"may change, as the recipe says: {', '.join(self.allowed)}"
        if self.planned and not context.only_planned:
            return Plan()
        if self.planned:
            missed = landmarks.compare(
                _measured(context), landmarks.measure(context.folder, context.keep.config), self.allowed
            )
            return Plan(
                notes=(note,) if self.allowed else (), warnings=tuple(item.words for item in missed if not item.allowed)
            )
        return Plan(notes=(note,) if self.allowed else ())

    def act(self, context: RunContext, plan: Plan) -> None:
        """Measure the live folder again and compare."""
        before = _measured(context)
        after = landmarks.measure(FolderTree(context.keep.server), context.keep.config)
        missed = landmarks.compare(before, after, self.allowed)
        context.findings.missed = missed
        context.note(missed=[item.words for item in missed])
        lost = [item for item in missed if not item.allowed]
        if lost:
            raise RunFailed(
                f"{len(lost)} landmarks are missed: {named(lost)}",
                place=Place(str(context.keep.server)),
                hint="look at the report; with --stay nothing is taken back",
            )


def named(missed: Sequence[Missed]) -> str:
    """The first of what was missed, in words."""
    return first_of([item.words for item in missed], landmarks.MOST_NAMED, "; ")
