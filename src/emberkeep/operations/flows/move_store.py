"""Moving the snapshots of a keep, as a run: into a store that several keeps share, or back into one of its own.

The server folder is left alone. All is copied first, then the keep notes where its snapshots lie, and only then is
what lies at the old place deleted: stopped anywhere, each snapshot is whole at the one place that the keep knows.
"""

from __future__ import annotations

import os
import sys
from contextlib import ExitStack, closing, nullcontext, suppress
from dataclasses import dataclass, replace
from pathlib import Path

from emberkeep.errors import Place, Refused, reason
from emberkeep.fs import private, system, writing
from emberkeep.keep import edit
from emberkeep.keep.keep import Keep
from emberkeep.keep.locate import inside
from emberkeep.operations.engine.kind import RunKind
from emberkeep.operations.engine.step import Findings, Plan, RunContext, Step
from emberkeep.operations.record.facts import BEGUN, DONE, UNDONE
from emberkeep.operations.record.written import remember_written
from emberkeep.store.moving import Move, Moving, clear_own, remove_own
from emberkeep.store.shared import forget_share, free_name, is_anothers, note_owner, note_share, share_in, share_of
from emberkeep.store.store import KEEPS, Store


@dataclass(frozen=True)
class Request:
    """Where the snapshots are to lie, and where they lay: the folder of a shared store as the admin wrote it, "" for
    the keep's own; with the keep's name there, "" where it is yet to be found."""

    to: str = ""
    name: str = ""
    was: str = ""
    was_name: str = ""

    @property
    def back(self) -> Request:
        """The way back."""
        return Request(self.was, self.was_name, self.to, self.name)


def request_for(keep: Keep, to: str) -> Request | None:
    """A request to move the snapshots to ``to``; None where they lie there. Refused where they cannot."""
    share = share_of(keep)
    was, was_name = (share.setting, share.name) if share else ("", "")
    where = Path(inside(str(keep.folder), to)) if to else None
    if where == (share.folder if share else None):
        return None
    name = ""
    if where is not None:
        _check_folder(keep, where)
        name = free_name(where, keep)
    return Request(to, name, was, was_name)


def _check_folder(keep: Keep, folder: Path) -> None:
    """Refused where a folder is no good place for a shared store."""
    place = Place(str(folder))
    if folder == keep.server or keep.server in folder.parents or keep.folder in (folder, *folder.parents):
        raise Refused(
            "a shared store lies in a folder of its own, in no server folder and in no keep",
            place=place,
            hint="name another folder, as /srv/stores/NAME-OF-THE-GAME",
        )
    if not folder.exists():
        return
    if not folder.is_dir() or (any(folder.iterdir()) and not (folder / KEEPS).is_dir()):
        raise Refused("this is no shared store, and not empty", place=place, hint="name a new folder for it")
    if sys.platform != "win32" and folder.stat().st_uid != os.geteuid():
        raise Refused(
            "this shared store is another user's; whoever can read it can read every server in it",
            place=place,
            hint="only keeps of one user share a store; name a folder of your own",
        )


def _store(keep: Keep, setting: str, name: str) -> Store:
    if not setting:
        return Store(keep.store_folder)
    return Store(share_in(keep, setting, name).folder, member=name)


def _lie_at(keep: Keep, setting: str, name: str) -> bool:
    """Whether the snapshots of a keep lie there now."""
    share = share_of(keep)
    return (share.setting, share.name) == (setting, name) if share else not setting


class _MoveStep(Step):
    """A step of moving the snapshots."""

    def __init__(self, request: Request) -> None:
        self.request = request


class CopyStep(_MoveStep):
    """All copied, and the keep notes that, while nobody else may write to either store."""

    name, title = "copy", "copy every snapshot and recorded release"

    def plan(self, context: RunContext) -> Plan:
        """How many there are, and how much of them is not there yet; Refused where not all can be read. Asked once, for
        the preview: it takes a look at every manifest."""
        if not context.only_planned or _lie_at(context.keep, self.request.to, self.request.name):
            return Plan()
        with ExitStack() as stack:
            found = self._move(context, stack).foreseen()
        return Plan(notes=_words(found))

    def _move(self, context: RunContext, stack: ExitStack) -> Move:
        request = self.request
        if not _lie_at(context.keep, request.was, request.was_name):
            raise Refused(
                f"the snapshots of this keep do not lie in {request.was or 'a store of its own'} any more",
                place=Place(str(context.keep.folder)),
                hint="'emberkeep store' shows where they lie",
            )
        source = stack.enter_context(closing(_store(context.keep, request.was, request.was_name)))
        target = stack.enter_context(closing(_store(context.keep, request.to, request.name)))
        source.on_wait = target.on_wait = context.say
        return Move(source, target, context.progress)

    def act(self, context: RunContext, plan: Plan) -> None:
        """Copy, look through it, and have it count."""
        keep, request = context.keep, self.request
        if _lie_at(keep, request.to, request.name):
            self.passed(context)
            return
        with ExitStack() as stack:
            move = self._move(context, stack)
            if request.to:
                writing.make_folder(move.target.folder, private=True)
                private.close_to_others(move.target.folder)
            for store in sorted((move.source, move.target), key=lambda one: str(one.folder)):
                stack.enter_context(store.writing())  # in one order, so that of two moves none waits for the other
            if request.to and is_anothers(keep, share_in(keep, request.to, request.name)):
                raise Refused(
                    f"another keep took the name {request.name} in the shared store meanwhile",
                    place=Place(str(move.target.own)),
                    hint="run the same again",
                )
            clear_own(move.target)  # what an earlier move left there, which nobody knows any more
            if request.to:
                note_owner(move.target.own, keep)
            self.passed(context)
            move.carry_out()
            _sync_names(move.target.own)
            _note(keep, request)

    def passed(self, context: RunContext) -> None:
        """From here on there is something to take back."""
        context.findings.on_back.append(lambda: _take_back(context, self.request))


def _sync_names(folder: Path) -> None:
    """Have the disk keep the names of new folders before anything counts that lies there."""
    for path in (*folder.glob("*/"), folder, *folder.parents):
        with suppress(OSError):  # of folders above that may not be looked into
            system.io.sync_folder(path)


class ConfigStep(_MoveStep):
    """keep.toml changed, so that it says what is so."""

    name, title = "config", "say so in keep.toml"

    def plan(self, context: RunContext) -> Plan:
        """The line that is written."""
        to = self.request.to
        return Plan(notes=(f'[store] shared = "{to}"' if to else "[store] is taken out",))

    def act(self, context: RunContext, plan: Plan) -> None:
        """Write it, where it is not there."""
        _configure(context.keep, self.request.to)


class RemoveStep(_MoveStep):
    """What lies at the old place deleted."""

    name, title = "remove", "delete what lies at the old place"

    def plan(self, context: RunContext) -> Plan:
        """Where that is."""
        store = _store(context.keep, self.request.was, self.request.was_name)
        notes = (str(store.own),)
        shared = ("what only this keep needed of it goes with the next thinning there",) if self.request.was else ()
        return Plan(notes=notes + shared)

    def act(self, context: RunContext, plan: Plan) -> None:
        """Delete it; what cannot be deleted stays, and does no harm."""
        request = self.request
        try:
            _remove(context, request.was, request.was_name)
        except OSError as error:
            where = error.filename or request.was or context.keep.store_folder
            context.say(f"! {where} could not be deleted ({reason(error)}); delete it by hand")


def _remove(context: RunContext, setting: str, name: str) -> None:
    """Delete what the keep has in a store, while nobody thins it; never what another keep has there by now."""
    store = _store(context.keep, setting, name)
    store.on_wait = context.say
    if not store.own.is_dir():
        return
    with store.writing() if setting else nullcontext():
        if not setting or not is_anothers(context.keep, share_in(context.keep, setting, name)):
            remove_own(store)


def _words(found: Moving) -> tuple[str, ...]:
    releases = f" and {found.defaults} recorded releases" if found.defaults != 1 else " and one recorded release"
    snapshots = f"{found.snapshots} snapshots" if found.snapshots != 1 else "one snapshot"
    there = max(0, found.stored - found.copied) >> 20
    known = f"; {there} MB are there already" if there else ""
    copied = f"about {found.copied >> 20} MB" if found.copied >> 20 else "little or nothing"
    return f"{snapshots}{releases if found.defaults else ''}", f"{copied} to copy{known}"


def _note(keep: Keep, request: Request) -> None:
    """From here on the snapshots lie at the new place."""
    if request.to:
        note_share(keep, request.to, request.name)
    else:
        forget_share(keep)


def _configure(keep: Keep, to: str) -> None:
    now = Keep(keep.folder, keep.environment)
    if now.config.shared_store != to:
        edit.set_shared_store(now, to)
        remember_written(now)


def _take_back(context: RunContext, request: Request) -> None:
    """Have all be as before. What lies at the new place and does not count yet is only deleted; else all of it is moved
    back, whatever is left at the old place."""
    keep = context.keep
    if _lie_at(keep, request.was, request.was_name):
        _remove(context, request.to, request.name)
        _configure(keep, request.was)
        return
    apart = replace(context, findings=Findings())
    for step in steps(keep, context.store, request.back):
        step.act(apart, Plan())


def steps(keep: Keep, store: Store, request: Request) -> list[Step]:
    """The steps of moving the snapshots."""
    return [CopyStep(request), ConfigStep(request), RemoveStep(request)]


def undo(context: RunContext) -> None:
    """Take such a run back. Refused where the snapshots were moved again since."""
    run, journal = context.run, context.journal
    request = KIND.request_of(run)
    places = [(request.to, request.name)]
    if run.state == BEGUN:  # nothing of it may count yet
        places.append((request.was, request.was_name))
    if not any(_lie_at(context.keep, *place) for place in places):
        raise Refused(
            "the snapshots of this keep were moved again since",
            place=Place(str(context.keep.folder)),
            hint="undo the last of these runs first; 'emberkeep history' lists them",
        )
    if run.state == DONE:
        journal.change(replace(run, undoing=True))
        journal.end(run, BEGUN, context.clock())  # stopped from here on, it waits to be taken back wholly
    _take_back(context, request)
    journal.end(run, UNDONE, context.clock())


def _title(request: Request) -> str:
    return f"moving of the snapshots into {request.to}" if request.to else "moving of the snapshots into the keep"


KIND = RunKind("store", Request, title=_title, steps=steps, undo=undo, aside=True)
