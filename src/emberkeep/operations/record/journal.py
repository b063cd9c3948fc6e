"""The journal of a keep: which runs changed the server folder, step by step, and whether each came to its end.

::

    KEEP/journal.db   SQLite, synced at every commit
      run (number, kind, begun, ended, state, facts)
        state   begun | done | taken back | undone
        facts   JSON: what resuming and undoing need; see Run
      step (run, at, name, title, begun, ended, facts)
        at      its place in the run, from 0; ended is null while it is being done
      touched (run, path, after)
        after   what the run leaves at a path: "", or "kind mode mtime size" and what a link points at
      start (number, begun, run, version, world, seconds, converted, state)
        starts of the server: bytes of its world, and how long it took until it was ready
      drill (number, begun, snapshot, taken, proven, seconds, words)
        snapshots that a server was started on to try them, and how that went
      once (file, key, value, back)
        settings that hold for one start only, and what they are set back to
      told (path, size, mtime, digest)
        files of the keep that the admin writes, as they were when something was last carried out: BLAKE3 in hex
      preview (asked, made, told)
        what the last preview of a wipe said, until a run is done
      due (event, planned, part, state, begun, ended, said)
        what came round: planned: its moment in UTC; part: "" the event itself, else the announcement; state: begun |
        done | failed | missed | waits; a row is there before anything is done, so that nothing is done twice

A run's intent is on disk before its first act, its outcome after its last; so are those of each step. A run that is
``begun`` was interrupted: nothing else may change the server folder until it was resumed or undone.
"""

from __future__ import annotations

import json
import shutil
import sqlite3
import tempfile
from collections.abc import Iterable, Iterator, Mapping, Sequence
from contextlib import closing, contextmanager, suppress
from dataclasses import replace
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from emberkeep.errors import Place, Refused, UnreadableInput
from emberkeep.fs import private, system
from emberkeep.operations.record.facts import (
    BEGUN,
    DONE,
    Came,
    DrillRecord,
    Run,
    StartRecord,
    StepRecord,
    TemporarySetting,
)

_TABLES = (
    "create table if not exists run (number integer primary key, kind text not null,"
    " begun text not null, ended text, state text not null, facts text not null)",
    "create table if not exists step (run integer not null, at integer not null, name text not null,"
    " title text not null, begun text not null, ended text, facts text not null, primary key (run, at))",
    "create table if not exists touched (run integer not null, path text not null, after text not null,"
    " primary key (run, path)) without rowid",
    "create table if not exists start (number integer primary key, begun text not null, run integer,"
    " version text not null, world integer not null, seconds real not null, converted integer not null,"
    " state text not null)",
    "create table if not exists drill (number integer primary key, begun text not null, snapshot text not null,"
    " taken text not null, proven integer not null, seconds real not null, words text not null)",
    "create table if not exists once (file text not null, key text not null, value text not null,"
    " back text not null, primary key (file, key))",
    "create table if not exists told (path text primary key, size integer not null, mtime integer not null,"
    " digest text not null)",
    "create table if not exists preview (asked text primary key, made text not null, told text not null)",
    "create table if not exists due (event text not null, planned text not null, part text not null,"
    " state text not null, begun text not null, ended text, said text not null, primary key (event, planned, part))",
)


WAITS, MISSED, FAILED = "waits", "missed", "failed"


_COPIES = 5
"""How often a journal is copied that somebody else is just writing to."""


def _rows(uri: str, query: str, values: Sequence[object]) -> list[Any]:
    with closing(sqlite3.connect(uri, timeout=10, uri=True)) as database:
        try:
            return database.execute(query, values).fetchall()
        except sqlite3.OperationalError as error:
            if "no such table" in str(error):
                return []  # of an earlier version, that had none, or never begun
            raise


class Journal:
    """The journal in ``keep``; reading one that is not there yet finds no runs."""

    def __init__(self, keep: Path) -> None:
        self._file = keep / "journal.db"

    @contextmanager
    def _opened(self) -> Iterator[sqlite3.Connection]:
        try:
            with private.database(self._file, _TABLES) as database:
                yield database
        except (sqlite3.Error, OSError) as error:
            raise self._unusable("written", error) from error

    def _unusable(self, what: str, error: Exception) -> UnreadableInput:
        return UnreadableInput(
            f"the journal cannot be {what}: {error}",
            place=Place(str(self._file)),
            hint="no snapshot depends on it: 'emberkeep restore REF --into DIR' gives back what each of them holds",
        )

    def _ask(self, query: str, *values: object) -> list[Any]:
        """Rows of the journal, which is only read: also where it may not be written to, and beside who writes."""
        if not self._file.exists():
            return []
        try:
            with suppress(sqlite3.OperationalError):
                return _rows(f"{self._file.absolute().as_uri()}?mode=ro", query, values)
            with tempfile.TemporaryDirectory(prefix="emberkeep-") as room:
                return _rows(self._copied(Path(room)).as_uri(), query, values)
        except (sqlite3.Error, OSError) as error:
            raise self._unusable("read", error) from error

    def _copied(self, room: Path) -> Path:
        """The journal in a folder of ours: one that was not written to its end is set right when it is read."""
        copy = room / self._file.name
        for _ in range(_COPIES):
            before = self._stands()
            for path in self._parts():
                if path.exists():
                    shutil.copyfile(path, room / path.name)
            if self._stands() == before:
                break
        return copy

    def _stands(self) -> list[tuple[int, int]]:
        return [(path.stat().st_size, path.stat().st_mtime_ns) for path in self._parts() if path.exists()]

    def _parts(self) -> list[Path]:
        """The journal, what takes back a change of it that was broken off, and the log that earlier versions wrote."""
        return [self._file.with_name(self._file.name + end) for end in ("", "-journal", "-wal")]

    def _note(self, statement: str, *values: object) -> None:
        with self._opened() as database:
            database.execute(statement, values)

    # --- runs ------------------------------------------------------------------

    def begin(self, run: Run) -> Run:
        """Put a run's intent on disk and give it its number. Refused while another one waits."""
        if not self._file.exists():
            with self._opened():
                system.io.sync_folder(self._file.parent)
        with self._opened() as database:
            database.execute("begin immediate")  # of two that begin at once, one sees the other
            if database.execute("select 1 from run where state = ?", (BEGUN,)).fetchone():
                raise Refused("another run was begun meanwhile", hint="'emberkeep history' shows it")
            row = (run.kind, run.begun.isoformat(), BEGUN, _facts(run))
            number = database.execute("insert into run (kind, begun, state, facts) values (?, ?, ?, ?)", row).lastrowid
        return replace(run, number=int(number or 0))

    def change(self, run: Run) -> Run:
        """Record what has become known of a run since it began."""
        self._note("update run set facts = ? where number = ?", _facts(run), run.number)
        return run

    def end(self, run: Run, state: str, now: datetime) -> None:
        """Record how a run ended; of one that is done, no preview holds any more."""
        ended = None if state == BEGUN else now.isoformat()
        with self._opened() as database:
            database.execute("update run set state = ?, ended = ? where number = ?", (state, ended, run.number))
            if state == DONE:
                database.execute("delete from preview")

    def runs(self) -> list[Run]:
        """All runs with their steps, in the order they began."""
        rows = self._ask("select number, kind, begun, ended, state, facts from run order by number")
        steps: dict[int, list[StepRecord]] = {}
        for row in self._ask("select run, at, name, title, begun, ended, facts from step order by run, at"):
            steps.setdefault(row[0], []).append(_step(*row[1:]))
        return [_run(row, tuple(steps.get(row[0], ()))) for row in rows]

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
        if run is None:
            return set()
        labels = {run.before, str(run.request.get("target", ""))}
        labels |= {str(step.facts.get("snapshot", "")) for step in run.steps}
        return labels - {""}

    # --- steps -----------------------------------------------------------------

    def step_begun(self, run: Run, at: int, name: str, title: str, now: datetime) -> None:
        """Record that a step is about to act."""
        self._note(
            "insert or replace into step values (?, ?, ?, ?, ?, null, '{}')",
            run.number,
            at,
            name,
            title,
            now.isoformat(),
        )

    def step_noted(self, run: Run, at: int, facts: Mapping[str, Any]) -> None:
        """Record what a step will need when it is resumed."""
        self._note("update step set facts = ? where run = ? and at = ?", json.dumps(dict(facts)), run.number, at)

    def step_done(self, run: Run, at: int, now: datetime) -> None:
        """Record that a step has done its work."""
        self._note("update step set ended = ? where run = ? and at = ?", now.isoformat(), run.number, at)

    def steps(self, run: Run) -> dict[int, StepRecord]:
        """The steps of a run that were begun, by their place."""
        rows = self._ask("select at, name, title, begun, ended, facts from step where run = ? order by at", run.number)
        return {row[0]: _step(*row) for row in rows}

    # --- what a run leaves -------------------------------------------------------

    def touch(self, run: Run, after: Iterable[tuple[str, str]]) -> None:
        """Record what a run leaves at some paths."""
        rows = [(run.number, path.encode("utf-8", "surrogateescape"), left) for path, left in after]
        with self._opened() as database:
            database.executemany("insert or replace into touched values (?, ?, ?)", rows)

    def touched(self, run: Run) -> dict[str, str]:
        """What a run left, by path."""
        rows = self._ask("select path, after from touched where run = ?", run.number)
        return {path.decode("utf-8", "surrogateescape"): after for path, after in rows}

    # --- starts ------------------------------------------------------------------

    def started(self, start: StartRecord, run: int | None = None) -> None:
        """Record a start of the server."""
        if not self._file.parent.is_dir():
            return
        self._note(
            "insert into start (begun, run, version, world, seconds, converted, state) values (?, ?, ?, ?, ?, ?, ?)",
            start.begun.isoformat(),
            run,
            start.version,
            start.world,
            start.seconds,
            int(start.converted),
            start.state,
        )

    def starts(self) -> list[StartRecord]:
        """Earlier starts, oldest first."""
        rows = self._ask("select begun, version, world, seconds, converted, state from start order by number")
        return [
            StartRecord(datetime.fromisoformat(row[0]), row[1], row[2], row[3], bool(row[4]), row[5]) for row in rows
        ]

    def drilled(self, drill: DrillRecord) -> None:
        """Record a drill."""
        self._note(
            "insert into drill (begun, snapshot, taken, proven, seconds, words) values (?, ?, ?, ?, ?, ?)",
            drill.begun.isoformat(),
            drill.snapshot,
            drill.taken.isoformat(),
            int(drill.proven),
            drill.seconds,
            drill.words,
        )

    def drills(self) -> list[DrillRecord]:
        """Earlier drills, oldest first."""
        rows = self._ask("select begun, snapshot, taken, proven, seconds, words from drill order by number")
        return [
            DrillRecord(datetime.fromisoformat(row[0]), row[1], datetime.fromisoformat(row[2]), bool(row[3]), *row[4:])
            for row in rows
        ]

    def set_once(self, setting: TemporarySetting) -> None:
        """Record a setting that holds for one start."""
        self._note(
            "insert or replace into once values (?, ?, ?, ?)", setting.file, setting.key, setting.value, setting.back
        )

    def forget_once(self, setting: TemporarySetting) -> None:
        """Forget it again: it was set back."""
        self._note("delete from once where file = ? and key = ?", setting.file, setting.key)

    def once(self) -> list[TemporarySetting]:
        """Settings that still have to be set back."""
        return [
            TemporarySetting(*row) for row in self._ask("select file, key, value, back from once order by file, key")
        ]

    # --- previews ----------------------------------------------------------------

    def previewed(self, asked: str) -> Any:
        """What the last preview of this call told; None when there is none."""
        rows = self._ask("select told from preview where asked = ?", asked)
        return json.loads(rows[0][0]) if rows else None

    def remember_preview(self, asked: str, document: Any, now: datetime) -> None:
        """Record what a preview told."""
        self._note("insert or replace into preview values (?, ?, ?)", asked, now.isoformat(), json.dumps(document))

    # --- what the admin writes ------------------------------------------------------

    def remember(self, written: Mapping[str, tuple[int, int, str]]) -> None:
        """Record size, mtime (ns) and BLAKE3 (hex) of files, in place of all that were recorded."""
        with self._opened() as database:
            database.execute("delete from told")
            rows = [(path, *facts) for path, facts in written.items()]
            database.executemany("insert into told values (?, ?, ?, ?)", rows)

    def remembered(self) -> dict[str, tuple[int, int, str]]:
        """What was recorded last."""
        return {row[0]: (row[1], row[2], row[3]) for row in self._ask("select path, size, mtime, digest from told")}

    # --- what comes round ----------------------------------------------------------

    def claim(self, event: str, planned: str, part: str, state: str, now: datetime, said: str = "") -> bool:
        """Record that something that came round is being dealt with; False when somebody has done so before.

        What ``waits`` for the admin may be claimed again.
        """
        if not self._file.exists():
            with self._opened():
                system.io.sync_folder(self._file.parent)
        with self._opened() as database:
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

    def settle(self, event: str, planned: str, part: str, state: str, now: datetime, said: str) -> None:
        """Record what came of it."""
        self._note(
            "update due set state = ?, ended = ?, said = ? where event = ? and planned = ? and part = ?",
            state,
            now.isoformat(),
            said,
            event,
            planned,
            part,
        )

    def came(self) -> list[Came]:
        """All that came round so far, by its moment."""
        rows = self._ask("select event, planned, part, state, begun, said from due order by planned, event, part")
        return [
            Came(event, planned, part, state, datetime.fromisoformat(begun), said)
            for event, planned, part, state, begun, said in rows
        ]


def _facts(run: Run) -> str:
    told = {"before": run.before, "title": run.title, "request": dict(run.request), "whole": run.whole}
    return json.dumps({**told, "undoing": run.undoing}, sort_keys=True)


def _run(row: tuple[int, str, str, str | None, str, str], steps: tuple[StepRecord, ...]) -> Run:
    number, kind, begun, ended, state, facts = row
    told = json.loads(facts)
    request = told.get("request", {key: told[key] for key in ("target", "only", "paths") if told.get(key)})
    title = told.get("title") or (f"restore of snapshot {request['target']}" if kind == "restore" else kind)
    return Run(
        number,
        kind,
        datetime.fromisoformat(begun),
        told["before"],
        title,
        request,
        told.get("whole", False),
        told.get("undoing", False),
        datetime.fromisoformat(ended) if ended else None,
        state,
        steps,
    )


def _step(at: int, name: str, title: str, begun: str, ended: str | None, facts: str) -> StepRecord:
    finished = datetime.fromisoformat(ended) if ended else None
    return StepRecord(at, name, title, datetime.fromisoformat(begun), finished, json.loads(facts))
