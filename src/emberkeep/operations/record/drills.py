"""Drills in the journal (see ``journal_file``): snapshots that a server was started on to try them."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime

from emberkeep.operations.record.journal_file import JournalFile


@dataclass(frozen=True)
class DrillRecord:
    """A snapshot that was tried. ``taken``: when the snapshot was; ``seconds``: until the server on it was ready."""

    begun: datetime
    snapshot: str
    taken: datetime
    proven: bool
    seconds: float
    words: str


class Drills(JournalFile):
    """The drills of a keep."""

    def add(self, drill: DrillRecord) -> None:
        """Record a drill."""
        self.note(
            "insert into drill (begun, snapshot, taken, proven, seconds, words) values (?, ?, ?, ?, ?, ?)",
            drill.begun.isoformat(),
            drill.snapshot,
            drill.taken.isoformat(),
            int(drill.proven),
            drill.seconds,
            drill.words,
        )

    def all(self) -> list[DrillRecord]:
        """Earlier drills, oldest first."""
        rows = self.ask("select begun, snapshot, taken, proven, seconds, words from drill order by number")
        return [
            DrillRecord(datetime.fromisoformat(row[0]), row[1], datetime.fromisoformat(row[2]), bool(row[3]), *row[4:])
            for row in rows
        ]
