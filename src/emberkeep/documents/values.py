"""When two spellings are the same value."""

from __future__ import annotations

import re
from decimal import Decimal

_NUMBER = re.compile(r"[+-]?(?:\d{1,40}(?:\.\d{0,40})?|\.\d{1,40})")


def number(text: str) -> Decimal | None:
    """The plain decimal number written in ``text``, None when it is none."""
    stripped = text.strip()
    return Decimal(stripped) if _NUMBER.fullmatch(stripped) else None


def same_value(left: str | None, right: str | None) -> bool:
    """Equal as written (white space around it aside) or equal as numbers: ``10`` and ``10.0``."""
    if left is None or right is None:
        return left is right
    if left.strip() == right.strip():
        return True
    first, second = number(left), number(right)
    return first is not None and first == second
