"""An update as one HTML file: what it would do, or what it came to. No scripts, nothing from elsewhere."""

from __future__ import annotations

from emberkeep.fs.overlay import What
from emberkeep.operations.engine.preview import Preview
from emberkeep.operations.flows.update import Report
from emberkeep.show import words
from emberkeep.show.files.report import page

MOST = 400
"""Files listed of one step; the rest is counted."""


def html(title: str, found: Preview | None, report: Report | None) -> str:
    """The page of a preview, or of a report."""
    template = page("day.html", {"clean": words.escape_control, "size": words.size})
    counts = [
        (len(some), f"files to {kind}")
        for kind in What
        if (some := [change for change in (found.changes if found else ()) if change.what is kind])
    ]
    lost = sum(not item.allowed for item in report.missed) if report else 0
    return template.render(title=title, preview=found, report=report, counts=counts, most=MOST, lost=lost)
