"""What a wipe is asked to do, and what it would clear, leave and forget; writes nothing."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

from emberkeep.callbacks import Progress, no_op
from emberkeep.errors import Refused
from emberkeep.fs.folder_tree import FolderTree
from emberkeep.fs.trees import FILE, Tree, whole
from emberkeep.inventory.roles import Roles
from emberkeep.keep.config import Config
from emberkeep.keep.keep import Keep
from emberkeep.wiping import values
from emberkeep.wiping.results import WipeResult
from emberkeep.wiping.scopes import scope_of
from emberkeep.wiping.values import Setting

if TYPE_CHECKING:
    from emberkeep.databases.mariadb import Connection

import re
from collections.abc import Iterator
from contextlib import ExitStack, contextmanager
from datetime import datetime
from typing import TYPE_CHECKING

from emberkeep.databases.access import access
from emberkeep.errors import Fault
from emberkeep.fs import globs
from emberkeep.fs.overlay import Overlay
from emberkeep.fs.trees import read
from emberkeep.keep.locate import FILE as KEEP_FILE
from emberkeep.keep.tables.wiping import SetText
from emberkeep.operations.engine import registry
from emberkeep.operations.record.facts import DONE
from emberkeep.operations.record.journal import Journal
from emberkeep.operations.steps.snapshot import unconfirmed
from emberkeep.process import lifecycle
from emberkeep.wiping import leftovers
from emberkeep.wiping.identifiers import Known, canonical, known_people, people
from emberkeep.wiping.leftovers import Audit, Leftover
from emberkeep.wiping.scopes import NONE, WipeOperation
from emberkeep.wiping.values import Asked, Values, Wiped

if TYPE_CHECKING:
    from emberkeep.databases.mariadb import Connection


NAME = "wipe"
"""What the journal calls a wipe."""


_WORD = re.compile(r"\w{3,}")


@dataclass(frozen=True)
class Request:
    """What a wipe is asked to do. ``values``: chosen once, so that preview, run and resuming agree; ``left``: the seed
    before it; ``lenient``: whether a scope may find nothing to clear; ``warn`` and ``start``: whether players are told
    first, and the server is started afterwards."""

    scopes: tuple[str, ...]
    values: Values
    texts: tuple[SetText, ...] = ()
    left: str = ""
    event: str = ""
    lenient: bool = False
    warn: bool = True
    start: bool = True

    @property
    def title(self) -> str:
        """It, in words."""
        return f"wipe {self.values.number} ({', '.join(self.scopes)})"


def request_of(
    keep: Keep,
    scopes: Sequence[str],
    now: datetime,
    *,
    asked: Asked | None = None,
    sets: Sequence[SetText] = (),
    event: str = "",
    lenient: bool = False,
    warn: bool = True,
    start: bool | None = None,
    live: FolderTree | None = None,
) -> Request:
    """A wipe of ``scopes``, with its values chosen. ``start``: None to start where keep.toml tells how; ``live``: the
    server folder, where it was scanned already."""
    for name in scopes:
        scope_of(keep.config, name)
    live = live or live_of(keep)
    chosen = values.choose(keep.config, live, scopes, wipes(Journal(keep.folder)), asked or Asked(), now)
    texts = values.texts_of(keep.config, chosen, scopes, sets)
    left = values.current(keep.config, live)[0]
    started = keep.config.running.start is not None if start is None else start
    return Request(tuple(scopes), chosen, tuple(texts), left, event, lenient, warn, started)


def live_of(keep: Keep) -> FolderTree:
    """The server folder as it is. UnreadableInput where not all of it can be listed: a wipe clears all of a kind."""
    return whole(FolderTree(keep.require_server(), "live"))


def wipes(journal: Journal) -> list[Wiped]:
    """The wipes that were carried out and not taken back, oldest first."""
    kind = registry.kind_of(NAME)
    done = [run for run in journal.runs() if run.kind == kind.name and run.state == DONE]
    return [
        Wiped(run.begun, asked.values.seed, asked.left, asked.scopes, run.number)
        for run, asked in ((run, kind.request_of(run)) for run in done)
    ]


@dataclass(frozen=True)
class Preview:
    """What a wipe will do. ``audit``: what it would forget; ``questions``: unsorted files that mention players."""

    request: Request
    cleared: WipeResult
    settings: tuple[Setting, ...]
    audit: Audit
    questions: tuple[Leftover, ...] = ()
    obstacles: tuple[Fault, ...] = ()
    """What would keep the server from being started again."""

    @property
    def outcome(self) -> dict[str, Any]:
        """What goes and what is set, as a later preview is compared with it."""
        return {
            "scopes": {
                one.scope: {
                    "files": list(one.files),
                    "records": {f"{gone.file}: {gone.at}": gone.count for gone in one.records},
                    "rows": {f"{gone.database}: {gone.table}": gone.count for gone in one.rows},
                }
                for one in self.cleared.scopes
            },
            "survives": dict(self.cleared.survives),
            "values": {f"{one.file}: {one.field}": [one.before, one.after] for one in self.settings},
        }


def preview(
    keep: Keep,
    request: Request,
    environment: Mapping[str, str],
    now: datetime,
    *,
    deep: bool = False,
    live: FolderTree | None = None,
    progress: Progress = no_op,
) -> Preview:
    """What a wipe would do and forget. Writes nothing. ``deep``: look through tiles that stay, too."""
    live = live or live_of(keep)
    folder = Overlay(live, int(now.timestamp()) * 1_000_000_000)
    known = known_of(keep, live)
    with served(keep) as there:
        cleared = clear(keep, folder, request, known, in_use=True, there=there)
        found = leftovers.audit(live, folder, keep.config, cleared, known, deep=deep, served=there, progress=progress)
    settings = values.set_all(folder, request.texts, request.values, environment)
    asked = tuple(item for item in found.forgotten if item.unsorted and not _answered(keep, item.path))
    starts = request.start and keep.config.running.start is not None
    obstacles = tuple(lifecycle.obstacles(keep.config, folder, environment)) if starts else ()
    obstacles = (*unconfirmed(keep.config, rests_on(keep.config, request.scopes)), *obstacles)
    return Preview(request, cleared, tuple(settings), found, asked, obstacles)


def clear(
    keep: Keep,
    folder: Overlay,
    request: Request,
    known: Known,
    *,
    in_use: bool,
    there: Mapping[str, Connection] = NONE,
) -> WipeResult:
    """Clear the scopes out of a planned folder. ``in_use``: a server may be using its databases; ``there``: the
    databases of servers, whose rows are counted."""
    return WipeOperation(
        folder, keep.config, request.scopes, known, lenient=request.lenient, in_use=in_use, served=there
    ).run()


@contextmanager
def served(keep: Keep) -> Iterator[Mapping[str, Connection]]:
    """Connections to all databases of servers, by what the keep calls them."""
    if not keep.config.databases.served:
        yield NONE
        return
    from emberkeep.databases.mariadb import Connection  # only where there are some

    with ExitStack() as stack:
        yield {one.name: stack.enter_context(Connection(access(keep, one))) for one in keep.config.databases.served}


def known_of(keep: Keep, tree: Tree) -> Known:
    """The players that are looked for. Names that the game's own files use as words of their own are left out."""
    persons = people(tree, keep.config)
    return known_people(persons, words_of_the_game(keep, tree, persons))


def words_of_the_game(keep: Keep, tree: Tree, entries: Mapping[str, str]) -> set[str]:
    """What people are called that stands in the game's own tables as well. ``entries``: id -> name."""
    roles = Roles(keep.config.roles)
    names = {name for name in entries.values() if name} | {ident for ident in entries if not canonical(ident)}
    words: set[str] = set()
    for path, entry in tree.entries().items():
        if names and entry.kind is FILE and roles.of(path) == "economy" and entry.size < leftovers.LARGEST:
            words |= names.intersection(_WORD.findall(read(tree, path).decode("utf-8", "replace")))
    return words


def _answered(keep: Keep, path: str) -> bool:
    return globs.matches(path, keep.config.wiping.unsorted)


MOST_TOLD = 6


def differences(before: Mapping[str, Any], now: Mapping[str, Any]) -> list[str]:
    """What is otherwise than an earlier preview said, in words."""
    found = []
    for scope in sorted({*before["scopes"], *now["scopes"]}):
        was, there = before["scopes"].get(scope, {}), now["scopes"].get(scope, {})
        old, new = set(was.get("files", ())), set(there.get("files", ()))
        found += [f"{scope}: {path} would go now and would not before" for path in some_of(new - old)]
        found += [f"{scope}: {path} would have gone and is not there now" for path in some_of(old - new)]
        for what in ("records", "rows"):
            found += _changed(f"{scope}: ", was.get(what, {}), there.get(what, {}), f" {what}")
    found += _changed("survives: ", before["survives"], now["survives"], "")
    found += [
        f"{name} is {now['values'].get(name, ['nothing'])[0]} now, was {before['values'].get(name, ['nothing'])[0]}"
        for name in sorted({*before["values"], *now["values"]})
        if before["values"].get(name) != now["values"].get(name)
    ]
    return found


def some_of(paths: set[str]) -> list[str]:
    """The first of some paths, in order, and how many more there are."""
    more = [f"and {len(paths) - MOST_TOLD} more"] if len(paths) > MOST_TOLD else []
    return sorted(paths)[:MOST_TOLD] + more


def _changed(lead: str, was: Mapping[str, int], now: Mapping[str, int], what: str) -> list[str]:
    names = sorted({*was, *now})
    return [
        f"{lead}{name}: {now.get(name, 0)}{what}, {was.get(name, 0)} before"
        for name in names
        if was.get(name, 0) != now.get(name, 0)
    ]


def require_answers(found: Preview) -> None:
    """Refused while it is open what becomes of unsorted files that mention players."""
    if found.questions:
        names = ", ".join(item.path for item in found.questions[:4])
        raise Refused(
            f"no role covers {names}, and players who are wiped are mentioned there: is it cleared or kept?",
            hint=f"say --unsorted '{found.questions[0].path}=clear' or '=keep'; it is remembered in {KEEP_FILE}",
        )


def rests_on(config: Config, scopes: Sequence[str]) -> tuple[str, ...]:
    """The roles by which scopes are told what to clear."""
    picked = (pattern for name in scopes for pattern in scope_of(config, name).picked.files)
    return tuple(dict.fromkeys(pattern.partition("/")[0] for pattern in picked))
