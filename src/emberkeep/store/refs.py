"""Which snapshot is meant: a number (or ``snapshot 7``, as it is shown), ``latest``, a note, or a moment
(``2 days ago``, ``2026-04-02T18:00``)."""

from __future__ import annotations

import re
from collections.abc import Iterable
from datetime import datetime, timedelta, tzinfo

from emberkeep.errors import UsageError, did_you_mean
from emberkeep.store.manifest import ASKED, About

_AGO = re.compile(r"(\d+)\s*(minute|min|hour|day|week)s?\s+ago")
_UNITS = {"min": "minutes", "minute": "minutes", "hour": "hours", "day": "days", "week": "weeks"}


def resolve(ref: str, newest_first: Iterable[About], now: datetime, zone: tzinfo) -> About:
    """The snapshot that ``ref`` names among those of a keep, which are asked for only as far as need be.

    A moment means the last one taken by then, read in ``zone`` where it names none. UsageError when there is none.
    """
    passed: list[About] = []
    shown = ref.strip().removeprefix("snapshot ")  # as history and reports call it
    for about in newest_first:
        passed.append(about)
        if _is_latest(about) if ref == "latest" else ref and (ref in (about.label, about.note) or shown == about.label):
            return about
    if not passed:
        raise UsageError("this keep has no snapshot yet", hint="'emberkeep snapshot' takes one")
    if ref == "latest":
        return passed[0]
    moment = _moment(ref, now, zone)
    if moment is None:
        ways = "a number from 'emberkeep history', latest, a note, or a moment such as '2 days ago' is wanted"
        notes = {about.note for about in passed if about.note}
        raise UsageError(f"'{ref}' is no snapshot of this keep", hint=did_you_mean(ref, {"latest", *notes}, ways))
    before = next((about for about in passed if about.taken <= moment), None)
    if before is None:
        raise UsageError(f"no snapshot had been taken by {moment:%Y-%m-%d %H:%M}")
    return before


def _is_latest(about: About) -> bool:
    """What a run took before it began is named by number only: "restore latest" said twice must not undo itself. Nor
    does it mean what was taken in from elsewhere."""
    return about.why == ASKED and not about.source


def _moment(ref: str, now: datetime, zone: tzinfo) -> datetime | None:
    if ago := _AGO.fullmatch(ref.strip()):
        return now - timedelta(**{_UNITS[ago[2]]: int(ago[1])})
    try:
        moment = datetime.fromisoformat(ref)
    except ValueError:
        return None
    return moment if moment.tzinfo else moment.replace(tzinfo=zone)
