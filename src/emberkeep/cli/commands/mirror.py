"""``emberkeep mirror fetch|send|vault``: a server folder behind a file transfer, brought here and sent to; and a second
copy of the keep elsewhere."""

from __future__ import annotations

import argparse
from typing import NamedTuple

from emberkeep.cli.context import add_details, add_go, add_only, add_vault_options, answer, now, opened, the_keep
from emberkeep.cli.run_context import run_context_for
from emberkeep.cli.transfer_options import add_access_options, connections_to
from emberkeep.errors import UsageError
from emberkeep.inventory.roles import require_some
from emberkeep.keep.keep import Keep
from emberkeep.operations.engine.runner import carry_out, resume
from emberkeep.operations.flows import send
from emberkeep.operations.record import snapshot
from emberkeep.operations.record.facts import Run
from emberkeep.operations.record.journal import Journal
from emberkeep.operations.upkeep import fetch, fetch_plan, transfer_access
from emberkeep.show import mirror as view
from emberkeep.show.console import Screen, progress
from emberkeep.store.manifest import About
from emberkeep.store.store import Store
from emberkeep.transfer.pool import ConnectionPool
from emberkeep.transfer.state import RemoteState
from emberkeep.transfer.walk import Listing

EXAMPLES = (
    "emberkeep mirror fetch",
    "emberkeep mirror fetch --only world --rehash",
    "emberkeep mirror send            (shows what it would do)",
    "emberkeep mirror send --only economy --go",
    "emberkeep mirror vault                         (all that keep.toml tells of)",
    "emberkeep mirror vault /mnt/other/rock.vault",
    "emberkeep mirror vault sftp://keeper@safe.example/vaults/rock --secret-env VAULT_WORDS",
    "emberkeep mirror vault s3://bucket/rock --check --sample 5%",
    "emberkeep --keep rock.keep mirror vault /mnt/other/rock.vault --bring-back     (on a new machine)",
)
EXITS = {
    0: "done, or nothing to do",
    1: "some files could not be had; or a send was only shown, and there is something to send",
    4: "with vault: something in it is missing or changed",
}


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Which way, which part, and what of both sides' changes."""
    parser.add_argument("action", choices=("fetch", "send", "vault"))
    parser.add_argument(
        "target",
        nargs="?",
        metavar="TARGET",
        help="of a vault: its name in keep.toml (none: all of them), a folder, sftp://, ftps://, s3://…",
    )
    add_only(parser)
    parser.add_argument("--rehash", action="store_true", help="fetch every file, whatever its size and time")
    both = parser.add_mutually_exclusive_group()
    both.add_argument(
        "--theirs", action="store_true", help="what changed on both sides: a snapshot of yours, then theirs"
    )
    both.add_argument("--mine", action="store_true", help="what changed on both sides: yours stays, to be sent")
    parser.add_argument(
        "--another",
        action="store_true",
        help="though hardly a file is there that was there before; a vault: though what it holds is another keep's",
    )
    vault = parser.add_argument_group("vaults")
    vault.add_argument("--check", action="store_true", help="look whether all is there, and read what --sample says")
    vault.add_argument("--sample", metavar="SHARE", help="how much of it to read to the last byte, as 5%%")
    vault.add_argument("--bring-back", action="store_true", help="make the keep named by --keep of what is in it")
    add_vault_options(vault)
    add_access_options(parser)
    add_details(parser)
    add_go(parser, "send it; a fetch only writes the copy here and needs no word")


def run(args: argparse.Namespace, screen: Screen) -> int:
    """Exit code 1 when files could not be had, or a send is only shown and there is something to send."""
    if args.action == "vault":
        from emberkeep.cli.commands.vault import run_vault  # only where one is meant

        return run_vault(args, screen)
    if args.target:
        raise UsageError("only a vault has a TARGET; keep.toml tells where the server is")
    keep = the_keep(args)
    if args.action == "send" and (args.rehash or args.theirs or args.mine):
        raise UsageError("--rehash, --theirs and --mine are for 'mirror fetch'")
    Journal(keep.folder).refuse_if_waiting()
    with connections_to(args, screen, keep) as pool:
        if args.action == "fetch":
            return _fetch(args, screen, keep, pool)
        return _send(args, screen, keep, pool)


def fresh_listing(args: argparse.Namespace, keep: Keep, pool: ConnectionPool) -> Listing:
    """The far folder's listing. Refused where the server seems to run there."""
    found = transfer_access.look(keep, pool, twice=not args.while_running)
    if not args.while_running:
        transfer_access.refuse_if_written_to(found, pool.settings.address)
    return found.listing


class Brought(NamedTuple):
    """A fetch. ``before``: the snapshot of what was changed here, where theirs was taken."""

    plan: fetch_plan.FetchPlan
    fetched: fetch.Fetched
    before: About | None


def bring(args: argparse.Namespace, screen: Screen, keep: Keep, pool: ConnectionPool) -> Brought:
    """Bring here what changed there."""
    wanted = transfer_access.wanted_of(keep, tuple(args.only))
    listing, state = fresh_listing(args, keep, pool), RemoteState(keep.folder)
    require_some(args.only, wanted, (*listing.entries, *state.known()), f"{pool.settings.address} and the copy here")
    known = state.known() if state.address == str(pool.settings.address) else {}
    if not args.another:
        fetch_plan.refuse_another(listing, known, pool.settings.address)
    local = fetch_plan.Local(keep.server, known)
    whose = "theirs" if args.theirs else "mine" if args.mine else ""
    plan = fetch_plan.fetch_plan(listing, known, local, wanted, whose=whose, rehash=args.rehash)
    fetch_plan.refuse_clashes(plan)
    before = None
    if args.theirs and keep.server.is_dir():
        before = snapshot.take(keep, now(), snapshot.SnapshotRequest(note="before fetching theirs")).about
    with progress("fetch", screen) as step:
        done = fetch.fetch(keep, pool, plan, step)
    state.was_fetched(now())
    return Brought(plan, done, before)


def _fetch(args: argparse.Namespace, screen: Screen, keep: Keep, pool: ConnectionPool) -> int:
    found = bring(args, screen, keep, pool)
    return answer(
        args,
        1 if found.fetched.failed else 0,
        found._asdict(),
        lambda: view.fetched(screen, found.plan, found.fetched, pool.settings.address, args.details),
    )


def _send(args: argparse.Namespace, screen: Screen, keep: Keep, pool: ConnectionPool) -> int:
    wanted = transfer_access.wanted_of(keep, tuple(args.only))
    listing, state = fresh_listing(args, keep, pool), RemoteState(keep.folder)
    require_some(args.only, wanted, (*listing.entries, *state.known()), f"{pool.settings.address} and the copy here")
    if state.address != str(pool.settings.address):
        raise UsageError(f"nothing was fetched from {pool.settings.address} yet", hint="'emberkeep mirror fetch' first")
    known = state.known()
    if not args.another:
        fetch_plan.refuse_another(listing, known, pool.settings.address)
    keep.require_server()
    plan = send.send_plan(listing, known, fetch_plan.Local(keep.server, known), wanted, pool.settings.address)
    asked = send.asked_of(plan, listing, pool.settings.address)
    done: Run | None = None
    if args.go and not plan.nothing:
        with opened(keep) as store, progress("send", screen) as step:
            context = run_context_for(args, screen, keep, store, send.KIND.run(asked, now()), step, pool)
            done = carry_out(context, send.steps(keep, store, asked))
    code = 0 if done or plan.nothing else 1
    return answer(
        args,
        code,
        {"plan": plan, "new": asked.new, "done": done is not None, "run": done},
        lambda: view.sent(screen, plan, asked, pool.settings.address, done, args.details),
    )


def take_back(args: argparse.Namespace, screen: Screen, keep: Keep, store: Store, run: Run) -> int:
    """Undo of a send."""
    asked = send.KIND.request_of(run)
    if args.go:
        with connections_to(args, screen, keep) as pool, progress("undo", screen) as step:
            send.undo(run_context_for(args, screen, keep, store, run, step, pool))
    result = {"run": run, "far": asked, "done": bool(args.go)}
    return answer(args, 0, result, lambda: view.taken_back(screen, run, asked, bool(args.go)))


def go_on(args: argparse.Namespace, screen: Screen, keep: Keep, store: Store, run: Run) -> int:
    """Resuming a send."""
    asked = send.KIND.request_of(run)
    if args.go:
        with connections_to(args, screen, keep) as pool, progress("resume", screen) as step:
            resume(run_context_for(args, screen, keep, store, run, step, pool), stay=args.stay)
    result = {"run": run, "far": asked, "done": bool(args.go)}
    return answer(args, 0, result, lambda: view.going_on(screen, run, asked, bool(args.go)))
