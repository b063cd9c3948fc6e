"""Results as plain values for JSON."""

from __future__ import annotations

from dataclasses import fields, is_dataclass
from datetime import date, timedelta
from decimal import Decimal
from enum import Enum
from pathlib import Path
from typing import Any

from emberkeep.errors import EmberKeepError
from emberkeep.fs.trees import Entry
from emberkeep.merging.results import FileMerge, Merge
from emberkeep.show.words import redact
from emberkeep.transfer.protocol import RemoteEntry

FORMAT = 1
"""Of all documents: within one format no key goes and none changes its type; new ones may come."""


def to_json(value: Any) -> Any:
    """Dataclasses as objects, tuples and sets as lists, moments in ISO 8601, lengths of time in seconds, paths as
    text; bytes are left out."""
    if isinstance(value, FileMerge):
        return {"path": value.path, "outcome": value.outcome.value, "format": value.format}
    if isinstance(value, Merge):
        return _merge(value)
    if is_dataclass(value) and not isinstance(value, type):
        value = redact(value)
        return {item.name: to_json(getattr(value, item.name)) for item in fields(value)}
    if isinstance(value, Enum):
        return value.value
    if isinstance(value, date):
        return value.isoformat()
    if isinstance(value, timedelta):
        return value.total_seconds()
    if isinstance(value, (Entry, RemoteEntry)):
        return {name: to_json(item) for name, item in value._asdict().items()}
    if isinstance(value, Path):
        return str(value)
    if isinstance(value, dict):
        return {str(key): to_json(item) for key, item in value.items()}
    if isinstance(value, (set, frozenset)):
        return [to_json(item) for item in sorted(value)]
    if isinstance(value, (list, tuple)):
        return [to_json(item) for item in value]
    if isinstance(value, Decimal):
        return int(value) if value == value.to_integral_value() else float(value)
    return value


PARTS_OF_MERGE = {
    **{name: name for name in ("old", "new", "files", "taken", "kept", "questions", "obeyed")},
    "orders_that_disagree": "disagreements",
    "orders_that_met_nothing": "idle",
    **{name: name for name in ("breaches", "warnings", "faults")},
}
"""What is told of a merge as it stands there, and under which key."""


def _merge(merge: Merge) -> dict[str, Any]:
    return {
        **{key: to_json(getattr(merge, name)) for key, name in PARTS_OF_MERGE.items()},
        "open": len(merge.open),
        "unused_answers": [{"file": file, "record": record, "field": field} for file, record, field in merge.unused],
        "left_alone": [{"file": path, "role": role} for path, role in merge.passed],
    }


def failure(command: str, error: EmberKeepError) -> dict[str, Any]:
    """An error as the JSON document of a command."""
    faults = [
        {
            "what": fault.what,
            "file": fault.place.file if fault.place else None,
            "line": fault.place.line if fault.place else None,
            "column": fault.place.column if fault.place else None,
            "next": fault.hint,
        }
        for fault in error.faults
    ]
    return {"format": FORMAT, "command": command, "exit": error.exit_code, "faults": faults}
