"""Pictures as PNG files, 1280 pixels wide: maps of tiles, bars of totals, growth, the calendar, attendance."""

from __future__ import annotations

import importlib
import io
import math
from collections.abc import Mapping, Sequence
from datetime import datetime, tzinfo
from decimal import Decimal
from types import MappingProxyType
from typing import TYPE_CHECKING, Any
from zoneinfo import ZoneInfo

from emberkeep.comparing.records import Kind
from emberkeep.comparing.tiles import TileMap
from emberkeep.comparing.totals import Total, Totals
from emberkeep.retention.growth import Growth
from emberkeep.schedule.attendance import Attendance, Rhythm
from emberkeep.schedule.calendar import Occurrence
from emberkeep.show import words
from emberkeep.wiping.values import Wiped

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

WIDE, HIGH, DPI = 12.8, 8.0, 100
MOST_BARS = 24
MOST_TIDES = 12
_SAME, _NEW, _GONE = "#dcdcd2", "#2a6f97", "#3d3d3d"
_BEFORE, _AFTER = "#b9b39f", "#c4571b"


def _figure() -> Figure:
    """An empty picture that no window shows."""
    import matplotlib

    matplotlib.use("Agg")
    from matplotlib.figure import Figure

    return Figure(figsize=(WIDE, HIGH), dpi=DPI, layout="constrained")


def _png(figure: Figure) -> bytes:
    out = io.BytesIO()
    figure.savefig(out, format="png", metadata={"Software": None})
    return out.getvalue()


def tile_maps(maps: Sequence[TileMap], title: str) -> bytes:
    """A map for each folder of tiles, side by side, in tile coordinates; colour: the share of changed sectors."""
    figure = _figure()
    figure.suptitle(title)
    columns = min(len(maps), 3)
    rows = -(-len(maps) // columns)
    shade: Any = None
    places = [figure.add_subplot(rows, columns, at + 1) for at in range(len(maps))]
    for axes, found in zip(places, maps, strict=True):
        shade = _draw_map(axes, found)
    figure.colorbar(shade, ax=places, shrink=0.6, label="sectors changed, % of the tile's", format="%d")
    _map_legend(figure)
    return _png(figure)


def _draw_map(axes: Axes, found: TileMap) -> Any:
    import numpy as np
    from matplotlib.colors import ListedColormap
    from matplotlib.ticker import MaxNLocator

    left, top, right, bottom = found.bounds
    shares = np.full((bottom - top + 1, right - left + 1), np.nan)
    plain = np.full(shares.shape, np.nan)
    for x, y in found.same:
        plain[y - top, x - left] = 0
    for tile in found.tiles:
        if tile.kind is Kind.CHANGED:
            shares[tile.y - top, tile.x - left] = tile.share * 100
        else:
            plain[tile.y - top, tile.x - left] = 1 if tile.kind is Kind.ADDED else 2
    extent = (left - 0.5, right + 0.5, bottom + 0.5, top - 0.5)
    axes.imshow(
        plain, cmap=ListedColormap([_SAME, _NEW, _GONE]), vmin=0, vmax=2, extent=extent, interpolation="nearest"
    )
    shade = axes.imshow(shares, cmap="YlOrRd", vmin=0, vmax=100, extent=extent, interpolation="nearest")
    counts = [sum(tile.kind is kind for tile in found.tiles) for kind in (Kind.CHANGED, Kind.ADDED, Kind.REMOVED)]
    axes.set_title(
        f"{found.folder or 'world'}\n{counts[0]} changed, {counts[1]} new, {counts[2]} gone, {len(found.same)} alike",
        fontsize=10,
    )
    axes.set_xlabel("tile x")
    axes.set_ylabel("tile y")
    for axis in (axes.xaxis, axes.yaxis):
        axis.set_major_locator(MaxNLocator(integer=True))
    return shade


def _map_legend(figure: Figure) -> None:
    from matplotlib.patches import Patch

    kinds = ((_SAME, "alike"), (_NEW, "new"), (_GONE, "gone"))
    figure.legend(
        handles=[Patch(color=colour, label=label) for colour, label in kinds], loc="outside lower center", ncols=3
    )


def growth(found: Growth, zone: tzinfo, name: str) -> bytes:
    """What each snapshot added, and the sum of it, over time."""
    figure = _figure()
    figure.suptitle(f"Snapshots of {name}: {words.size(found.size)} on disk, {words.size(found.free)} left")
    upper, lower = figure.subplots(2, 1, sharex=True)
    # Matplotlib shows the hours that a moment itself has, so the zone is put aside once it has been applied.
    times = [step.taken.astimezone(zone).replace(tzinfo=None) for step in found.steps]
    unit, scale = _unit(max(step.total for step in found.steps))
    upper.step(times, [step.total / scale for step in found.steps], where="post", color=_NEW, linewidth=2)
    upper.fill_between(times, [step.total / scale for step in found.steps], step="post", color=_NEW, alpha=0.15)
    upper.set_ylabel(f"all snapshots, {unit}")
    unit, scale = _unit(max(step.added for step in found.steps))
    lower.vlines(times, 0, [step.added / scale for step in found.steps], color=_AFTER, linewidth=3)
    lower.plot(times, [step.added / scale for step in found.steps], "o", color=_AFTER, markersize=5)
    lower.set_ylabel(f"added by each, {unit}")
    figure.autofmt_xdate()
    for axes in (upper, lower):
        axes.set_ylim(bottom=0)
        axes.grid(axis="y", color=_SAME)
        for side in ("top", "right"):
            axes.spines[side].set_visible(False)
    return _png(figure)


def _unit(most: int) -> tuple[str, float]:
    """The unit in which ``most`` bytes are best read, and its size."""
    for unit, scale in (("GB", 1e9), ("MB", 1e6)):
        if most >= scale:
            return unit, scale
    return "kB", 1e3


def totals(
    sums: Sequence[Totals],
    title: str,
    sides: tuple[str, str] = ("before", "after"),
    defaults: Mapping[tuple[str, str, str, str], Decimal] = MappingProxyType({}),
) -> bytes:
    """What moved, the most first: how much each sum of a field by kind changed, in per cent of what it was, and in
    units. ``sides``: what before and after are called; ``defaults``: what the old defaults came to, marked beside, by
    file, list, kind and field."""
    moved = [(each, total) for each in sums for total in each.changed]
    moved.sort(key=lambda pair: -abs(_share(pair[1].left, pair[1].right)))
    shown = moved[:MOST_BARS]
    figure = _figure()
    figure.suptitle(title)
    axes = figure.add_subplot()
    shares = [_share(total.left, total.right) for _, total in shown]
    places = range(len(shown))
    axes.barh(places, shares, 0.62, color=[_AFTER if share > 0 else _NEW for share in shares])
    began = [_began(each, total, defaults) for each, total in shown]
    marked = [(place, share) for place, share in zip(places, began, strict=True) if share is not None]
    if marked:
        axes.plot([share for _, share in marked], [place for place, _ in marked], "D", ms=5, mfc="none", mec=_GONE)
    _ends(axes, shown, shares, [share for _, share in marked])
    axes.set_yticks(places, [_moved_name(each, total) for each, total in shown])
    axes.invert_yaxis()
    axes.axvline(0, color=_GONE, linewidth=1)
    some = f"; the {MOST_BARS} that moved most of {len(moved)}" if len(moved) > MOST_BARS else ""
    diamond = f"   ◇ the old default, seen from {sides[0]}" if marked else ""
    axes.set_xlabel(f"change of the sum from {sides[0]} to {sides[1]}, in %{some}{diamond}")
    for side in ("top", "right", "left"):
        axes.spines[side].set_visible(False)
    return _png(figure)


def _share(left: Decimal, right: Decimal) -> float:
    """By how much it changed, in per cent; 100 for something out of nothing."""
    return float((right - left) / abs(left) * 100) if left else 100.0 if right > 0 else -100.0


def _began(each: Totals, total: Total, defaults: Mapping[tuple[str, str, str, str], Decimal]) -> float | None:
    """Where the old default stands, in per cent away from what it was before."""
    value = defaults.get((each.path, each.records, total.kind, total.field))
    return None if value is None or not total.left or value == total.left else _share(total.left, value)


def _moved_name(each: Totals, total: Total) -> str:
    kind = total.kind if each.grouped_by else each.records.rpartition("/")[2]
    return f"{total.field} of {kind}" if len(kind) < 24 else f"{total.field} of {kind[:22]}…"


def _ends(axes: Axes, shown: Sequence[tuple[Totals, Total]], shares: Sequence[float], marked: Sequence[float]) -> None:
    """What each bar says in words, beside its end."""
    widest = max(map(abs, [*shares, *marked]), default=1.0)
    axes.set_xlim(min([0.0, *shares, *marked]) - 0.28 * widest, max([0.0, *shares, *marked]) + 0.34 * widest)
    for place, ((_, total), share) in enumerate(zip(shown, shares, strict=True)):
        change = f"{share:+.0f} %" if total.left else "new"
        words_of = f"{change}  {_plain(total.left)} → {_plain(total.right)}"
        gap, side = (0.012 * widest, "left") if share >= 0 else (-0.012 * widest, "right")
        axes.text(share + gap, place, words_of, va="center", ha=side, fontsize=9)


def _plain(value: Decimal) -> str:
    return f"{float(value):,.10g}".replace(",", "\u2009")


# --- the calendar --------------------------------------------------------------

_KINDS = {"wipe": "#c4571b", "update": "#2a6f97", "announce": "#7a6a9a"}
MOST_LABELS = 16


def timeline(found: Sequence[Occurrence], wipes: Sequence[Wiped], zone: ZoneInfo, name: str, now: datetime) -> bytes:
    """Coming wipes and updates, a line for each event, in the server's zone; fit to be posted."""
    dates: Any = importlib.import_module("matplotlib.dates")
    shown = [one for one in found if one.event.kind in _KINDS] or list(found)
    names = list(dict.fromkeys(one.event.name for one in shown))
    figure = _figure()
    figure.set_size_inches(WIDE, min(HIGH, 2.6 + 1.1 * max(1, len(names))))
    before = wipes[-1].when.astimezone(zone) if wipes else None
    last = f"last wipe {before.day} {before:%B}" if before else ""
    figure.suptitle(f"{name}: what is coming", fontsize=18, fontweight="bold")
    axes = figure.add_subplot()
    axes.set_title(f"all times {zone}" + (f" · {last}" if last else ""), fontsize=10, color=_GONE)
    local: list[Any] = [one.at.astimezone(zone).replace(tzinfo=None) for one in shown]
    for one, at in zip(shown, local, strict=True):
        row = names.index(one.event.name)
        colour = _KINDS.get(one.event.kind, _GONE)
        axes.plot([at], [row], "o", markersize=13, color="white" if one.skipped else colour, markeredgecolor=colour)
        if len(shown) <= MOST_LABELS:
            label = "skipped" if one.skipped else f"{at:%a} {at.day} {at:%b}\n{at:%H:%M}"
            axes.annotate(label, (at, row), (0, 12), textcoords="offset points", ha="center", fontsize=9, color=_GONE)
    today: Any = now.astimezone(zone).replace(tzinfo=None)
    axes.axvline(today, color=_GONE, linewidth=1, linestyle=":")
    axes.annotate("now", (today, -0.6), fontsize=9, color=_GONE, ha="left", xytext=(4, 0), textcoords="offset points")
    axes.hlines(range(len(names)), today, max(local, default=today), color=_SAME, linewidth=2, zorder=0)
    axes.set_yticks(range(len(names)), names, fontsize=12)
    axes.set_ylim(len(names) - 0.4, -0.9)
    axes.margins(x=0.06)
    axes.xaxis.set_major_locator(dates.AutoDateLocator(minticks=4, maxticks=12))
    axes.xaxis.set_major_formatter(dates.DateFormatter("%d %b"))
    axes.tick_params(axis="y", length=0)
    for side in ("top", "right", "left"):
        axes.spines[side].set_visible(False)
    return _png(figure)


def attendance(found: Attendance, name: str, verdict: str) -> bytes:
    """Players by day since each wipe, one line for each, the newest strongest; and the fall that was fitted."""
    import numpy as np

    figure = _figure()
    figure.suptitle(f"{name}: players by day since each wipe", fontsize=15)
    axes = figure.add_subplot()
    axes.set_title(verdict, fontsize=11, color=_GONE)
    shown = found.tides[-MOST_TIDES:]
    for at, tide in enumerate(shown):
        newest = at == len(shown) - 1
        there = dict(tide.counts)
        days_of = range(max(there) + 1)
        axes.plot(
            days_of,
            [there.get(day, math.nan) for day in days_of],  # days without logs leave a gap
            color=_AFTER if newest else _BEFORE,
            linewidth=2.4 if newest else 1.2,
            alpha=0.35 + 0.65 * (at + 1) / len(shown),
            label=f"since {tide.wiped.isoformat()}" if newest or not at else None,
        )
    longest = max((day for tide in shown for day, _ in tide.counts), default=1)
    rhythm = found.rhythm
    if rhythm is not None:
        days = np.linspace(0, longest, 200)
        axes.plot(days, rhythm.first * 2 ** (-days / rhythm.half_life), color=_NEW, linewidth=2, label=_half(rhythm))
        slow = np.zeros_like(days) if not math.isfinite(rhythm.most) else days / rhythm.most
        low, high = rhythm.first * 2 ** (-days / rhythm.least), rhythm.first * 2**-slow
        axes.fill_between(days, low, high, color=_NEW, alpha=0.15, linewidth=0)
        axes.axvline(rhythm.fits, color=_GONE, linewidth=1, linestyle=":")
        axes.annotate(
            f"{rhythm.fits} days", (rhythm.fits, 0), (4, 6), textcoords="offset points", fontsize=9, color=_GONE
        )
    axes.set_xlabel("days since the wipe")
    axes.set_ylabel("different players on that day")
    axes.set_ylim(bottom=0)
    axes.set_xlim(left=0)
    axes.grid(axis="y", color=_SAME)
    axes.legend(loc="upper right", frameon=False)
    for side in ("top", "right"):
        axes.spines[side].set_visible(False)
    return _png(figure)


def _half(rhythm: Rhythm) -> str:
    most = f"{rhythm.most:.1f}" if math.isfinite(rhythm.most) else "∞"
    return f"halves every {rhythm.half_life:.1f} days ({rhythm.least:.1f} to {most})"
