"""Starts of the server in the journal (see ``journal_file``), and the settings that hold for one start only."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime

from emberkeep.operations.record.journal_file import JournalFile


@dataclass(frozen=True)
class StartRecord:
    """A start of the server: ``world``: bytes of its world; ``seconds``: until it was ready or given up."""

    begun: datetime
    version: str
    world: int
    seconds: float
    converted: bool
    state: str


@dataclass(frozen=True)
class TemporarySetting:
    """A setting that holds for one start, and what it is set back to."""

    file: str
    key: str
    value: str
    back: str


class Starts(JournalFile):
    """The starts of a keep's server."""

    def add(self, start: StartRecord, run: int | None = None) -> None:
        """Record a start of the server."""
        if not self.file.parent.is_dir():
            return
        self.note(
            "insert into start (begun, run, version, world, seconds, converted, state) values (?, ?, ?, ?, ?, ?, ?)",
            start.begun.isoformat(),
            run,
            start.version,
            start.world,
            start.seconds,
            int(start.converted),
            start.state,
        )

    def all(self) -> list[StartRecord]:
        """Earlier starts, oldest first."""
        rows = self.ask("select begun, version, world, seconds, converted, state from start order by number")
        return [
            StartRecord(datetime.fromisoformat(row[0]), row[1], row[2], row[3], bool(row[4]), row[5]) for row in rows
        ]

    def add_temporary(self, setting: TemporarySetting) -> None:
        """Record a setting that holds for one start."""
        self.note(
            "insert or replace into once values (?, ?, ?, ?)", setting.file, setting.key, setting.value, setting.back
        )

    def remove_temporary(self, setting: TemporarySetting) -> None:
        """Forget it again: it was set back."""
        self.note("delete from once where file = ? and key = ?", setting.file, setting.key)

    def temporary(self) -> list[TemporarySetting]:
        """Settings that still have to be set back."""
        return [
            TemporarySetting(*row) for row in self.ask("select file, key, value, back from once order by file, key")
        ]
