"""What ``check`` found, for people."""

from __future__ import annotations

from emberkeep.operations.flows.readiness import Readiness
from emberkeep.show import words
from emberkeep.show.console import ASKS, GOOD, HEAD, QUIET, Screen


def check(screen: Screen, found: Readiness, name: str) -> None:
    """Each obstacle with what to do about it, by area; then what is in order."""
    screen.line(f"{name}: what could stop an update, a wipe, a start or an event (nothing is touched)", HEAD)
    for area in dict.fromkeys(obstacle.area for obstacle in found.obstacles):
        screen.line(f"{area}", HEAD)
        for obstacle in found.obstacles:
            if obstacle.area == area:
                screen.line(f"! {obstacle.fault}", ASKS)
                if obstacle.fault.hint:
                    screen.line(f"    next: {obstacle.fault.hint}", QUIET)
    if found.clear:
        screen.line(f"all right: {', '.join(found.clear)}", GOOD if not found.obstacles else QUIET)
    if found.obstacles:
        screen.next(f"mend {words.count(len(found.obstacles), 'thing')}, then 'emberkeep check' again")
