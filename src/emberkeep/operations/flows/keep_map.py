"""No wipe: what keeping the map over a forced release takes, what nobody can know before, and how to look for it."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

from emberkeep.errors import EmberKeepError, UsageError
from emberkeep.fs.folder_tree import FolderTree
from emberkeep.fs.trees import FILE, Tree, read, whole
from emberkeep.inventory.roles import Roles
from emberkeep.inventory.tiles import SECTOR, TileNames, seen_tiles
from emberkeep.keep.keep import Keep
from emberkeep.migrating.apply import numbered
from emberkeep.migrating.recipe import Renumber
from emberkeep.operations.flows import migrate
from emberkeep.operations.record import defaults
from emberkeep.store.store import Store
from emberkeep.survey import landmarks


@dataclass(frozen=True)
class Fresh:
    """Tiles that a fresh world of the same seed has, beside ours: how many are in both, how many sectors of those
    there are, and how many of them are the same."""

    tiles: int
    sectors: int
    same: int

    @property
    def share(self) -> float:
        """Of the sectors, how many are the same."""
        return self.same / self.sectors if self.sectors else 0.0


@dataclass(frozen=True)
class Keeping:
    """What it takes. ``holds``: what must stay as it is; ``steps``: what recipes do; ``missing``: what is not there and
    must be; ``risks``: what cannot be known beforehand; ``looks``: how to look for it; ``back``: the way back."""

    engine: str
    to: str
    holds: tuple[str, ...]
    steps: tuple[str, ...]
    missing: tuple[str, ...]
    risks: tuple[str, ...]
    looks: tuple[str, ...]
    back: tuple[str, ...]
    fresh: Fresh | None = None


def plan(keep: Keep, store: Store, to: str, fresh: Path | None = None) -> Keeping:
    """What keeping the map over release ``to`` takes. ``fresh``: a world that the new engine made from our seed."""
    live = FolderTree(keep.require_server(), "live")
    engine = migrate.engine_version(keep.config, live)
    measured = landmarks.measure_facts(live, keep.config)
    holds = [f"{name} {value}" for name, value in measured.items()]
    steps, missing = _recipes(keep, store, to)
    numbers, more = _numbers(keep, store, live, to)
    compared = _compared(keep, live, fresh) if fresh is not None else None
    return Keeping(
        engine,
        to,
        (*holds, *numbers),
        tuple(steps),
        (*missing, *more),
        tuple(_risks(measured, compared)),
        tuple(_looks(keep, to)),
        (
            f"'emberkeep update … --to {to} --go' takes a snapshot first, and goes back when a landmark is missed",
            "'emberkeep undo --go' puts all of it back afterwards, the engine included: a converted world stays so",
        ),
        compared,
    )


def _recipes(keep: Keep, store: Store, to: str) -> tuple[list[str], list[str]]:
    try:
        old = migrate.saves_version(keep, store, None)
        recipes = migrate.recipes_for(migrate.Request(old, to, migrate.folders(keep, None)))
    except EmberKeepError as error:
        return [], [error.faults[0].what + (f" ({error.faults[0].hint})" if error.faults[0].hint else "")]
    return [
        f"{recipe.name}: {step.why or type(step.act).__name__.lower()}" for recipe in recipes for step in recipe.steps
    ], []


def _numbers(keep: Keep, store: Store, live: Tree, to: str) -> tuple[list[str], list[str]]:
    """The saves' number, and the one that the release reads, where its defaults are recorded."""
    if not keep.config.world.numbered:
        return [], []
    ours = sorted({number for _, number in numbered(Renumber("", 0, 0), live, keep.config)})
    fits = [f"saves of number {', '.join(map(str, ours))}"] if ours else []
    if to not in defaults.versions(store):
        return fits, [
            f"the defaults of {to} are not recorded, so which saves it reads is not known "
            f"('emberkeep defaults record {to} SOURCE')"
        ]
    wanted = migrate.engine_number(keep.config, defaults.tree_of(store, to))
    if wanted is None or not ours or wanted in ours:
        return fits, []
    return [*fits, f"{to} reads number {wanted}: a recipe must renumber them"], []


def _risks(measured: dict[str, str], fresh: Fresh | None) -> Iterator[str]:
    risk = "whether the new engine makes the same terrain from the same seed: where nobody has been yet it may not fit"
    if fresh is None or not fresh.tiles:
        yield f"{risk}; edges between old and new ground would show it"
    elif fresh.same:
        yield (
            f"a fresh world has {fresh.share:.0%} of our sectors in {fresh.tiles} tiles the same: the terrain is made "
            "as before, what differs was built or played on"
        )
    else:
        yield (
            f"a fresh world has not one of {fresh.sectors} sectors in {fresh.tiles} tiles the same: the terrain is "
            "made otherwise now, or the seed or size differ"
        )
    if "seed" not in measured:
        yield "which seed the map has: nothing tells it, so that it stays cannot be checked"


def _looks(keep: Keep, to: str) -> Iterator[str]:
    yield f"'emberkeep update … --to {to} --rehearse DIR' does it on a copy, starts that and looks at the landmarks"
    declared = ", ".join(mark.name for mark in keep.config.landmarks)
    yield f"landmarks declared: {declared}" if declared else "declare a [[landmark]]: a building's tiles, a sign"
    if keep.config.world.tiles:
        yield (
            "start the new engine once in an empty folder with the same seed and size, walk about, and give its world "
            f"to 'emberkeep wipe --skip --to {to} --fresh DIR'"
        )


def _compared(keep: Keep, live: Tree, fresh: Path) -> Fresh:
    """Sectors that a fresh world's tiles share with ours, tile by tile, by folder name and coordinates."""
    if not fresh.is_dir():
        raise UsageError(f"{fresh} is no folder")
    if not keep.config.world.tiles:
        raise UsageError("this keep does not know how tile files are named", hint="set world.tiles in keep.toml")
    names, roles = TileNames(keep.config.world.tiles), Roles(keep.config.roles)
    theirs = whole(FolderTree(fresh, "fresh"))
    own = seen_tiles(theirs.entries().values())
    there = {
        (place.x, place.y): path
        for path, entry in theirs.entries().items()
        if entry.kind is FILE and (place := names.place(path) or (own.place(path) if own else None)) is not None
    }
    world = (names.place(path) for path in live.entries() if roles.of(path) == "world")
    folder = next((place.folder for place in world if place is not None), None)
    tiles = sectors = same = 0
    size = keep.config.world.sector or SECTOR
    for path, entry in live.entries().items():
        place = names.place(path) if entry.kind is FILE else None
        if place is None or place.folder != folder or (place.x, place.y) not in there:
            continue
        tiles += 1
        ours, new = read(live, path), read(theirs, there[place.x, place.y])
        count = max(len(ours), len(new)) // size
        sectors += count
        same += sum(ours[at * size : (at + 1) * size] == new[at * size : (at + 1) * size] for at in range(count))
    return Fresh(tiles, sectors, same)
