"""Ember Keep takes a survival game server safely across an update.

The library mirrors the command line: open a :class:`Keep`, then call the few public functions of each
layer with it (``emberkeep.operations``, ``emberkeep.merging``, ``emberkeep.comparing`` and so on).
"""

from __future__ import annotations

import sys
from typing import TYPE_CHECKING

if sys.version_info < (3, 11):  # noqa: UP036 - started from a folder, nothing else has asked before
    sys.exit("emberkeep needs Python 3.11 or newer, and this is %d.%d" % sys.version_info[:2])  # noqa: UP031

if TYPE_CHECKING:
    from emberkeep.keep.keep import Keep

__version__ = "0.1.0"
__all__ = ["Keep", "__version__"]


def __getattr__(name: str) -> object:
    # Loaded on first use, so that ``emberkeep --version`` costs little more than a bare interpreter.
    if name == "Keep":
        from emberkeep.keep.keep import Keep

        return Keep
    raise AttributeError(f"module {__name__!r} has no attribute {name!r}")
