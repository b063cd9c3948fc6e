"""Taking databases through the vendor's SQL: the steps of it, by themselves and within an update.

A database server keeps nothing of a step that fails half-way from being kept, so the way back is the dump that the
run's snapshot holds. A step that was stopped in the middle of a file begins again from that dump, with what this run
did to the database before.
"""

from __future__ import annotations

import sqlite3
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field
from pathlib import Path

from emberkeep.databases import sqlite, stepping
from emberkeep.databases.access import access
from emberkeep.databases.mariadb import Connection
from emberkeep.databases.stepping import InFile, Script, Served, Target
from emberkeep.errors import Place, Refused
from emberkeep.fs import globs
from emberkeep.fs.trees import Tree, read
from emberkeep.inventory.versions import ordering
from emberkeep.keep.keep import Keep
from emberkeep.keep.tables.databases import Database
from emberkeep.migrating import vendor
from emberkeep.migrating.chain import same_version
from emberkeep.migrating.vendor import Batch
from emberkeep.operations.engine.step import FileStep, Notes, Plan, RunContext, Step
from emberkeep.operations.record import databases
from emberkeep.store.manifest import beside
from emberkeep.store.tree import snapshot_tree

NAME = "sql"


def vendor_steps(keep: Keep, source: Tree, old: str, new: str, server: Tree, known: Iterable[str]) -> list[Step]:
    """The steps that take all databases through the vendor's SQL in ``source`` from one version to another."""
    _refuse_newer(keep, new)
    made = vendor.batches(source, keep.config.databases, old, new, server=server, known=known)
    return steps_of(keep, [(batch.database, _scripts(source, batch), batch.words) for batch in made])


def _refuse_newer(keep: Keep, new: str) -> None:
    """Refused where a database tells that it is of a newer version: it only goes forward."""
    for stands in databases.standings(keep, {}, ()):
        if stands.version and ordering(stands.version) > ordering(new) and not same_version(stands.version, new):
            raise Refused(
                f"the database '{stands.name}' is of {stands.version}, newer than {new}; it only goes forward",
                place=Place(stands.where),
                hint="restore the snapshot that was taken before it went on, or go to that version",
            )


def _scripts(source: Tree, batch: Batch) -> tuple[Script, ...]:
    step = f"{batch.old} > {batch.new} {batch.part}".strip()
    return tuple(Script(step, path, read(source, path), f"{source.label}/{path}") for path in batch.files)


def recipe_script(path: Path, folder: Path, old: str, new: str) -> Script:
    """A SQL file that lies beside a recipe."""
    return Script(f"{old} > {new}", path.relative_to(folder).as_posix(), path.read_bytes(), str(path))


def steps_of(keep: Keep, batches: Sequence[tuple[str, tuple[Script, ...], str]]) -> list[Step]:
    """A step for each database, its scripts and what is said of them, in order."""
    found: list[Step] = []
    before: dict[str, list[Script]] = {}
    for name, scripts, words in batches:
        one = keep.config.databases.named(name)
        if one is None:
            raise Refused(
                f"there is no database '{name}' in keep.toml",
                place=Place(str(keep.folder / "keep.toml")),
                hint="add a [[database]] of this name",
            )
        if one.served:
            found.append(ServedSqlStep(one, scripts, words, tuple(before.get(name, ()))))
            before.setdefault(name, []).extend(scripts)
        else:
            found.append(FileStep(NAME, words, _InFiles(one, scripts)))
    return found


@dataclass
class _InFiles:
    """SQL run on the SQLite files of the planned folder that a database names, all of it or none."""

    one: Database
    scripts: tuple[Script, ...]

    def __call__(self, context: RunContext) -> Notes:
        folder, notes = context.folder, Notes()
        paths = [path for path in folder.entries() if globs.matches(path, [self.one.file])]
        if not paths:
            raise Refused(
                f"no database fits {self.one.file}",
                place=Place(self.one.name),
                hint="see the glob in this step; [[database]] in keep.toml names those of a server",
            )
        for path in paths:

            def run(database: sqlite3.Connection) -> None:
                _run(InFile(database), self.scripts, context, notes)

            folder.write(path, sqlite.rewritten(folder, path, run)[0])
        return notes


def _run(target: Target, scripts: Sequence[Script], context: RunContext, notes: Notes) -> None:
    found = stepping.standing(target.applied(), scripts)
    _note_scripts(found, scripts, notes)
    for script in found.to_run:
        target.run(script, context.run.begun)


def _note_scripts(found: stepping.Standing, scripts: Sequence[Script], notes: Notes) -> None:
    notes.lines += [script.file for script in found.to_run]
    done = len(scripts) - len(found.to_run)
    if done:
        notes.lines.append(f"{done} of {len(scripts)} files were run before and are not repeated")
    notes.warnings += [f"{one.file} was run before with other bytes; it is not run again" for one in found.changed]


@dataclass
class ServedSqlStep(Step):
    """SQL run on a database of a server. ``earlier``: what this run runs on it before."""

    one: Database
    scripts: tuple[Script, ...]
    title: str = ""
    earlier: tuple[Script, ...] = ()
    name: str = field(default=NAME, init=False)

    def plan(self, context: RunContext) -> Plan:
        """Which files are yet to be run, and which were run with other bytes."""
        notes = Notes()
        with Connection(access(context.keep, self.one)) as connection:
            found = stepping.standing(Served(connection).applied(), self.scripts)
        _note_scripts(found, self.scripts, notes)
        touched = frozenset([beside(self.one.name)])
        return Plan(notes=tuple(notes.lines), warnings=tuple(notes.warnings), touched=touched)

    def act(self, context: RunContext, plan: Plan) -> None:
        """Run the files that are yet to be run, each noted; one that was stopped half-way begins anew from the dump."""
        way = access(context.keep, self.one)
        scripts: tuple[Script, ...] = self.scripts
        if context.facts.get("file"):  # it was stopped in the middle of a file
            self._from_the_dump(context)
            scripts = (*self.earlier, *self.scripts)
        with Connection(way) as connection, connection.held():
            target = Served(connection)
            for script in stepping.standing(target.applied(), scripts).to_run:
                context.note(file=script.file)
                target.run(script, context.clock())
        context.note(file="")

    def _from_the_dump(self, context: RunContext) -> None:
        tree = snapshot_tree(context.store, context.run.before)
        databases.put_back(context.keep, tree, self.one.name, progress=context.progress)
