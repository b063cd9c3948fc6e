"""``emberkeep orders``: intents that every new default is given: list, find, accept, try and drop them."""

from __future__ import annotations

import argparse
from dataclasses import replace

from emberkeep.cli.context import add_go, answer, now, opened, the_keep
from emberkeep.errors import UsageError, did_you_mean
from emberkeep.merging import orders as order_files
from emberkeep.merging.orders import Order
from emberkeep.operations.steps import merge as merging
from emberkeep.operations.upkeep import orders as runs
from emberkeep.show import orders as view
from emberkeep.show.console import Screen

EXAMPLES = (
    "emberkeep orders                       (lists those there are)",
    "emberkeep orders propose               (finds the intents in your hand edits)",
    "emberkeep orders propose --go          (writes them into orders.toml, not yet accepted)",
    "emberkeep orders accept 'food: afloat x 2'",
    "emberkeep orders test",
)
EXITS = {
    0: "nothing waits",
    1: "orders wait to be accepted; or with test: an order explains nothing",
}
ACTS = ("list", "propose", "accept", "test", "drop")


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """What to do with orders, and with which."""
    parser.add_argument("act", nargs="?", choices=ACTS, default="list", help="what to do (default: list)")
    parser.add_argument("names", nargs="*", metavar="NAME", help="for accept and drop: which orders")
    parser.add_argument("--all", action="store_true", help="for accept: every order that is not accepted yet")
    parser.add_argument("--from", dest="old", metavar="V", help="the release your files began from (default: best fit)")
    add_go(parser, "for propose: write what was found into orders.toml")


def run(args: argparse.Namespace, screen: Screen) -> int:
    """Exit code 1 when orders wait to be accepted, or (test) explain nothing."""
    keep = the_keep(args)
    there = merging.load_orders(keep.orders_file)
    if args.names and args.act not in ("accept", "drop"):
        raise UsageError(f"'orders {args.act}' takes no names")
    if args.act == "list":
        code = 1 if any(not order.accepted for order in there) else 0
        return answer(args, code, {"orders": there}, lambda: view.listed(screen, there))
    if args.act in ("accept", "drop"):
        return _changed(args, screen, there)
    with opened(keep) as store:
        if args.act == "test":
            found = runs.examined(keep, store, there, args.old)
            code = 1 if any(not intent.explained for intent in found.intents) else 0
            return answer(args, code, {"orders": found}, lambda: view.tested(screen, found))
        proposed = runs.proposed(keep, store, there, args.old)
    if args.go and proposed.intents:
        order_files.save(keep.orders_file, [*there, *(intent.order for intent in proposed.intents)])
    code = 1 if proposed.intents else 0
    return answer(args, code, {"proposed": proposed}, lambda: view.proposed(screen, proposed, written=args.go))


def _changed(args: argparse.Namespace, screen: Screen, there: list[Order]) -> int:
    keep = the_keep(args)
    known = {order.name for order in there}
    names = {order.name for order in there if not order.accepted} if args.all else set(args.names)
    if not names:
        raise UsageError(f"which orders are to be {args.act}ed?", hint="name them as 'emberkeep orders' does")
    if missing := sorted(names - known):
        hint = did_you_mean(missing[0], known, f"there are: {', '.join(sorted(known)) or 'none'}")
        raise UsageError(f"there is no order called '{missing[0]}'", hint=hint)
    if args.act == "drop":
        left = [order for order in there if order.name not in names]
    else:
        today = now().astimezone(keep.config.tz).date()
        left = [replace(order, accepted=today) if order.name in names else order for order in there]
    order_files.save(keep.orders_file, left)
    return answer(args, 0, {"orders": left}, lambda: view.listed(screen, left))
