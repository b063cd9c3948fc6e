"""A small map of changed tiles for the terminal: one character a tile, or for several where the map is large."""

from __future__ import annotations

from rich.text import Text

from emberkeep.comparing.records import Kind
from emberkeep.comparing.tiles import Tile, TileMap
from emberkeep.show.console import ASKS, BAD, GOOD, HEAD, QUIET, Screen

WIDEST, HIGHEST = 72, 36
SHADES = "░▒▓█"
_SAME, _NONE = "·", " "


def show(screen: Screen, found: TileMap) -> None:
    """Heading, the map with its coordinates, and what the signs mean."""
    counts = {kind: sum(tile.kind is kind for tile in found.tiles) for kind in Kind}
    totals = [
        f"{counts[kind]} {word}"
        for kind, word in ((Kind.CHANGED, "changed"), (Kind.ADDED, "new"), (Kind.REMOVED, "gone"))
        if counts[kind]
    ]
    screen.line(f"Tiles of {found.folder or 'the world'}: {', '.join(totals)}, {len(found.same)} alike", HEAD)
    left, top, right, bottom = found.bounds
    step = max(1, -(-(right - left + 1) // WIDEST), -(-(bottom - top + 1) // HIGHEST))
    tiles = {((tile.x - left) // step, (tile.y - top) // step): tile for tile in sorted(found.tiles, key=_weight)}
    same = {((x - left) // step, (y - top) // step) for x, y in found.same}
    wide = (right - left) // step + 1
    times = 2 if 2 * wide <= WIDEST else 1  # a sign is half as wide as it is high
    margin = max(len(str(top)), len(str(bottom))) + 2
    screen.line(
        f"{'':{margin}}x {left} to {right}, y downwards" + (f", {step} tiles a sign" if step > 1 else ""), QUIET
    )
    for row in range((bottom - top) // step + 1):
        line = Text(f"{top + row * step:>{margin - 1}} ", style=QUIET)
        for column in range(wide):
            sign, style = _sign(tiles.get((column, row)), (column, row) in same)
            line.append(sign * times, style)
        screen.show(line)
    screen.line(
        f"{'':{margin}}{_SAME} alike  {SHADES} up to 25, 50, 75, 100 % of its sectors changed  + new  - gone", QUIET
    )


def _weight(tile: Tile) -> tuple[bool, float]:
    return tile.kind is not Kind.CHANGED, tile.share


def _sign(tile: Tile | None, same: bool) -> tuple[str, str]:
    if tile is None:
        return (_SAME, QUIET) if same else (_NONE, "")
    if tile.kind is Kind.ADDED:
        return "+", GOOD
    if tile.kind is Kind.REMOVED:
        return "-", BAD
    return SHADES[min(3, int(tile.share * 4 - 1e-9))], ASKS
