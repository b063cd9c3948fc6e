"""Standing orders as text: what there is, what was found in the hand edits, what they explain."""

from __future__ import annotations

from collections.abc import Sequence

from emberkeep.merging.intents import HandEdit, Intent, Intents
from emberkeep.merging.orders import DROP, Order
from emberkeep.show import words
from emberkeep.show.console import ASKS, GOOD, HEAD, QUIET, Screen, cell, table

MOST = 12


def listed(screen: Screen, orders: Sequence[Order]) -> None:
    """All orders of a keep."""
    if not orders:
        screen.line("There are no standing orders.")
        screen.next("'emberkeep orders propose' looks for intents in your hand edits")
        return
    rows = table("order", "in", "does", "accepted")
    for order in orders:
        accepted = cell(order.accepted.isoformat(), GOOD) if order.accepted else cell("not yet", ASKS)
        rows.add_row(cell(order.name), cell(order.files), cell(does(order)), accepted)
    screen.show(rows)
    if any(not order.accepted for order in orders):
        screen.next("read them over in orders.toml, then emberkeep orders accept NAME (or --all)")


def does(order: Order) -> str:
    """What an order does, to which records."""
    about = " and ".join(f"{name} {_wanted(wanted)}" for name, wanted in order.records)
    what = "leaves out" if order.do == DROP else f"{order.words} where"
    return f"{what} {about}" if about else f"{order.words}, everywhere in {order.list or 'the file'}"


def _wanted(wanted: Sequence[str]) -> str:
    return wanted[0] if len(wanted) == 1 else f"in {words.short(', '.join(wanted), 50)}"


def proposed(screen: Screen, found: Intents, *, written: bool) -> None:
    """Intents found in the hand edits, and what they leave unexplained."""
    if not found.intents:
        screen.line("No intent was found that explains three hand edits or more.")
    else:
        screen.line("Intents found in your hand edits", HEAD)
        _intents(screen, found.intents)
    _residue(screen, found.residue)
    if not found.intents:
        return
    screen.line()
    if written:
        screen.line("Written into orders.toml, not yet accepted.", GOOD)
        screen.next("emberkeep orders accept NAME (or --all); until then they do nothing")
    else:
        screen.next("emberkeep orders propose --go writes them down for you to read over")


def tested(screen: Screen, found: Intents) -> None:
    """What each order explains."""
    if not found.intents:
        listed(screen, [])
        return
    screen.line("What your standing orders explain", HEAD)
    _intents(screen, found.intents)
    for intent in found.intents:
        if not intent.explained:
            screen.line(f"'{intent.order.name}' explains none of your hand edits.", ASKS)
    _residue(screen, found.residue)


def _intents(screen: Screen, intents: Sequence[Intent]) -> None:
    rows = table("order", "in", "explains", "strays", "for example", right=("explains", "strays"))
    for intent in intents:
        rows.add_row(
            cell(intent.order.name),
            cell(intent.order.files),
            str(len(intent.explained)),
            str(len(intent.strays) or ""),
            cell(_example(intent)),
        )
    screen.show(rows)


def _example(intent: Intent) -> str:
    if not intent.explained:
        return ""
    return _edit(intent.explained[0])


def _edit(edit: HandEdit) -> str:
    edit = words.redact(edit)
    if not edit.field:
        return f"{edit.record} removed"
    return f"{edit.record} {edit.field} {words.short(edit.before, 20)} → {words.short(edit.after, 20)}"


def _residue(screen: Screen, residue: Sequence[HandEdit]) -> None:
    if not residue:
        return
    screen.line()
    screen.line(f"{words.count(len(residue), 'hand edit')} of their own, which no order explains:")
    for edit in residue[:MOST]:
        screen.line(f"  {_edit(edit)}", QUIET)
    if len(residue) > MOST:
        screen.line(f"  … and {len(residue) - MOST} more", QUIET)
