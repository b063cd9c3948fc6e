"""What a survey knows, as metrics in OpenMetrics text (version 1.0), for a collector that reads files.

All are gauges, so that collectors that know only Prometheus' older text format read them too.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from datetime import datetime


@dataclass(frozen=True)
class Standing:
    """How one server stands. ``None`` where it never was, or is not known."""

    server: str
    engine: str
    surveyed: datetime
    running: bool | None
    snapshots: int
    last_snapshot: datetime | None
    last_verify: datetime | None
    last_drill: datetime | None
    proven: bool | None
    store_bytes: int
    open_questions: int
    attention: int
    next_wipe: datetime | None
    last_due: datetime | None


def text(one: Standing) -> str:
    """The whole file."""
    label = f'{{server="{_escaped(one.server)}"}}'
    lines = []
    for name, words, value in _gauges(one):
        if value is not None:
            lines += [f"# TYPE {name} gauge", f"# HELP {name} {words}", f"{name}{label} {value}"]
    engine = f'{{server="{_escaped(one.server)}",version="{_escaped(one.engine)}"}}'
    lines += [
        "# TYPE emberkeep_engine gauge",
        "# HELP emberkeep_engine The engine's version.",
        f"emberkeep_engine{engine} 1",
    ]
    return "\n".join([*lines, "# EOF", ""])


def _gauges(one: Standing) -> Iterator[tuple[str, str, int | float | None]]:
    yield "emberkeep_survey_timestamp_seconds", "When this was written.", _moment(one.surveyed)
    yield "emberkeep_running", "Whether the server runs.", None if one.running is None else int(one.running)
    yield "emberkeep_snapshots", "Snapshots in the store.", one.snapshots
    yield "emberkeep_last_snapshot_timestamp_seconds", "When the last snapshot was taken.", _moment(one.last_snapshot)
    yield (
        "emberkeep_last_verify_timestamp_seconds",
        "When all of the store was last found sound.",
        _moment(one.last_verify),
    )
    yield "emberkeep_last_drill_timestamp_seconds", "When a snapshot was last tried.", _moment(one.last_drill)
    yield (
        "emberkeep_last_drill_proven",
        "Whether that drill proved it.",
        None if one.proven is None else int(one.proven),
    )
    yield "emberkeep_store_bytes", "Bytes of the store on the disk.", one.store_bytes
    yield "emberkeep_open_questions", "Questions of adopt and of merges that are open.", one.open_questions
    yield "emberkeep_attention", "Things that want attention.", one.attention
    yield "emberkeep_next_wipe_timestamp_seconds", "When the next wipe falls.", _moment(one.next_wipe)
    yield "emberkeep_last_due_timestamp_seconds", "When 'due --go' last ran.", _moment(one.last_due)


def _moment(at: datetime | None) -> int | None:
    return int(at.timestamp()) if at is not None else None


def _escaped(words: str) -> str:
    return words.replace("\\", "\\\\").replace('"', '\\"').replace("\n", "\\n")
