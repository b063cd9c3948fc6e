"""Everything that can go wrong, as one tree.

Each error says what is wrong, where, and what to do next, and carries the exit code of the command contract::

    EmberKeepError
    ├── UsageError        2   the call cannot be meant like this
    ├── UnreadableInput   2   a file or archive cannot be read or makes no sense (with line and column)
    ├── Refused           3   safe only if the admin says so, or not at all
    ├── Damage            4   bytes in the store are not what was put there
    ├── RunFailed         5   the work began and could not be finished
    └── Interrupted     130   somebody stopped the work half-way

This module imports nothing else of ours. Wording for people happens in ``show``; the messages here are
whole sentences already, since they are the same facts in text and in JSON.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass


@dataclass(frozen=True)
class Place:
    """Where in a file something is: 1-based line and column, either may be unknown (None)."""

    file: str
    line: int | None = None
    column: int | None = None

    def __str__(self) -> str:
        parts = [self.file]
        if self.line is not None:
            parts.append(str(self.line))
            if self.column is not None:
                parts.append(str(self.column))
        return ":".join(parts)


@dataclass(frozen=True)
class Fault:
    """One thing wrong in an input, fit to be listed beside others."""

    what: str
    place: Place | None = None
    hint: str = ""

    def __str__(self) -> str:
        return f"{self.place}: {self.what}" if self.place else self.what


class EmberKeepError(Exception):
    """Base of all errors a user may meet; ``faults`` holds at least one."""

    exit_code = 1

    def __init__(self, what: str, *, place: Place | None = None, hint: str = "") -> None:
        super().__init__(what)
        self.faults: tuple[Fault, ...] = (Fault(what, place, hint),)

    @classmethod
    def gathered(cls, faults: tuple[Fault, ...]) -> EmberKeepError:
        """One error for many faults, in the order they were found."""
        first = faults[0]
        error = cls(first.what, place=first.place, hint=first.hint)
        error.faults = faults
        return error

    def __str__(self) -> str:
        return "\n".join(str(fault) for fault in self.faults)


def did_you_mean(word: str, known: Iterable[str], otherwise: str = "") -> str:
    """A hint: the known name that a word is nearest to; ``otherwise`` where none is near."""
    from difflib import get_close_matches  # only where something went wrong

    near = get_close_matches(word, list(known), 1)
    return f"did you mean '{near[0]}'?" if near else otherwise


class UsageError(EmberKeepError):
    """The call cannot be meant like this."""

    exit_code = 2


class UnreadableInput(EmberKeepError):
    """A file, archive or configuration cannot be read."""

    exit_code = 2


class Refused(EmberKeepError):
    """Not done, because it is not safe."""

    exit_code = 3


class Damage(EmberKeepError):
    """Stored bytes are not what was put there."""

    exit_code = 4


class RunFailed(EmberKeepError):
    """The work began and could not be finished; what was changed is said."""

    exit_code = 5


class Interrupted(EmberKeepError):
    """Somebody stopped the work half-way; what was changed is said."""

    exit_code = 130


def reason(error: OSError) -> str:
    """Why the system refused, in words."""
    number = getattr(error, "winerror", 0)
    if number in IN_USE:
        return "another program has it open; end that program, or stop the server, and try again"
    if number == DENIED:
        return "access is denied: a program may have it open, or you may not change it"
    return error.strerror or str(error)


IN_USE = (32, 33)
"""What Windows says of a file that another program has open, and that it shares with nobody or holds locked in part."""
DENIED = 5
"""What Windows says where there is no right to, and where a file is to be replaced that a program has open."""


@contextmanager
def system_may_refuse(what: str, where: object, hint: str) -> Iterator[None]:
    """RunFailed, saying ``what`` could not be done, for an OSError in the block; ``where``: the place when it
    names none."""
    try:
        yield
    except OSError as error:
        place = Place(str(error.filename or where))
        raise RunFailed(f"{what}: {reason(error)}", place=place, hint=hint) from error


def first_of(names: Sequence[str], most: int, between: str = ", ") -> str:
    """The first ``most`` of some names, and how many more there are, for a message."""
    more = [f"and {len(names) - most} more"] if len(names) > most else []
    if between == ", ":
        return " ".join([", ".join(names[:most]), *more])
    return between.join([*names[:most], *more])
