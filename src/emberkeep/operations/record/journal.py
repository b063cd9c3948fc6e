"""The runs that changed the server folder, step by step, and whether each came to its end (see ``journal_file``)."""

from __future__ import annotations

import json
from collections.abc import Iterable, Mapping
from dataclasses import replace
from datetime import UTC, datetime
from typing import Any

from emberkeep.errors import Refused
from emberkeep.operations.record.facts import BEGUN, DONE, Run, StepRecord
from emberkeep.operations.record.journal_file import JournalFile


class Journal(JournalFile):
    """The runs in the journal of a keep, and the previews that hold until the next one."""

    def begin(self, run: Run) -> Run:
        """Put a run's intent on disk and give it its number. Refused while another one waits."""
        self.require_file()
        with self.opened() as database:
            database.execute("begin immediate")  # of two that begin at once, one sees the other
            if database.execute("select 1 from run where state = ?", (BEGUN,)).fetchone():
                raise Refused("another run was begun meanwhile", hint="'emberkeep history' shows it")
            row = (run.kind, run.begun.isoformat(), BEGUN, _facts(run))
            number = database.execute("insert into run (kind, begun, state, facts) values (?, ?, ?, ?)", row).lastrowid
        return replace(run, number=int(number or 0))

    def change(self, run: Run) -> Run:
        """Record what has become known of a run since it began."""
        self.note("update run set facts = ? where number = ?", _facts(run), run.number)
        return run

    def end(self, run: Run, state: str, now: datetime) -> None:
        """Record how a run ended; of one that is done, no preview holds any more."""
        ended = None if state == BEGUN else now.isoformat()
        with self.opened() as database:
            database.execute("update run set state = ?, ended = ? where number = ?", (state, ended, run.number))
            if state == DONE:
                database.execute("delete from preview")

    def runs(self) -> list[Run]:
        """All runs with their steps, in the order they began."""
        rows = self.ask("select number, kind, begun, ended, state, facts from run order by number")
        steps: dict[int, list[StepRecord]] = {}
        for row in self.ask("select run, at, name, title, begun, ended, facts from step order by run, at"):
            steps.setdefault(row[0], []).append(_step(*row[1:]))
        return [_run(row, tuple(steps.get(row[0], ()))) for row in rows]

    def waiting(self) -> Run | None:
        """The run that was interrupted, if one was."""
        return next((run for run in self.runs() if run.state == BEGUN), None)

    def undoable(self) -> Run | None:
        """The run that 'undo' takes back: the interrupted one, else the last that changed the server folder."""
        runs = self.runs()
        found = [run for run in runs if run.state == DONE and not run.aside]
        waiting = next((run for run in runs if run.state == BEGUN), None)
        return waiting or (found[-1] if found else None)

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
        runs = [run for run in self.runs() if run.state in (BEGUN, DONE) and not run.aside]
        if not runs:
            return set()
        run = next((run for run in runs if run.state == BEGUN), runs[-1])
        labels = {run.before, str(run.request.get("target", ""))}
        labels |= {str(step.facts.get("snapshot", "")) for step in run.steps}
        return labels - {""}

    def step_begun(self, run: Run, at: int, name: str, title: str, now: datetime) -> None:
        """Record that a step is about to act."""
        self.note(
            "insert or replace into step values (?, ?, ?, ?, ?, null, '{}')",
            run.number,
            at,
            name,
            title,
            now.isoformat(),
        )

    def step_noted(self, run: Run, at: int, facts: Mapping[str, Any]) -> None:
        """Record what a step will need when it is resumed."""
        self.note("update step set facts = ? where run = ? and at = ?", json.dumps(dict(facts)), run.number, at)

    def step_done(self, run: Run, at: int, now: datetime) -> None:
        """Record that a step has done its work."""
        self.note("update step set ended = ? where run = ? and at = ?", now.isoformat(), run.number, at)

    def steps(self, run: Run) -> dict[int, StepRecord]:
        """The steps of a run that were begun, by their place."""
        rows = self.ask("select at, name, title, begun, ended, facts from step where run = ? order by at", run.number)
        return {row[0]: _step(*row) for row in rows}

    def touch(self, run: Run, after: Iterable[tuple[str, str]]) -> None:
        """Record what a run leaves at some paths."""
        rows = [(run.number, path.encode("utf-8", "surrogateescape"), left) for path, left in after]
        with self.opened() as database:
            database.executemany("insert or replace into touched values (?, ?, ?)", rows)

    def touched(self, run: Run) -> dict[str, str]:
        """What a run left, by path."""
        rows = self.ask("select path, after from touched where run = ?", run.number)
        return {path.decode("utf-8", "surrogateescape"): after for path, after in rows}

    def previewed(self, asked: str) -> Any:
        """What the last preview of this call told; None when there is none."""
        rows = self.ask("select told from preview where asked = ?", asked)
        return json.loads(rows[0][0]) if rows else None

    def remember_preview(self, asked: str, document: Any, now: datetime) -> None:
        """Record what a preview told."""
        self.note("insert or replace into preview values (?, ?, ?)", asked, now.isoformat(), json.dumps(document))


def _facts(run: Run) -> str:
    request = {"before": run.before, "title": run.title, "request": dict(run.request), "whole": run.whole}
    return json.dumps({**request, "undoing": run.undoing, "aside": run.aside}, sort_keys=True)


def _run(row: tuple[int, str, str, str | None, str, str], steps: tuple[StepRecord, ...]) -> Run:
    number, kind, begun, ended, state, facts = row
    found = json.loads(facts)
    request = found.get("request", {key: found[key] for key in ("target", "only", "paths") if found.get(key)})
    title = found.get("title") or (f"restore of snapshot {request['target']}" if kind == "restore" else kind)
    return Run(
        number,
        kind,
        datetime.fromisoformat(begun),
        found["before"],
        title,
        request,
        found.get("whole", False),
        found.get("undoing", False),
        found.get("aside", False),
        datetime.fromisoformat(ended) if ended else None,
        state,
        steps,
    )


def _step(at: int, name: str, title: str, begun: str, ended: str | None, facts: str) -> StepRecord:
    finished = datetime.fromisoformat(ended) if ended else None
    return StepRecord(at, name, title, datetime.fromisoformat(begun), finished, json.loads(facts))
