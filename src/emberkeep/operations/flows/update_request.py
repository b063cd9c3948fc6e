"""What an update is asked to do, and what is checked before anything is done."""

from __future__ import annotations

import shutil
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from emberkeep.errors import Place, Refused, UsageError
from emberkeep.fs.archives import open_source
from emberkeep.fs.folder_tree import FolderTree
from emberkeep.fs.trees import FILE, PartTree, Tree, best_root, whole
from emberkeep.inventory.extensions import Extension, fits_engine, read_manifest
from emberkeep.inventory.probe import FileProbe
from emberkeep.inventory.versions import ordering
from emberkeep.keep.config import Config
from emberkeep.keep.keep import Keep
from emberkeep.merging.answers import Answer
from emberkeep.migrating.chain import is_of
from emberkeep.operations.engine.step import Plan, RunContext, Step
from emberkeep.operations.flows import migrate
from emberkeep.operations.record import defaults
from emberkeep.operations.steps import merge as merging
from emberkeep.operations.steps import server
from emberkeep.store.store import Store

KEEP, REMOVE, STOP = "keep", "remove", "stop"


@dataclass(frozen=True)
class Request:
    """What an update is asked to do. ``source``: the new release, None where the admin's own updater brings it and its
    defaults are recorded; ``old``: the release the live files began from, None
    to merge without one; ``saves``: the version of the saves; ``builds``: a folder of new builds of extensions;
    ``choices``: what is done with an extension without one (keep or remove); ``start``: whether it is started;
    ``sql``: the folder with the vendor's SQL; ``strict``: whether all is taken back where another version runs then."""

    source: Path | None
    new: str
    engine: str
    old: str | None
    saves: str
    recipes: tuple[Path, ...] = ()
    builds: Path | None = None
    choices: Mapping[str, str] = field(default_factory=dict)
    answers: tuple[Answer, ...] = ()
    start: bool = True
    rehearsal: bool = False
    sql: Path | None = None
    strict: bool = False


def request_of(keep: Keep, store: Store, source: Path | None, new: str, **further: Any) -> Request:
    """An update to ``new``, with what the keep knows of what is there; ``further``: the request's other fields, where
    None leaves ``old`` and ``saves`` to what is known."""
    live = FolderTree(keep.require_server(), "live")
    said = further.pop("old", None)
    try:
        engine = migrate.engine_version(keep.config, live)
    except Refused:
        if not said:
            raise
        engine = said  # no file and no log tells: then it is what the files began from
    old = said or merging.began_from(keep, store, live)
    saves = migrate.saves_version(keep, store, further.pop("saves", None), engine)
    return Request(source, new, engine, old, saves, **further)


def release(keep: Keep, store: Store, request: Request) -> Tree:
    """The vendor's release, lined up with the server folder. UsageError where nothing brings it."""
    if request.source is None:
        if not keep.config.updating.command:
            raise UsageError("a SOURCE is wanted: the vendor's release", hint="or [update] command in keep.toml")
        return defaults.tree_of(store, request.new)
    whole = open_source(request.source)
    below = best_root(whole, defaults.keep_paths(keep))
    return PartTree(whole, below) if below else whole


class CheckStep(Step):
    """Versions, room on the disk, extensions; Refused where the update cannot go well."""

    name, title = "check", "check versions, room and extensions"

    def __init__(self, request: Request, source: Tree, needless: str = "") -> None:
        self.request, self.source, self.needless = request, source, needless

    def plan(self, context: RunContext) -> Plan:
        """Refused where versions, room or extensions forbid it."""
        config, request = context.keep.config, self.request
        notes = [_check_versions(config, request, self.source), _check_room(context, self.source)]
        notes += [self.needless] if self.needless else []
        warnings: list[str] = []
        if request.rehearsal and request.sql is not None:
            warnings.append("the vendor's SQL is not rehearsed: there is only one of each database")
        installed = server.installed(context.keep) if context.only_planned or not context.run.before else []
        if installed:
            notes.append(f"{len(installed)} extensions are installed")
            warnings += list(_without_build(config, request, installed))
        return Plan(notes=tuple(notes), warnings=tuple(warnings))


def _check_versions(config: Config, request: Request, source: Tree) -> str:
    if ordering(request.new) < ordering(request.engine):
        raise Refused(
            f"the engine is {request.engine}, newer than {request.new}: an update only goes forward",
            hint="to go back, restore a snapshot that was taken before",
        )
    try:
        shipped = migrate.engine_version(config, source)
    except Refused:
        return f"from {request.engine} to {request.new}; the source does not tell its version"
    if not is_of(shipped, request.new):
        raise Refused(
            f"{source.label} is release {shipped}, not {request.new}",
            hint=f"say --to {shipped}, or name the files of {request.new}",
        )
    return f"from {request.engine} to {shipped}"


def _check_room(context: RunContext, source: Tree) -> str:
    needed = sum(entry.size for entry in source.entries().values())
    free = shutil.disk_usage(context.keep.server.parent).free
    if needed * 2 > free:
        raise Refused(
            f"the release has {needed} bytes, and the disk has room for {free}: both old and new must find room",
            place=Place(str(context.keep.server)),
            hint="make room first; 'emberkeep thin' deletes old snapshots",
        )
    return f"{free // (1 << 20)} MiB are free; the release has {max(1, needed // (1 << 20))} MiB"


def _without_build(config: Config, request: Request, installed: Sequence[Extension]) -> Sequence[str]:
    """What is done with extensions that have no new build; Refused for those that the update is to stop for."""
    builds = _by_name(request)
    choices = {**config.updating.remember, **request.choices}
    warnings = []
    for extension in installed:
        build = builds.get(extension.name.lower())
        if build is not None:
            if not fits_engine(build, request.new):
                warnings.append(f"the new build {build.path} was built for {build.built_for}, not for {request.new}")
            continue
        choice = choices.get(extension.name, "")
        if choice == STOP:
            raise Refused(
                f"{extension.name} {extension.version} has no new build, and the update is to stop for it",
                hint=f"--without-build {extension.name}=keep or =remove",
            )
        if not choice and not fits_engine(extension, request.new):
            warnings.append(
                f"{extension.name} {extension.version} has no new build and was built for {extension.built_for}; it is "
                f"kept (--without-build {extension.name}=remove takes it out for now)"
            )
    return warnings


def _by_name(request: Request) -> dict[str, Extension]:
    return {item.name.lower(): item for item in builds_in(request.builds)} if request.builds else {}


def undecided(keep: Keep, request: Request) -> list[Extension]:
    """Installed extensions without a new build, built for another engine, of which nobody has said what to do."""
    builds = _by_name(request)
    choices = {**keep.config.updating.remember, **request.choices}
    return [
        item
        for item in server.installed(keep)
        if item.name.lower() not in builds and item.name not in choices and not fits_engine(item, request.new)
    ]


def builds_in(folder: Path) -> list[Extension]:
    """The extensions in a folder of new builds. UsageError where there is no such folder."""
    if not folder.is_dir():
        raise UsageError(f"{folder} is no folder of builds")
    tree = whole(FolderTree(folder))
    look = FileProbe(tree, folder)
    builds = [
        found
        for path, entry in tree.entries().items()
        if entry.kind is FILE and (found := read_manifest(look, path)) is not None
    ]
    look.require_read()
    return builds
