"""Two or three sides beside each other as one HTML file: no scripts, nothing from elsewhere, readable on a phone."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass
from itertools import groupby

from emberkeep.comparing.beside import WHOLE, BesideFile, Row
from emberkeep.comparing.records import COMMENT, LINES, RECORD, Kind
from emberkeep.show import words
from emberkeep.show.files.report import page

MOST = 1500
"""Rows of one file; the rest is counted."""
MOST_SORTS = 12
_SIGNS = {Kind.CHANGED: "changed", Kind.ADDED: "new", Kind.REMOVED: "gone", Kind.MOVED: "moved"}
_WHOLE = {RECORD: "", LINES: "lines", COMMENT: "comment", WHOLE: "the file"}


@dataclass(frozen=True)
class Column:
    """One side: what it is called, and the attribute of a row that holds it."""

    title: str
    attribute: str


def html(found: Sequence[BesideFile], columns: Sequence[Column], title: str) -> str:
    """The page. ``columns``: two or three sides, oldest first."""
    rows = [row for item in found for row in item.rows]
    sorts = [sort for sort, _ in Counter(row.sort for row in rows if row.sort).most_common(MOST_SORTS)]
    template = page(
        "beside.html",
        {
            "value": _value,
            "clean": words.escape_control,
            "field": lambda row: _WHOLE.get(row.field, row.field.removeprefix("@")),
            "records": _by_record,
            "redact": words.redact,
        },
    )
    return template.render(
        title=words.escape_control(title),
        files=found,
        columns=columns,
        sorts=sorts,
        counts=_counts(rows, len(columns) > 2),
        three=len(columns) > 2,
        signs=_SIGNS,
        classes=lambda row: _classes(row, sorts),
        changed=_changed,
        most=MOST,
    )


def _by_record(rows: Sequence[Row]) -> list[tuple[str, list[Row]]]:
    """Rows by what they are of; lines and whole files are of no record."""
    groups = groupby(rows, key=lambda row: "" if row.field in (LINES, WHOLE) else row.record)
    return [(name, list(of)) for name, of in groups]


def _counts(rows: Sequence[Row], three: bool) -> list[tuple[int, str, str]]:
    """Number, words, and the filter that shows them."""
    counts = [(len(rows), "differences", "all")]
    if three:
        counts += [
            (sum(row.needs_me for row in rows), "need you", "needs"),
            (sum(row.how_mine is not None for row in rows), "by you", "by-mine"),
            (sum(row.how_new is not None for row in rows), "by the vendor", "by-new"),
        ]
    return counts


def _classes(row: Row, sorts: Sequence[str]) -> str:
    marks = [f"s{sorts.index(row.sort)}"] if row.sort in sorts else []
    marks += ["needs"] if row.needs_me else []
    marks += ["by-mine"] if row.how_mine is not None else []
    marks += ["by-new"] if row.how_new is not None else []
    return " ".join(marks)


def _changed(row: Row, attribute: str) -> Kind | None:
    """How the value of a column differs from the oldest."""
    return {"mine": row.how_mine, "new": row.how_new}.get(attribute)


def _value(text: str | None) -> str:
    return "–" if text is None else words.short(text, 160)
