"""Ember Keep takes a survival game server safely across an update.

As a library: ``from emberkeep import Keep`` (see ``emberkeep.api`` and docs/library.md).
"""

from __future__ import annotations

import sys

TYPE_CHECKING = False  # loading typing takes longer than printing the version

if sys.version_info < (3, 11):  # noqa: UP036 - started from a folder, nothing else has asked before
    sys.exit("emberkeep needs Python 3.11 or newer, and this is %d.%d" % sys.version_info[:2])  # noqa: UP031

if TYPE_CHECKING:
    from emberkeep.api import Keep

__version__ = "0.1.0"
__all__ = ["Keep", "__version__"]


def __getattr__(name: str) -> object:
    # Loaded on first use, so that ``emberkeep --version`` costs little more than a bare interpreter.
    if name == "Keep":
        from emberkeep.api import Keep

        return Keep
    raise AttributeError(f"module {__name__!r} has no attribute {name!r}")
