"""The snapshot that a run begins with."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import replace

from emberkeep.errors import Fault
from emberkeep.fs import writing
from emberkeep.keep.config import Config
from emberkeep.operations.engine.step import Plan, Room, Step
from emberkeep.operations.record import snapshot
from emberkeep.process.signs import refuse_if_running


def unconfirmed(config: Config, roles: Sequence[str]) -> Iterator[Fault]:
    """What a run that goes by ``roles`` would do on the strength of a guess that nobody has confirmed."""
    for role, question in config.guesses:
        if role in roles:
            yield Fault(
                f"this rests on a guess that is not confirmed: {question}",
                hint="'emberkeep adopt --ask' puts the question to you; or strike it out of keep.toml",
            )


class SnapshotStep(Step):
    """The snapshot of the whole folder that undoing puts back; pinned until the run is done with. ``rests_on``: the
    roles on which the run deletes something or leaves it behind; none of them may be a guess."""

    name = "snapshot"

    def __init__(self, note: str, why: str, *, pin: bool = False, rests_on: Sequence[str] = ()) -> None:
        self.title = "take a snapshot of the whole server folder"
        self.note, self.why, self.pin, self.rests_on = note, why, pin, rests_on

    def plan(self, room: Room) -> Plan:
        """What it is called; guesses that nobody confirmed are obstacles."""
        pinned = ", pinned: no thinning takes it" if self.pin else ""
        guesses = tuple(unconfirmed(room.keep.config, self.rests_on))
        return Plan(notes=(f"called “{self.note}”{pinned}",), obstacles=guesses)

    def act(self, room: Room, plan: Plan) -> None:
        """Take it and plan on from it. Refused while the server runs."""
        if room.keep.server.is_dir():
            refuse_if_running(room.keep, "it would write while it is copied and changed")
            taken = snapshot.take(
                room.keep,
                room.clock(),
                note=self.note,
                why=self.why,
                pin=self.pin,
                store=room.store,
                progress=room.progress,
            )
            room.findings.before = taken.about
            room.run = room.journal.change(replace(room.run, before=taken.about.label))
            room.begin_from(taken.about.label)
        else:
            writing.make_folder(room.keep.server)

    def passed(self, room: Room) -> None:
        """Plan on from the snapshot that was taken."""
        if room.run.before:
            room.begin_from(room.run.before)
