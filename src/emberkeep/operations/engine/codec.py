"""Requests of runs to and from JSON: dataclasses of text, numbers, paths, moments, and such within them.

Fields that a request of an earlier Ember Keep lacks take their defaults; those that nobody knows any more are passed
over.
"""

from __future__ import annotations

from pathlib import Path
from typing import Any, TypeVar

from emberkeep.errors import UnreadableInput

T = TypeVar("T")


def to_json(value: object) -> Any:
    """A dataclass as JSON has it: paths and moments (ISO 8601) as text."""
    import msgspec  # only where a run begins

    return msgspec.to_builtins(value, enc_hook=_as_text)


def from_json(wanted: type[T], value: object, what: str) -> T:
    """The dataclass again. UnreadableInput, naming ``what`` and the field, where it is none."""
    import msgspec  # only where a run is looked at again

    try:
        return msgspec.convert(value, wanted, dec_hook=_from_text)
    except msgspec.ValidationError as error:
        raise UnreadableInput(f"{what} cannot be read: {error}") from None


def _as_text(value: object) -> str:
    if isinstance(value, Path):
        return str(value)
    raise NotImplementedError(f"{type(value).__name__} has no form in JSON")


def _from_text(wanted: type, value: object) -> object:
    if issubclass(wanted, Path) and isinstance(value, str):
        return Path(value)
    raise NotImplementedError(f"{wanted.__name__} has no form in JSON")
