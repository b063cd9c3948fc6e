"""``emberkeep survey``: what stands where now."""

from __future__ import annotations

import argparse
from collections import Counter
from collections.abc import Sequence
from datetime import timedelta
from typing import TYPE_CHECKING

from emberkeep.cli.context import add_all, answer, now, opened, the_keep, write_asked, write_page
from emberkeep.fs.folder_tree import FolderTree
from emberkeep.inventory.published import wanted_versions
from emberkeep.keep.keep import Keep
from emberkeep.operations.record.drills import Drills
from emberkeep.operations.record.known import releases_known
from emberkeep.operations.steps import questions
from emberkeep.show import servers as view
from emberkeep.show import words
from emberkeep.show.console import ASKS, Screen
from emberkeep.survey.survey import Survey, survey

AHEAD = timedelta(days=62)
"""How far ahead the next events are looked for."""
if TYPE_CHECKING:
    from emberkeep.operations.record.databases import Standing as OfDatabase
    from emberkeep.operations.record.drills import DrillRecord
    from emberkeep.operations.upkeep.fetch_plan import Standing
    from emberkeep.store.manifest import About
    from emberkeep.store.store import Store
    from emberkeep.vault.checking import Standing as OfVault

EXAMPLES = (
    "emberkeep survey",
    "emberkeep survey --offline --json",
    "emberkeep survey --report survey.html",
    "emberkeep survey --all /srv/keeps --metrics '/var/lib/metrics/{keep}.prom'",
)
EXITS = {
    0: "nothing wants attention",
    1: "something does",
}


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Whether published versions are asked for."""
    parser.add_argument("--offline", action="store_true", help="do not ask the addresses of [wanted] in keep.toml")
    parser.add_argument("--report", metavar="FILE.html", help="the same as a page, for others to read")
    parser.add_argument(
        "--metrics", metavar="FILE", help="write figures in OpenMetrics text; {keep} in FILE stands for the keep's name"
    )
    add_all(parser)


def run(args: argparse.Namespace, screen: Screen) -> int:
    """Exit code 1 when something wants attention."""
    keep = the_keep(args)
    wanted = wanted_versions(keep.config.wanted, keep.folder, offline=args.offline)
    with opened(keep) as store:
        live = FolderTree(keep.require_server(), "live")
        known, faults = releases_known(keep, store, live, wanted)
        taken = known.snapshots
        found = survey(keep, live, known)
        coming, waits = _coming(keep)
        waits += _asked(keep, store, live)
        remote = _remote(keep)
        stands = _databases(keep, found, taken)
        vaults = _vaults(keep, store)
        drill = next(reversed(Drills(keep.folder).all()), None)
        odd = any(one.fault or one.engine for one in stands) or any(one.at is None for one in vaults)
        code = 1 if odd or found.attention or found.questions or faults or waits or (remote and remote.unsent) else 0
        result = {
            "survey": found,
            "faults": faults,
            "coming": coming,
            "waiting": waits,
            "far": remote,
            "databases": stands,
            "vaults": vaults,
            "drill": drill,
        }

        def shown(on: Screen) -> None:
            view.survey(on, found, now(), keep.config.tz, remote, stands)
            view.proven(on, drill, bool(taken) and keep.config.running.start is not None, now())
            view.vaults(on, vaults, now())
            for line in coming:
                on.line(line)
            for line in waits:
                on.line(f"! {line}", ASKS)

        wrote = write_page(args.report, shown)
        if args.metrics:
            _write_metrics(args.metrics, keep, store, found, drill, len(waits))

        def text() -> None:
            shown(screen)
            if wrote:
                screen.line(wrote)

        return answer(args, code, result, text)


def _write_metrics(file: str, keep: Keep, store: Store, found: Survey, drill: DrillRecord | None, waiting: int) -> None:
    from emberkeep.operations.record.due import DueRecords
    from emberkeep.schedule.calendar import occurrences
    from emberkeep.show.files import metrics  # only where they are asked for

    moment = now()
    coming = occurrences(keep.config, moment, moment + AHEAD) if keep.config.events_table else []
    wipes = [one.at for one in coming if one.event.kind == "wipe" and not one.skipped]
    text = metrics.text(
        metrics.Standing(
            server=found.name,
            engine=found.engine,
            surveyed=moment,
            running=None if keep.config.is_remote else bool(found.running),
            snapshots=len(store.numbers()),
            last_snapshot=found.last.taken if found.last else None,
            last_verify=store.verified,
            last_drill=drill.begun if drill else None,
            proven=drill.proven if drill else None,
            store_bytes=store.size(),
            open_questions=len(found.questions) + waiting,
            attention=len(found.attention),
            next_wipe=min(wipes, default=None),
            last_due=DueRecords(keep.folder).last_pass(),
        )
    )
    write_asked(file.replace("{keep}", keep.folder.name), text.encode())


def _databases(keep: Keep, found: Survey, taken: Sequence[About]) -> list[OfDatabase]:
    if keep.config.databases_table is None:
        return []
    from emberkeep.operations.record import databases  # only where there are some

    versions = {row.name: row.now[0] for row in found.versions if row.now}
    return databases.standings(keep, {**versions, "engine": found.engine}, taken)


def _vaults(keep: Keep, store: Store) -> list[OfVault]:
    if not keep.config.vaults:
        return []
    from emberkeep.vault import checking  # only where there are some

    return checking.standings(keep, store)


def _remote(keep: Keep) -> Standing | None:
    if keep.config.remote_table is None:
        return None
    from emberkeep.operations.upkeep.fetch_plan import standing  # only where the server is far

    return standing(keep)


def _asked(keep: Keep, store: Store, live: FolderTree) -> list[str]:
    """How many questions wait since which merge."""
    if not questions.pending(keep):
        return []
    from emberkeep.operations.steps import merge  # only where there are some

    counts = Counter(one.new for one in merge.waiting(keep, store, live))
    return [
        f"{words.count(count, 'question')} since the merge of {version}; 'emberkeep merge --ask' asks them"
        for version, count in counts.items()
    ]


def _coming(keep: Keep) -> tuple[list[str], list[str]]:
    """What is due or comes next, and what waits for a word; nothing where keep.toml has no [[event]]."""
    if keep.config.events_table is None:
        return [], []
    from emberkeep.operations.flows import due
    from emberkeep.schedule.calendar import occurrences  # only where there are events

    moment = now()
    coming = [f"due: {came.event} of {words.when(came.at, keep.config.tz)}" for came in due.what_is_due(keep, moment)]
    following = [one for one in occurrences(keep.config, moment, moment + AHEAD) if not one.skipped]
    named = {one.event.name: one for one in reversed(following)}
    first = sorted(named.values(), key=lambda one: one.at)
    if first:
        coming.append("next: " + ", ".join(f"{one.event.name} {words.when(one.at, keep.config.tz)}" for one in first))
    return coming, due.waiting(keep)
