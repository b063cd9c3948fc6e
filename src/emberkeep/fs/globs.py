"""Path patterns, as keep.toml and ``--only`` use them; the one home of their meaning.

``*`` any run of characters within one path part · ``?`` one of them · ``[a-z]`` one of a set, ``[!a-z]`` not ·
``**`` any number of whole parts (``lib/**`` is everything below lib) · all else stands for itself. Case counts.
"""

from __future__ import annotations

import re
from collections.abc import Iterable
from functools import lru_cache

_PIECE = re.compile(r"\*\*/|/\*\*$|\*\*|\*|\?|\[!?\]?[^\]]*\]|.", re.DOTALL)
_MEANING = {"**/": "(?:.*/)?", "/**": "/.*", "**": ".*", "*": "[^/]*", "?": "[^/]"}


def as_regex(pattern: str) -> str:
    """The regular expression that matches the same whole paths as ``pattern``."""
    return "".join(_meaning(piece) for piece in _PIECE.findall(pattern))


def _meaning(piece: str) -> str:
    if piece in _MEANING:
        return _MEANING[piece]
    if len(piece) > 2 and piece.startswith("["):
        negated = piece.startswith("[!")
        inner = re.sub(r"([\[\]\\^&~|])", r"\\\1", piece[2 if negated else 1 : -1])
        return f"(?!/)[{'^' if negated else ''}{inner}]"
    return re.escape(piece)


@lru_cache(maxsize=512)
def compiled(pattern: str) -> re.Pattern[str]:
    """``pattern`` ready for ``fullmatch``. Raises re.error for a set that makes no sense, as ``[z-a]``."""
    return re.compile(as_regex(pattern), re.DOTALL)


def combined(patterns: Iterable[str]) -> re.Pattern[str]:
    """All patterns in one, ready for ``fullmatch`` on many paths; none matches nothing."""
    return re.compile("|".join(f"(?:{as_regex(pattern)})" for pattern in patterns) or r"(?!)", re.DOTALL)


def matches(path: str, patterns: Iterable[str]) -> bool:
    """Whether any of the patterns matches the whole path."""
    return any(compiled(pattern).fullmatch(path) for pattern in patterns)


def escape(path: str) -> str:
    """The pattern that matches exactly ``path``; bytes that are not UTF-8, which keep.toml cannot hold, match any one
    character."""
    return re.sub("[\udc80-\udcff]", "?", re.sub(r"([*?\[])", r"[\1]", path))
