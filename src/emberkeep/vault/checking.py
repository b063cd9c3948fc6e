"""Looking at a vault, and coming back from it."""

from __future__ import annotations

import random
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path

from emberkeep.callbacks import Progress, no_op
from emberkeep.errors import Damage, Refused, UnreadableInput
from emberkeep.fs import writing
from emberkeep.fs.trees import digest_of, file_chunks
from emberkeep.keep.keep import Keep
from emberkeep.keep.locate import FILE
from emberkeep.store.store import Store
from emberkeep.vault.sending import Memory
from emberkeep.vault.vault import LIST, Vault


@dataclass(frozen=True)
class Standing:
    """How a vault that keep.toml tells stands, as the keep remembers it. ``at``: when it was last brought up to date,
    None for never; ``lacking``: snapshots taken since."""

    name: str
    target: str
    at: datetime | None
    lacking: int


@dataclass(frozen=True)
class Checked:
    """What a look at a vault found. ``read``: files whose every byte was read; ``faults``: in words."""

    target: str
    files: int
    bytes: int
    read: int
    faults: tuple[str, ...]


def standings(keep: Keep, store: Store) -> list[Standing]:
    """How the vaults that keep.toml tells stand, without a look at them."""
    memory, numbers = Memory(keep), store.numbers()
    found = []
    for one in keep.config.vaults:
        at, newest = memory.brought_up(one.label)
        found.append(Standing(one.name, one.target, at, sum(number > newest for number in numbers)))
    return found


def check(
    vault: Vault, share: float, chance: random.Random, progress: Progress = no_op, keep: Keep | None = None
) -> Checked:
    """Look whether all that the list names is there, of its size; and read every byte of ``share`` of it. ``keep``: the
    one that sends there, and knows what it put there last."""
    memory = Memory(keep) if keep is not None else None
    listed = vault.contents(memory.pinned(vault.place.label) if memory else None)
    there = vault.place.sizes()
    astray = memory.astray(vault.place.label, listed, LIST in there) if memory else ""
    faults = [astray] if astray else []
    if LIST not in there and not astray:
        faults.append("it was begun and never finished; say 'mirror vault' again without --check")
    for name, row in listed.items():
        if row.called not in there:
            faults.append(f"{name} is missing")
        elif there[row.called] != vault.stored(row):
            faults.append(f"{name} has {there[row.called]} bytes there instead of {vault.stored(row)}")
    names = sorted(listed)
    picked = chance.sample(names, min(len(names), -int(-len(names) * share // 1)))
    total, done = sum(listed[name].size for name in picked), 0
    for name in picked:
        try:
            for chunk in vault.get(name, listed[name]):
                done += len(chunk)
                progress(min(done, total), total)
        except (Damage, UnreadableInput) as error:
            faults.append(error.faults[0].what)
    size = sum(row.size for row in listed.values())
    return Checked(vault.place.label, len(listed), size, len(picked), tuple(dict.fromkeys(faults)))


def bring_back(vault: Vault, into: Path, progress: Progress = no_op) -> Checked:
    """Make a keep of what a vault holds. Refused where there is one. What came until it is broken off is not fetched
    again; keep.toml comes last, so a keep that is not whole is none."""
    listed = vault.finished()
    if (into / FILE).exists():
        raise Refused(f"{into / FILE} is there already", hint="name a new folder with --keep")
    order = sorted(listed, key=lambda name: (name == f"keep/{FILE}", name))
    total, done = sum(row.size for row in listed.values()), 0
    writing.make_folder(into, private=True)
    for name in order:
        row = listed[name]
        target = into / (name.removeprefix("keep/") if name.startswith("keep/") else f"store/{name}")
        if not (
            target.is_file() and target.stat().st_size == row.size and digest_of(file_chunks(target)) == row.digest
        ):
            writing.make_folder(target.parent)
            writing.write_whole(target, vault.get(name, row))
        done += row.size
        progress(done, total)
    return Checked(vault.place.label, len(listed), total, len(listed), ())
