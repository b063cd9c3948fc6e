"""What came round, in the journal (see ``journal_file``): each occurrence once, whoever looks and however often."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime

from emberkeep.operations.record.facts import BEGUN
from emberkeep.operations.record.journal_file import JournalFile

WAITS, MISSED, FAILED = "waits", "missed", "failed"


@dataclass(frozen=True)
class DueRecord:
    """Something that came round. ``planned``: its moment, in UTC; ``part``: "" for the event itself, else which
    announcement; ``said``: what came of it, in words."""

    event: str
    planned: str
    part: str
    state: str
    begun: datetime
    said: str = ""


class DueRecords(JournalFile):
    """What came round for a keep, and what became of it."""

    def acquire(self, event: str, planned: str, part: str, state: str, now: datetime, said: str = "") -> bool:
        """Record that something that came round is being dealt with; False when somebody has done so before.

        What ``waits`` for the admin may be acquired again.
        """
        self.require_file()
        with self.opened() as database:
            database.execute("begin immediate")
            key = (event, planned, part)
            found = database.execute("select state from due where event = ? and planned = ? and part = ?", key)
            row = found.fetchone()
            if row is not None and (row[0] != WAITS or state == WAITS):
                return False
            ended = None if state == BEGUN else now.isoformat()
            database.execute(
                "insert or replace into due values (?, ?, ?, ?, ?, ?, ?)", (*key, state, now.isoformat(), ended, said)
            )
        return True

    def complete(self, event: str, planned: str, part: str, state: str, now: datetime, said: str) -> None:
        """Record what came of it."""
        self.note(
            "update due set state = ?, ended = ?, said = ? where event = ? and planned = ? and part = ?",
            state,
            now.isoformat(),
            said,
            event,
            planned,
            part,
        )

    def passed(self, now: datetime) -> None:
        """Record that somebody came by and did what was due."""
        at = now.isoformat()
        self.note("insert or replace into due values ('', '', '', 'done', ?, ?, '')", at, at)

    def last_pass(self) -> datetime | None:
        """When somebody last came by to do what is due; None where nobody ever did."""
        rows = self.ask("select begun from due where event = ''")
        return datetime.fromisoformat(rows[0][0]) if rows else None

    def all(self) -> list[DueRecord]:
        """All that came round so far, by its moment."""
        rows = self.ask(
            "select event, planned, part, state, begun, said from due where event <> '' order by planned, event, part"
        )
        return [
            DueRecord(event, planned, part, state, datetime.fromisoformat(begun), said)
            for event, planned, part, state, begun, said in rows
        ]
