"""A merge as one HTML file: no scripts, nothing from elsewhere, readable on a telephone."""

from __future__ import annotations

import base64
from collections.abc import Callable, Mapping
from pathlib import Path
from typing import TYPE_CHECKING

from emberkeep.merging.economy import Economy
from emberkeep.merging.results import COMMENT, LINES, RECORD, Change, FileMerge, Merge, Outcome, Question, What
from emberkeep.show import words
from emberkeep.show.files import charts

if TYPE_CHECKING:
    from jinja2 import Template

MOST = 400
"""Changes listed of one file; the rest is counted."""

_SIGNS = {What.SET: "changed", What.ADDED: "new", What.REMOVED: "gone", What.MOVED: "moved"}


def html(found: Merge, moved: Economy, title: str, news: str) -> str:
    """The report. ``news``: the paragraph for players."""
    filters: dict[str, Callable[..., object]] = {
        "value": _value,
        "name": _name,
        "place": _place,
        "redact": words.redact,
    }
    template = page("report.html", filters)
    picture = ""
    if moved.sums:
        drawn = charts.totals(moved.sums, "What the merge does to the economy", ("yours", "merged"), moved.defaults)
        picture = base64.b64encode(drawn).decode()
    return template.render(
        title=title,
        summary=news,
        merge=found,
        files=[item for item in found.files if _is_told(item)],
        counts=_counts(found),
        sums=moved.sums,
        picture=picture,
        signs=_SIGNS,
        outcomes={
            Outcome.SAME: "stays as it is",
            Outcome.MERGED: "merged",
            Outcome.ADDED: "new file",
            Outcome.REMOVED: "goes",
            Outcome.FAULTY: "cannot be read",
        },
        most=MOST,
    )


def page(name: str, filters: Mapping[str, Callable[..., object]]) -> Template:
    """A page's template, with what all pages share."""
    from jinja2 import Environment, FileSystemLoader, StrictUndefined  # takes its time to load

    loader = FileSystemLoader(Path(__file__).parent)
    environment = Environment(
        loader=loader, autoescape=True, undefined=StrictUndefined, trim_blocks=True, lstrip_blocks=True
    )
    environment.filters.update(filters)
    return environment.get_template(name)


def _is_told(item: FileMerge) -> bool:
    return bool(item.taken or item.kept or item.questions or item.obeyed or item.fault or item.warnings)


def _counts(found: Merge) -> list[tuple[int, str, str]]:
    """Number, words, and the part of the page it stands in."""
    return [
        (len(found.taken), "from the vendor", "came"),
        (len(found.kept), "of yours kept", "kept"),
        (len(found.open), "open questions", "waits"),
        (len(found.obeyed), "by standing orders", "orders"),
        (len(found.breaches), "checks broken", "checks"),
    ]


def _value(text: str | None) -> str:
    return "absent" if text is None else words.short(text, 72)


def _name(item: Change | Question) -> str:
    plain = {RECORD: "", LINES: "", COMMENT: "comment"}
    field = plain.get(item.field, item.field.removeprefix("@"))
    return words.escape_control(" ".join(part for part in (item.record, field) if part)) or "the file"


def _place(item: Change | Question) -> str:
    return f"line {item.line}" if item.line else ""
