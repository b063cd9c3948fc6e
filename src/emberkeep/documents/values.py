"""When two spellings are the same value, and how a number is spelled."""

from __future__ import annotations

import json
import re
from collections.abc import Iterable
from decimal import ROUND_CEILING, ROUND_FLOOR, ROUND_HALF_UP, Decimal
from functools import lru_cache

_NUMBER = re.compile(r"[+-]?(?:(?:0|[1-9]\d{0,39})(?:\.\d{0,40})?|\.\d{1,40})")


@lru_cache(maxsize=1 << 15)
def number(text: str) -> Decimal | None:
    """The plain decimal number written in ``text``, None when it is none: ``050`` is a name of digits."""
    stripped = text.strip()
    return Decimal(stripped) if _NUMBER.fullmatch(stripped) else None


def said(text: str) -> str:
    """What a value says: without white space around it, and whatever its line ends are."""
    return (text.replace("\r\n", "\n").replace("\r", "\n") if "\r" in text else text).strip()


def same_value(left: str | None, right: str | None) -> bool:
    """Equal as written (white space around it and line ends aside) or equal as numbers: ``10`` and ``10.0``."""
    if left is None or right is None:
        return left is right
    if said(left) == said(right):
        return True
    first, second = number(left), number(right)
    return first is not None and first == second


def kinds(values: Iterable[str]) -> list[str]:
    """What all of some values are, the narrowest first: ``a whole number``, ``a number``, ``true or false``."""
    bare = [unquoted(value.strip()) if value.strip().startswith('"') else value.strip() for value in values]
    found = []
    if bare and all(number(value) is not None for value in bare):
        found = ["a whole number"] * all(is_whole(value) for value in bare) + ["a number"]
    elif bare and all(value.lower() in ("true", "false") for value in bare):
        found = ["true or false"]
    return found


ROUNDINGS = {"near": ROUND_HALF_UP, "up": ROUND_CEILING, "down": ROUND_FLOOR}
_FINEST = 6


def is_whole(text: str) -> bool:
    """Whether a number is spelled without decimals."""
    return "." not in text


def respelled(exact: Decimal, like: str, rounding: str = "near") -> str:
    """A number spelled as ``like`` is: whole where that is, else with no fewer decimals than that, and at most six
    more. ``rounding``: one of :data:`ROUNDINGS`."""
    if is_whole(like):
        return f"{exact.quantize(Decimal(1), ROUNDINGS[rounding]):f}"
    least = len(like.strip().partition(".")[2])
    wanted = max(0, -int(exact.normalize().as_tuple().exponent))
    decimals = max(least, min(wanted, least + _FINEST))
    return f"{exact.quantize(Decimal(1).scaleb(-decimals), ROUNDINGS[rounding]):f}"


def unquoted(value: str) -> str:
    """What a value says, without the quotes that JSON spells texts with."""
    try:
        return str(json.loads(value)) if value.startswith('"') else value
    except ValueError:
        return value
