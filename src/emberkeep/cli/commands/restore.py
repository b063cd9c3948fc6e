"""``emberkeep restore REF``: put back the whole or a part, in place or elsewhere."""

from __future__ import annotations

import argparse
import os
from collections.abc import Iterator, Sequence
from contextlib import closing, contextmanager
from functools import partial
from pathlib import Path

from emberkeep.cli.context import add_go, add_only, add_vault_options, answer, now, opened, the_keep
from emberkeep.errors import Damage, Refused, UsageError, system_may_refuse
from emberkeep.fs import writing
from emberkeep.inventory.roles import require_some
from emberkeep.keep import locate
from emberkeep.keep.keep import Keep
from emberkeep.operations.engine import apply, fitness, restore_plan
from emberkeep.operations.flows import restore as recovery
from emberkeep.operations.record import snapshot
from emberkeep.show import snapshots as view
from emberkeep.show.console import ASKS, Screen, progress
from emberkeep.store.store import Store
from emberkeep.store.tree import SnapshotTree

EXAMPLES = (
    "emberkeep restore latest            (shows what it would do)",
    "emberkeep restore latest --go",
    "emberkeep restore 'before 4.3' --only players --go",
    "emberkeep restore 'before 4.3' --only tiles:-2,0..3,4 --go",
    "emberkeep restore 'before 4.3' --player Una --go",
    "emberkeep restore 3 --into /tmp/a-look",
    "emberkeep restore latest --only world/pier.sea --into a-look --from-vault s3://bucket/rock",
    "emberkeep restore latest --only databases/accounts --go",
    "emberkeep restore latest --only databases/accounts --into-database accounts_look --go",
)
EXITS = {
    0: "shown, or restored",
    1: "the same, but something was left out: nobody could put it back",
}


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Which snapshot, which part, where to."""
    parser.add_argument("ref", metavar="REF", help="a number, latest, a note, or a moment such as '2 days ago'")
    add_only(parser)
    parser.add_argument(
        "--player",
        metavar="WHO",
        help="only what is one player's (a name, or an id), and nobody else's",
    )
    parser.add_argument("--into", metavar="DIR", help="into a new folder instead of the server folder")
    parser.add_argument(
        "--into-database", metavar="NAME", help="one database (--only databases/NAME) into a new one of this name"
    )
    parser.add_argument(
        "--what-fits", action="store_true", help="with --into: leave out names that the disk there cannot hold"
    )
    parser.add_argument("--rehash", action="store_true", help="read every live file to compare it")
    vault = parser.add_argument_group("from a vault")
    vault.add_argument(
        "--from-vault",
        nargs="?",
        const="",
        metavar="TARGET",
        help="with --into: from the second copy, fetching only what is asked for (none: the one of keep.toml)",
    )
    vault.add_argument("--of", default="", metavar="NAME", help="of which keep, in a vault that several share")
    add_vault_options(vault)
    vault.add_argument("--accept-new", action="store_true", help="trust the key of a host that was never met")
    add_go(parser, "write into the server folder")


def run(args: argparse.Namespace, screen: Screen) -> int:
    """A preview without ``--go``; in place, a snapshot is taken first."""
    if args.what_fits and not args.into:
        raise UsageError("--what-fits goes with --into")
    if args.from_vault is not None:
        return _from_vault(args, screen)
    for_vaults = (args.of, args.secret_env, args.secret_file, args.password_env, args.key, args.certificate)
    if any(for_vaults) or args.accept_new:
        raise UsageError("what tells the way to a vault needs --from-vault")
    keep = the_keep(args)
    with opened(keep) as store:
        tree = snapshot.find(store, keep, args.ref, now())
        if args.player:
            return _player(args, screen, keep, store, tree)
        if args.into_database:
            return _into_database(args, screen, keep, tree)
        if args.into:
            return _elsewhere(args, screen, keep, tree)
        return _in_place(args, screen, keep, store, tree)


def _from_vault(args: argparse.Namespace, screen: Screen) -> int:
    """Into a new folder, of a vault; the keep, where there is none here, is read from the vault as well."""
    if not args.into or args.player or args.into_database:
        raise UsageError("--from-vault goes with --into DIR, and with --only SEL")
    import tempfile  # only here

    from emberkeep.cli.transfer_options import resolve_vaults, trust
    from emberkeep.vault import reading
    from emberkeep.vault.sending import Memory
    from emberkeep.vault.vault import opened as opened_vault

    here = _keep_here(args)
    if here is None and not args.from_vault:
        raise UsageError("which vault?", hint="no keep was found here; say --from-vault TARGET")
    known = here.config.vaults if here else ()
    vaults = resolve_vaults(args, args.from_vault, known)
    if len(vaults) > 1:
        names = ", ".join(one.name for one in vaults)
        raise UsageError("which vault?", hint=f"say --from-vault NAME; keep.toml names {names}")
    with tempfile.TemporaryDirectory(prefix="emberkeep-") as name:
        room = Path(name)
        with opened_vault(vaults[0], here.folder if here else room, os.environ, trust(args, screen)) as vault:
            memory = Memory(here) if here else None
            listed = vault.finished(memory.pinned(vault.place.label) if memory else None)
            if memory and (astray := memory.astray(vault.place.label, listed, is_there=True)):
                screen.note(f"the vault {vault.place.label}: {astray}")
            member = reading.member_of(listed, args.of or _name_of(here))
            keep = here or reading.keep_of(vault, listed, room / "keep", member)
            with closing(reading.VaultStore(vault, listed, room, member)) as store:
                return _elsewhere(args, screen, keep, snapshot.find(store, keep, args.ref, now()))


def _name_of(keep: Keep | None) -> str:
    """What a keep is called in the store that it shares; "" for one that shares none."""
    from emberkeep.store.shared import share_of

    share = share_of(keep) if keep else None
    return share.name if share else ""


def _keep_here(args: argparse.Namespace) -> Keep | None:
    """The keep that is meant; None where nothing says one and none is found."""
    return the_keep(args) if locate.keep_meant(args.keep, os.environ, str(Path.cwd())) else None


def _player(args: argparse.Namespace, screen: Screen, keep: Keep, store: Store, tree: SnapshotTree) -> int:
    """One player's files, records and rows, as a run; exit code 1 where something of theirs cannot be taken apart."""
    if args.into or args.into_database or args.only:
        raise UsageError("--player cannot go with --into, --into-database or --only")
    from emberkeep.cli.run_context import run_context_for  # only where somebody is put back
    from emberkeep.operations.engine import preview, runner
    from emberkeep.operations.flows import person
    from emberkeep.operations.record.journal import Journal
    from emberkeep.show import runs as shown

    label = tree.manifest.about.label
    request = person.Request(label, args.player)
    asked = person.KIND.run(request, now())
    with progress("restore", screen) as step:
        steps = person.steps(keep, store, request)
        title = f"{args.player} as of snapshot {label}"
        Journal(keep.folder).refuse_if_waiting()
        found = preview.preview(run_context_for(args, screen, keep, store, asked, step), steps)
        code = 1 if found.warnings else 0
        if not args.go:

            def text() -> None:
                if not found.changes and not found.warnings:
                    screen.line(f"All that is {args.player}'s is as snapshot {label} has it.")
                    return
                shown.whole(screen, title, found)
                screen.line(f"'emberkeep diff {label} --player {args.player}' shows it record by record.")

            return answer(args, code, {"preview": found, "done": False}, text)
        done = runner.carried_out(run_context_for(args, screen, keep, store, asked, step), steps)

    def show() -> None:
        shown.done(screen, title, done)
        for warning in found.warnings:
            screen.line(f"! {warning}", ASKS)

    return answer(args, code, {"run": done, "preview": found, "done": True}, show)


def _elsewhere(args: argparse.Namespace, screen: Screen, keep: Keep, tree: SnapshotTree) -> int:
    into = Path(os.path.abspath(args.into))
    fitness.check_target(into, keep.server)
    wanted = restore_plan.scope_of(tree.manifest, args.only, keep.config)
    names = recovery.selected(keep, tree, tuple(args.only))
    if not names:
        require_some(args.only, wanted, tree.entries(), tree.label)
    fits = fitness.fitting(tree, into) if args.what_fits else None
    left_out = [path for path in tree.entries() if wanted(path) and not fits(path)] if fits else []
    plan = restore_plan.plan(tree, into, lambda path: wanted(path) and (fits is None or fits(path)))
    fitness.check_names(plan, tree, "--what-fits restores the rest")
    fitness.check_room(plan)
    hint = f"make room or mend that, remove {into} if it is still there, and try again"
    with (
        system_may_refuse("the restore stopped", into, hint),
        progress("restore") as step,
        _dumps_beside(keep, tree, names, into) as dumps,
    ):
        faults = apply.elsewhere(plan, tree, step)
    if faults:
        raise Damage.gathered(tuple(faults))

    def text() -> None:
        view.restore_plan(screen, plan, True)
        for path in left_out[: view.MOST_LINES]:
            screen.line(f"  left out: {path} (the disk there holds no such name)", ASKS)
        if len(left_out) > view.MOST_LINES:
            screen.line(f"  left out: {len(left_out) - view.MOST_LINES} more", ASKS)
        for dump in dumps:
            screen.line(f"The dump of a database is {dump}.")

    result = {"plan": plan, "done": True, "dumps": dumps, "left_out": left_out}
    return answer(args, 1 if left_out else 0, result, text)


@contextmanager
def _dumps_beside(keep: Keep, tree: SnapshotTree, names: Sequence[str], into: Path) -> Iterator[list[Path]]:
    """The dumps of databases, in a folder beside, as plain SQL; they go again where the block does not end well."""
    if not names:
        yield []
        return
    from emberkeep.operations.record import databases  # only where there are some

    folder = into.with_name(f"{into.name}.databases")
    fitness.check_target(folder, keep.server)
    with apply.or_nothing(folder, [f"{name}.sql" for name in names]):
        writing.make_folder(folder, private=True)
        for name in names:
            writing.write_whole(folder / f"{name}.sql", tree.chunks(databases.path_of(name)))
        yield [folder / f"{name}.sql" for name in names]


def _into_database(args: argparse.Namespace, screen: Screen, keep: Keep, tree: SnapshotTree) -> int:
    """Into a database that is not there yet; the server's own ones stay as they are."""
    names = recovery.selected(keep, tree, tuple(args.only))
    if len(names) != 1 or args.into:
        raise UsageError(
            "--into-database takes one database",
            hint=f"select it: --only databases/NAME ({tree.label} holds {', '.join(names) or 'none'})",
        )
    from emberkeep.operations.record import databases  # only here

    plan = databases.plan(keep, tree, names[0], args.into_database)
    if plan.there:
        raise Refused(f"there is a database {args.into_database} already", hint="name another one")
    if args.go:
        with progress("restore") as step:
            databases.put_back(keep, tree, names[0], schema=args.into_database, progress=step)
    return answer(
        args,
        0,
        {"database": plan, "done": args.go},
        lambda: view.databases(screen, [plan], done=args.go, go="emberkeep restore … --go"),
    )


def _in_place(args: argparse.Namespace, screen: Screen, keep: Keep, store: Store, tree: SnapshotTree) -> int:
    only = tuple(args.only)
    found = recovery.planned(keep, store, tree, only, rehash=args.rehash)
    if not args.go or found.nothing:
        result = {"plan": found.plan, "databases": found.databases, "done": False}
        preview = partial(view.restore_preview, screen, found.plan, found.databases)
        return answer(args, 1 if found.plan.spared else 0, result, preview)
    with progress("restore") as step:
        done = recovery.put_back(keep, store, found, only, now, step)

    def text() -> None:
        view.restore_plan(screen, done.plan, True)
        view.databases(screen, done.databases, done=True)
        if done.before:
            screen.line(f"What stood there before is snapshot {done.before.label}; 'emberkeep undo' takes this back.")

    result = {"plan": done.plan, "databases": done.databases, "done": True, "run": done.run, "before": done.before}
    return answer(args, 1 if done.plan.spared else 0, result, text)
