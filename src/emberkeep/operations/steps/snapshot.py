"""The snapshot that a run begins with."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import replace

from emberkeep.errors import Fault
from emberkeep.fs import writing
from emberkeep.keep.config import Config
from emberkeep.operations.engine.step import Plan, RunContext, Step
from emberkeep.operations.record import snapshot
from emberkeep.process.signs import refuse_if_running


def unconfirmed(config: Config, roles: Sequence[str]) -> Iterator[Fault]:
    """What a run that goes by ``roles`` would do on the strength of a guess that nobody has confirmed."""
    for role, question in config.guesses:
        if role in roles:
            yield Fault(
                f"this rests on a guess that is not confirmed: {question}",
                hint="'emberkeep adopt --ask' asks you; or delete the question from keep.toml",
            )


class SnapshotStep(Step):
    """The snapshot of the whole folder that undoing puts back; pinned until the run is done with. ``rests_on``: the
    roles on which the run deletes something or leaves it behind; none of them may be a guess."""

    name = "snapshot"

    def __init__(self, note: str, why: str, *, pin: bool = False, rests_on: Sequence[str] = ()) -> None:
        self.title = "take a snapshot of the whole server folder"
        self.note, self.why, self.pin, self.rests_on = note, why, pin, rests_on

    def plan(self, context: RunContext) -> Plan:
        """What it is called; guesses that nobody confirmed are obstacles."""
        pinned = ", pinned: no thinning takes it" if self.pin else ""
        guesses = tuple(unconfirmed(context.keep.config, self.rests_on))
        return Plan(notes=(f"called “{self.note}”{pinned}",), obstacles=guesses)

    def act(self, context: RunContext, plan: Plan) -> None:
        """Take it and plan on from it. Refused while the server runs."""
        if context.keep.server.is_dir():
            refuse_if_running(context.keep, "it would write while it is copied and changed")
            taken = snapshot.take(
                context.keep,
                context.clock(),
                snapshot.SnapshotRequest(note=self.note, why=self.why, pin=self.pin),
                store=context.store,
                progress=context.progress,
            )
            context.findings.before = taken.about
            context.run = context.journal.change(replace(context.run, before=taken.about.label))
            context.begin_from(taken.about.label)
        else:
            writing.make_folder(context.keep.server)

    def passed(self, context: RunContext) -> None:
        """Plan on from the snapshot that was taken."""
        if context.run.before:
            context.begin_from(context.run.before)
