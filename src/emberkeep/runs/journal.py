"""The journal of a keep: which runs changed the server folder, and whether each came to its end.

::

    KEEP/journal.db   SQLite, write-ahead log, synced at every commit
      run (number, kind, begun, ended, state, facts)
        state   begun | done | taken back | undone
        facts   JSON: what resuming and undoing need; see Run

A run's intent is on disk before its first act, its outcome after its last. One that is ``begun`` was interrupted:
nothing else may change the server folder until it was resumed or undone.
"""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Iterator
from contextlib import closing, contextmanager
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path

from emberkeep import files
from emberkeep.errors import Place, Refused, UnreadableInput

BEGUN, DONE, TAKEN_BACK, UNDONE = "begun", "done", "taken back", "undone"
RESTORE, MERGE, UNDO = "restore", "merge", "undo"


@dataclass(frozen=True)
class Run:
    """One run. ``before``: the snapshot of the whole server folder taken before it; ``target``: what a restore puts
    back, as a snapshot's number; ``only``: the selectors it was limited to; ``paths``: what a merge writes."""

    number: int
    kind: str
    begun: datetime
    before: str
    target: str = ""
    only: tuple[str, ...] = ()
    paths: tuple[str, ...] = ()
    ended: datetime | None = None
    state: str = BEGUN

    @property
    def words(self) -> str:
        """What it is, for messages."""
        return f"restore of snapshot {self.target}" if self.kind == RESTORE else self.kind

    @property
    def how_it_went(self) -> str:
        """Its state, for messages."""
        return "interrupted" if self.state == BEGUN else self.state


class Journal:
    """The journal in ``keep``; reading one that is not there yet finds no runs."""

    def __init__(self, keep: Path) -> None:
        self._file = keep / "journal.db"

    @contextmanager
    def _opened(self) -> Iterator[sqlite3.Connection]:
        try:
            with closing(sqlite3.connect(self._file, timeout=10)) as database, database:
                database.execute("pragma journal_mode = wal")
                database.execute("pragma synchronous = full")
                database.execute(
                    "create table if not exists run (number integer primary key, kind text not null,"
                    " begun text not null, ended text, state text not null, facts text not null)"
                )
                yield database
        except sqlite3.Error as error:
            raise UnreadableInput(
                f"the journal cannot be read or written: {error}",
                place=Place(str(self._file)),
                hint="if it is damaged, move it aside; the snapshots do not depend on it",
            ) from error

    def begin(self, run: Run) -> Run:
        """Put a run's intent on disk and give it its number."""
        if not self._file.exists():
            with self._opened():
                files.io.sync_folder(self._file.parent)
        facts = json.dumps({"before": run.before, "target": run.target, "only": run.only, "paths": run.paths})
        with self._opened() as database:
            row = (run.kind, run.begun.isoformat(), BEGUN, facts)
            number = database.execute("insert into run (kind, begun, state, facts) values (?, ?, ?, ?)", row).lastrowid
        return Run(int(number or 0), run.kind, run.begun, run.before, run.target, run.only, run.paths)

    def end(self, run: Run, state: str, now: datetime) -> None:
        """Record how a run ended."""
        with self._opened() as database:
            ended = None if state == BEGUN else now.isoformat()
            database.execute("update run set state = ?, ended = ? where number = ?", (state, ended, run.number))

    def runs(self) -> list[Run]:
        """All runs, in the order they began."""
        if not self._file.exists():
            return []
        with self._opened() as database:
            rows = database.execute(
                "select number, kind, begun, ended, state, facts from run order by number"
            ).fetchall()
        return [_run(*row) for row in rows]

    def waiting(self) -> Run | None:
        """The run that was interrupted, if one was."""
        return next((run for run in self.runs() if run.state == BEGUN), None)

    def undoable(self) -> Run | None:
        """The run that 'undo' takes back: the interrupted one, else the last that was carried out."""
        found = [run for run in self.runs() if run.state in (BEGUN, DONE)]
        return self.waiting() or (found[-1] if found else None)

    def refuse_if_waiting(self) -> None:
        """Refused, with what to do, while an interrupted run waits."""
        run = self.waiting()
        if run is not None:
            raise Refused(
                f"the {run.words} begun at {run.begun.astimezone(UTC):%Y-%m-%d %H:%M} UTC was interrupted half-way",
                hint="'emberkeep resume --go' finishes it, 'emberkeep undo --go' takes it back",
            )

    def needed(self) -> set[str]:
        """Snapshots that 'resume' or 'undo' may still ask for."""
        run = self.undoable()
        return {label for label in (run.before, run.target) if label} if run else set()


def _run(number: int, kind: str, begun: str, ended: str | None, state: str, facts: str) -> Run:
    told = json.loads(facts)
    return Run(
        number,
        kind,
        datetime.fromisoformat(begun),
        told["before"],
        told["target"],
        tuple(told["only"]),
        tuple(told["paths"]),
        datetime.fromisoformat(ended) if ended else None,
        state,
    )
