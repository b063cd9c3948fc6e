"""``emberkeep history``: list snapshots and runs, pin snapshots, show how the store grows."""

from __future__ import annotations

import argparse

from emberkeep.cli.context import answer, now, opened, the_keep, write_asked
from emberkeep.errors import UnreadableInput, UsageError
from emberkeep.keep.keep import Keep
from emberkeep.operations.record.drills import DrillRecord, Drills
from emberkeep.operations.record.facts import Run
from emberkeep.operations.record.journal import Journal
from emberkeep.operations.record.snapshot import pin, snapshots
from emberkeep.retention.growth import growth
from emberkeep.show import snapshots as view
from emberkeep.show.console import Screen
from emberkeep.show.snapshots import SCREENFUL
from emberkeep.store.store import Store

EXAMPLES = (
    "emberkeep history",
    "emberkeep history --pin 'before 4.3'",
    "emberkeep history --growth",
    "emberkeep history --growth growth.png",
    "emberkeep history --run 3",
)
EXITS = {
    0: "shown",
    4: "the manifest of a snapshot that is shown is damaged",
}


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """What to show, or which snapshot to pin."""
    kind = parser.add_mutually_exclusive_group()
    kind.add_argument("--growth", nargs="?", const="", metavar="PNG", help="how the store grows (drawn into PNG)")
    kind.add_argument("--run", type=int, metavar="RUN", help="the steps of one run, and how long each took")
    kind.add_argument("--everything", action="store_true", help=f"all snapshots and runs (else the last {SCREENFUL})")
    kind.add_argument("--pin", metavar="REF", help="let no thinning remove this snapshot")
    kind.add_argument("--unpin", metavar="REF", help="let thinning treat this snapshot like any other")


def run(args: argparse.Namespace, screen: Screen) -> int:
    """Exit code 4 when the manifest of a snapshot that is shown is damaged; ``verify`` looks at all of them."""
    keep = the_keep(args)
    if args.run is not None:
        return _steps(args, screen, keep)
    with opened(keep) as store:
        if args.growth is not None:
            return _growth(args, screen, keep, store)
        if args.pin or args.unpin:
            about = pin(store, keep, args.pin or args.unpin, now(), pinned=bool(args.pin))
            done = "pinned; no thinning removes it" if about.pinned else "no longer pinned"
            return answer(args, 0, {"snapshot": about}, lambda: screen.line(f"Snapshot {about.label} is {done}."))
        whole = args.everything or args.json
        found, faults = snapshots(store, None if whole else SCREENFUL)
        earlier = len(store.numbers()) - len(found) - len(faults)
    runs: list[Run] = []
    drills: list[DrillRecord] = []
    try:
        runs, drills = Journal(keep.folder).runs(), Drills(keep.folder).all()
    except UnreadableInput as error:  # the snapshots are there all the same
        faults = [*faults, *map(str, error.faults)]
    code = 4 if faults else 0
    result = {"snapshots": found, "runs": runs, "drills": drills, "faults": faults}
    shown = runs if whole else runs[-SCREENFUL:]
    past = view.Past(found, shown, drills, earlier, len(runs) - len(shown))
    return answer(args, code, result, lambda: view.history(screen, past, faults, now(), keep.config.tz))


def _steps(args: argparse.Namespace, screen: Screen, keep: Keep) -> int:
    run = next((run for run in Journal(keep.folder).runs() if run.number == args.run), None)
    if run is None:
        raise UsageError(f"there is no run {args.run}", hint="'emberkeep history' lists them")
    from emberkeep.show import runs as steps  # only where they are shown

    return answer(args, 0, {"run": run}, lambda: steps.steps(screen, run, keep.config.tz))


def _growth(args: argparse.Namespace, screen: Screen, keep: Keep, store: Store) -> int:
    taken, _ = snapshots(store)
    taken += [store.about(version, defaults=True) for version in store.versions()]
    found = growth(taken, store.size(), store.free())
    if args.growth and found.steps:
        from emberkeep.show.files import charts  # only where something is drawn

        picture = charts.growth(found, keep.config.tz, keep.config.name)
        write_asked(args.growth, picture)
    return answer(args, 0, {"growth": found}, lambda: view.growth(screen, found, keep.config.tz, args.growth))
