"""What is due, done: exactly once, by one process at a time, under the conditions that keep.toml sets.

An occurrence is acquired in the journal before anything is done about it; whoever acquires it second, or comes by again
after a crash, finds it claimed and leaves it alone. A wipe that was broken off stays to be resumed or taken back.
"""

from __future__ import annotations

import os
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, replace
from datetime import datetime, timedelta
from pathlib import Path

from emberkeep.errors import EmberKeepError, Place, Refused, UsageError, did_you_mean, reason
from emberkeep.fs import private
from emberkeep.keep.keep import Keep
from emberkeep.keep.locate import FILE as KEEP_FILE
from emberkeep.keep.tables.schedule import ANY, Alarm, Event
from emberkeep.operations.engine.runner import carried_out
from emberkeep.operations.engine.step import RunContext
from emberkeep.operations.flows import migrate, update, update_request, wipe, wipe_preview
from emberkeep.operations.record import snapshot
from emberkeep.operations.record.due import FAILED, MISSED, WAITS, DueRecords
from emberkeep.operations.record.facts import BEGUN, DONE, Run
from emberkeep.operations.record.journal import Journal
from emberkeep.operations.upkeep import thin
from emberkeep.process import announce
from emberkeep.process.announce import Message, Told
from emberkeep.process.lifecycle import is_running
from emberkeep.process.signs import matching
from emberkeep.schedule.attendance import online
from emberkeep.schedule.calendar import Occurrence
from emberkeep.schedule.duties import Duty, Verdict, duties
from emberkeep.store.shared import store_of
from emberkeep.store.store import Store
from emberkeep.store.verify import verify
from emberkeep.wiping.values import Asked

WHY = "calendar"
LOCK = "due.lock"
PARTLY = "told, but not everywhere"
BROKEN_OFF = "it was broken off while it was done; 'emberkeep due --run \"{0}\" --go' does it again, --drop leaves it"
OPEN = "done, and something is open"
_KNOWN = "known since"
MOST_OF_A_LOG = 64 << 20


@dataclass(frozen=True)
class DueOutcome:
    """What came of something that was due. ``state``: due, not yet, told or :data:`PARTLY`, done or
    :data:`OPEN`, failed, missed or waits; ``words``: in words."""

    event: str
    kind: str
    at: datetime
    part: str
    state: str
    words: str = ""


@dataclass(frozen=True)
class Hands:
    """What is needed to do things: a context for a run, and the clock and environment."""

    context: Callable[[Store, Run], RunContext]
    clock: Callable[[], datetime]
    environment: Mapping[str, str]


def what_is_due(keep: Keep, now: datetime) -> list[DueOutcome]:
    """What would be done now. Writes nothing."""
    found = []
    for duty in _duties(keep, DueRecords(keep.folder), now):
        why = why_not_yet(keep, duty.occurrence.event) if duty.verdict is Verdict.DO else ""
        state = "not yet" if why else {Verdict.DO: "due", Verdict.TELL: "due"}.get(duty.verdict, str(duty.verdict))
        found.append(_outcome(duty, state, why or duty.why))
    return found


def waiting(keep: Keep) -> list[str]:
    """Events that wait for the admin's word, and such as were broken off while they were done, in words."""
    found = [came for came in DueRecords(keep.folder).all() if came.state in (WAITS, BEGUN) and not came.part]
    if not found or _at_work(keep):
        return []
    return [f"{came.event} of {came.planned}: {came.said or BROKEN_OFF.format(came.event)}" for came in found]


def _at_work(keep: Keep) -> bool:
    """Whether a process does what is due right now."""
    try:
        with exclusive_lock(keep):
            return False
    except Refused:
        return True


def do(keep: Keep, hands: Hands) -> list[DueOutcome]:
    """Do what is due. Refused while another process does."""
    with exclusive_lock(keep):
        records = DueRecords(keep.folder)
        _know(keep, records, hands.clock())
        found = []
        for duty in _duties(keep, records, hands.clock()):
            came = _deal(keep, records, duty, hands)
            found += [came] if came is not None else []
        records.passed(hands.clock())
        return found


def notify(keep: Keep, found: Sequence[DueOutcome], environment: Mapping[str, str]) -> tuple[Told, ...]:
    """Notify those that keep.toml names of what failed, was missed or waits; and who waits for a ping that this ran."""
    if keep.config.calendar.alarm == Alarm():
        return ()
    from emberkeep.process import alarm  # only where somebody is named: sending mail takes its time to load

    bad = [came for came in found if came.state in (FAILED, WAITS, MISSED)]
    lines = [f"{came.event}: {came.state}. {came.words}".rstrip() for came in bad]
    notified = alarm.notify(keep, environment, f"{keep.config.name}: " + "; ".join(lines)) if bad else ()
    ping = alarm.ping(keep, environment)
    return (*notified, ping) if ping is not None else notified


def _outcome(duty: Duty, state: str, words: str = "") -> DueOutcome:
    one = duty.occurrence
    return DueOutcome(one.event.name, one.event.kind, one.at, duty.part, state, words)


@contextmanager
def exclusive_lock(keep: Keep) -> Iterator[None]:
    """The one process that does what is due."""
    place = Place(str(keep.folder))
    with private.exclusive_lock(
        keep.folder / LOCK,
        lambda: Refused("another 'emberkeep due' is at work", place=place, hint="it will do what is due"),
    ):
        yield


# --- what counts -----------------------------------------------------------------------------


def signature(event: Event) -> str:
    """What tells an event with another rhythm from the one that was known."""
    return f"{event.recurrence} {event.beside} {event.zone} {event.kind}"


def _know(keep: Keep, records: DueRecords, now: datetime) -> None:
    """Note from when on events count: one that was just written into keep.toml is not late."""
    known = {(one.event, one.planned) for one in records.all() if one.part == _KNOWN}
    new = [event for event in keep.config.calendar.events if (event.name, signature(event)) not in known]
    for event in new:
        records.acquire(event.name, signature(event), _KNOWN, DONE, now)


def _duties(keep: Keep, records: DueRecords, now: datetime) -> list[Duty]:
    came = records.all()
    known = {(one.event, one.planned): one.begun for one in came if one.part == _KNOWN}
    since = {event.name: known.get((event.name, signature(event)), now) for event in keep.config.calendar.events}
    return duties(keep.config, {(one.event, one.planned, one.part): one.state for one in came}, since, now)


def why_not_yet(keep: Keep, event: Event) -> str:
    """Why it cannot be done now, in words; "" when it can."""
    run = Journal(keep.folder).waiting()
    if run is not None:
        return f"run {run.number} ({run.words}) was interrupted and waits"
    if event.only_if and (event.only_if == "running") != is_running(keep):
        return f"only if the server is {event.only_if}"
    if event.players_at_most is None:
        return ""
    count = players_online(keep)
    if count is None:
        return f"nothing tells how many players are there ([log] joined and left in {KEEP_FILE})"
    return f"{count} players are there, {event.players_at_most} at most" if count > event.players_at_most else ""


def players_online(keep: Keep) -> int | None:
    """How many players are there; None where nothing tells."""
    if not is_running(keep):
        return 0
    paths = matching(keep.server, keep.config.log.within)
    if not paths:
        return None
    newest = max(paths, key=lambda path: path.stat().st_mtime_ns)
    with newest.open("rb") as handle:
        handle.seek(max(0, newest.stat().st_size - MOST_OF_A_LOG))
        return online(handle.read().decode("utf-8", "replace").splitlines(), keep.config)


# --- dealing with one -----------------------------------------------------------------------------


def _deal(keep: Keep, records: DueRecords, duty: Duty, hands: Hands) -> DueOutcome | None:
    """Deal with something that is due; None when somebody else has."""
    now = hands.clock()
    if duty.verdict is Verdict.PASSED:
        records.acquire(*duty.key, DONE, now, duty.why)
        return None
    if duty.verdict is Verdict.MISSED:
        return _outcome(duty, MISSED, duty.why) if records.acquire(*duty.key, MISSED, now, duty.why) else None
    if duty.verdict is Verdict.ASK:
        words = f"{duty.why}; 'emberkeep due --run \"{duty.occurrence.event.name}\" --go' does it, --drop leaves it"
        return _outcome(duty, WAITS, words) if records.acquire(*duty.key, WAITS, now, words) else None
    if duty.verdict is Verdict.DO and (why := why_not_yet(keep, duty.occurrence.event)):
        return _outcome(duty, "not yet", why)
    if not records.acquire(*duty.key, BEGUN, now):
        return None
    return _done(keep, records, duty, hands)


def _done(keep: Keep, records: DueRecords, duty: Duty, hands: Hands) -> DueOutcome:
    event = duty.occurrence.event
    try:
        if duty.verdict is Verdict.TELL:
            state, words = _tell(keep, duty.occurrence, hands)
        else:
            state, words = _ACTS[event.kind](keep, duty, hands)
    except EmberKeepError as error:
        state, words = FAILED, "; ".join(str(fault) for fault in error.faults[:3])
    except OSError as error:
        state, words = FAILED, f"the system refused: {reason(error)} ({error.filename or 'no file named'})"
    records.complete(*duty.key, state, hands.clock(), words)
    return _outcome(duty, state, words)


def _tell(keep: Keep, one: Occurrence, hands: Hands) -> tuple[str, str]:
    template = one.event.text or keep.config.calendar.announcing.text
    number = len(keep.config.wiping.earlier) + len(wipe_preview.wipes(Journal(keep.folder))) + 1
    message = Message(one.event.name, _scopes(one.event), one.at, number)
    ways = announce.announce(keep, hands.environment, message, template, hands.clock())
    state = PARTLY if any(way.why for way in ways) else "told"
    return state, "; ".join(way.words for way in ways) or "there is nobody to be told"


def _scopes(event: Event) -> str:
    return " and ".join(filter(None, (", ".join(event.scopes[:-1]), *event.scopes[-1:])))


def _snapshot(keep: Keep, duty: Duty, hands: Hands) -> tuple[str, str]:
    name = duty.occurrence.event.name
    taken = snapshot.take(
        keep, hands.clock(), snapshot.SnapshotRequest(note=name, why=WHY), environment=hands.environment
    )
    if taken.about.unsettled:
        return FAILED, f"snapshot {taken.about.label} is unsettled: files went on changing while it was taken"
    return DONE, f"snapshot {taken.about.label}"


def _verify(keep: Keep, duty: Duty, hands: Hands) -> tuple[str, str]:
    store = store_of(keep)
    try:
        found = verify(store, share=duty.occurrence.event.share)
    finally:
        store.close()
    if found.sound:
        return DONE, f"what was looked at is sound; blocks read: {found.blocks}"
    faults = [*(f"{item.path}: {item.why}" for item in found.files[:3]), *found.faults[:3]]
    return FAILED, f"damage: {'; '.join(faults)}; 'emberkeep verify' tells all"


def _drill(keep: Keep, duty: Duty, hands: Hands) -> tuple[str, str]:
    from emberkeep.operations.flows import drill  # only where one is due

    store = store_of(keep)
    try:
        by_chance = duty.occurrence.event.which == ANY
        about = drill.chosen(store, keep, "", hands.clock(), by_chance=by_chance)
        request = drill.request_of(keep, about, None)
        found = drill.drill(keep, store, request, hands.clock, hands.environment)
    finally:
        store.close()
    words = f"snapshot {found.snapshot}: {found.words}"
    return (FAILED if not found.proven else OPEN if found.complaints else DONE), words


def _thin(keep: Keep, duty: Duty, hands: Hands) -> tuple[str, str]:
    store = store_of(keep)
    try:
        found = thin.plan(keep, store, hands.clock())
        thin.check_clock(keep, found, hands.clock())
        thin.carry_out(keep, store, found)
    finally:
        store.close()
    return DONE, f"{len(found.going)} snapshots deleted"


def _vault(keep: Keep, duty: Duty, hands: Hands) -> tuple[str, str]:
    """All vaults, each by itself: one that cannot be reached does not keep the others from being brought up to date."""
    from emberkeep.vault import (
        sending,  # only where there are some
        vault,
    )

    state, sentences = DONE, []
    for at in keep.config.vaults:
        try:
            with vault.opened(at, keep.folder, hands.environment) as found:
                sent = sending.send(keep, found, hands.clock())
            sentences.append(f"{at.name}: {sent.new} of {sent.files} files sent")
        except (EmberKeepError, OSError) as error:
            state = FAILED
            sentences.append(f"{at.name}: {str(error).splitlines()[0]}")
    return state, "; ".join(sentences)


def _announce(keep: Keep, duty: Duty, hands: Hands) -> tuple[str, str]:
    return _tell(keep, duty.occurrence, hands)


def _update(keep: Keep, duty: Duty, hands: Hands) -> tuple[str, str]:
    event = duty.occurrence.event
    if not event.source or not event.to:
        return "told", "keep.toml tells no source and to for it, so it is only announced"
    store = store_of(keep)
    try:
        source = Path(os.path.normpath(keep.folder / event.source))
        request = update_request.request_of(keep, store, source, event.to, recipes=migrate.folders(keep, None))
        asked = update.KIND.run(request, hands.clock())
        context = hands.context(store, asked)
        done = carried_out(context, update.steps(keep, store, request))
        waits = update.report(context, done).waits
    finally:
        store.close()
    return (OPEN if waits else DONE), "; ".join((f"run {done.number}", *waits))


def _wipe(keep: Keep, duty: Duty, hands: Hands) -> tuple[str, str]:
    """A wipe of which players were told ahead is not announced again; one that nobody was told of is."""
    event = duty.occurrence.event
    states = {
        one.part
        for one in DueRecords(keep.folder).all()
        if (one.event, one.planned) == duty.key[:2] and one.state in ("told", PARTLY)
    }
    request = wipe_preview.request_of(
        keep,
        event.scopes,
        hands.clock(),
        asked=Asked(event.seed),
        sets=event.sets,
        event=event.name,
        lenient=True,
        warn=not states or bool(duty.why),
    )
    found = wipe_preview.preview(keep, request, hands.environment, hands.clock())
    store = store_of(keep)
    try:
        asked = wipe.KIND.run(request, hands.clock())
        context = hands.context(store, asked)
        done = carried_out(context, wipe.steps(keep, store, request))
        report = wipe.report(context, done.number)
    finally:
        store.close()
    forgotten = [f"{item.path} still mentions {item.ids} {item.what}s" for item in found.audit.forgotten]
    left = [*report.waits, *forgotten]
    return (OPEN if left else DONE), "; ".join((f"run {done.number}: {request.title}", *left))


_ACTS: Mapping[str, Callable[[Keep, Duty, Hands], tuple[str, str]]] = {
    "snapshot": _snapshot,
    "verify": _verify,
    "drill": _drill,
    "thin": _thin,
    "vault": _vault,
    "announce": _announce,
    "update": _update,
    "wipe": _wipe,
}


# --- the admin's word --------------------------------------------------------------------------------


def decide(keep: Keep, name: str, hands: Hands, *, run: bool) -> list[DueOutcome]:
    """Do, or drop, what waits for the admin's word of event ``name``, or was broken off. Where nothing of it waits, it
    is done now; there is nothing to drop then."""
    event = _event(keep, name)
    records = DueRecords(keep.folder)
    rows = [one for one in records.all() if one.event == name and not one.part and one.state in (WAITS, BEGUN)]
    if not rows and not run:
        raise Refused(f"'{name}' was not missed: nothing of it waits for you", hint="'emberkeep due' shows what does")
    with exclusive_lock(keep):
        if not rows:
            return [_at_once(keep, records, event, hands)]
        last = rows[-1]
        for older in rows[:-1]:
            records.complete(older.event, older.planned, "", MISSED, hands.clock(), "a later one was asked about")
        planned = datetime.fromisoformat(last.planned.replace("Z", "+00:00"))
        duty = Duty(Occurrence(event, planned, planned), "", Verdict.DO, hands.clock() - planned, "asked for")
        if not run:
            records.complete(*duty.key, MISSED, hands.clock(), "dropped by the admin")
            return [_outcome(duty, MISSED, "dropped")]
        why = why_not_yet(keep, replace(event, only_if="", players_at_most=None))
        if not why and last.state == BEGUN:  # whoever began it is gone, as the lock is ours
            records.complete(*duty.key, WAITS, hands.clock(), "")
        if why or not records.acquire(*duty.key, BEGUN, hands.clock()):
            raise Refused(why or "another program is doing it now", hint="'emberkeep due' shows what still waits")
        return [_done(keep, records, duty, hands)]


def would_do(keep: Keep, name: str, now: datetime) -> list[DueOutcome]:
    """What :func:`decide` would do with an event. Writes nothing."""
    event = _event(keep, name)
    rows = [one for one in DueRecords(keep.folder).all() if one.event == name and one.state in (WAITS, BEGUN)]
    why = why_not_yet(keep, replace(event, only_if="", players_at_most=None))
    words = why or (f"what was missed of {rows[-1].planned}" if rows else "now, as it is asked for")
    return [DueOutcome(event.name, event.kind, now, "", "not yet" if why else "due", words)]


def _event(keep: Keep, name: str) -> Event:
    event = keep.config.calendar.of(name)
    if event is None:
        known = [one.name for one in keep.config.calendar.events]
        listed = f"known: {', '.join(known)}"
        raise UsageError(f"there is no event '{name}'", hint=did_you_mean(name, known, listed))
    return event


def _at_once(keep: Keep, records: DueRecords, event: Event, hands: Hands) -> DueOutcome:
    """An event done now, whenever it falls; its own days stay as they are."""
    why = why_not_yet(keep, replace(event, only_if="", players_at_most=None))
    if why:
        raise Refused(why, hint="'emberkeep due' shows what still waits")
    at = hands.clock()
    while not records.acquire(*(duty := _asked_for(event, at)).key, BEGUN, at):
        at += timedelta(seconds=1)  # asked for twice within one
    return _done(keep, records, duty, hands)


def _asked_for(event: Event, at: datetime) -> Duty:
    return Duty(Occurrence(event, at, at), "", Verdict.DO, timedelta(), "asked for")


def codes(found: Sequence[DueOutcome]) -> bool:
    """Whether anything of it wants the admin's eye."""
    return any(came.state in (FAILED, WAITS, MISSED, OPEN, PARTLY) for came in found)
