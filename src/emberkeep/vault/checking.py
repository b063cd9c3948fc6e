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
from emberkeep.keep.edit import with_shared_store
from emberkeep.keep.keep import Keep
from emberkeep.keep.locate import FILE, SUFFIX
from emberkeep.store.shared import MARKER, OWNER, marker, owner
from emberkeep.store.store import KEEPS, Store
from emberkeep.vault.sending import Memory
from emberkeep.vault.vault import KEEP, LIST, Listed, Vault, members_in


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
    """What a look at a vault found. ``read``: files whose every byte was read; ``faults``: in words; ``keeps``: of a
    store that several share, by name."""

    target: str
    files: int
    bytes: int
    read: int
    faults: tuple[str, ...]
    keeps: tuple[str, ...] = ()


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
    """Make a keep of what a vault holds; of one that several keeps share, a folder with ``store`` and each of the keeps
    as ``NAME.keep``. Refused where there is one. What came until it is broken off is not fetched again; keep.toml comes
    last, so a keep that is not whole is none."""
    listed = vault.finished()
    targets = {name: _target(into, name) for name in listed}
    keeps = [path for path in targets.values() if path.name == FILE]
    if keeps and all(path.exists() for path in keeps):
        raise Refused(f"{keeps[0]} is there already", hint="name a new folder with --keep")
    shared = [member for member in members_in(listed) if member]
    total, done = sum(row.size for row in listed.values()), 0
    writing.make_folder(into, private=True)
    for name in sorted(listed, key=lambda name: (targets[name] in keeps, name)):
        row, target = listed[name], targets[name]
        if target in keeps and shared:
            _bring_keep(vault, name, row, target)
        elif not (
            target.is_file() and target.stat().st_size == row.size and digest_of(file_chunks(target)) == row.digest
        ):
            writing.make_folder(target.parent, private=True)
            writing.write_whole(target, vault.get(name, row))
        done += row.size
        progress(done, total)
    return Checked(vault.place.label, len(listed), total, len(listed), (), tuple(shared))


def _target(into: Path, name: str) -> Path:
    """Where a file of a vault goes when it is brought back."""
    parts = name.split("/")
    if parts[0] == KEEP and len(parts) > 1:
        return into.joinpath(*parts[1:])
    if parts[0] == KEEPS and len(parts) > 3 and parts[2] == KEEP:
        return into.joinpath(f"{parts[1]}{SUFFIX}", *parts[3:])
    return into.joinpath("store", *parts)


def _bring_keep(vault: Vault, name: str, row: Listed, target: Path) -> None:
    """The keep.toml of a keep that shares the store which comes back beside it."""
    if target.exists():
        return
    try:
        text = with_shared_store(b"".join(vault.get(name, row)).decode(), "../store")
    except ValueError as error:  # also what tomlkit raises
        raise Damage(
            f"{name} is no keep.toml: {error}", hint="bring back what an earlier copy of the vault holds"
        ) from None
    member = name.split("/")[1]
    writing.make_folder(target.parent, private=True)
    writing.write_whole(target.parent / MARKER, [marker("../store", member)])
    writing.write_whole(target.parent.parent / "store" / KEEPS / member / OWNER, [owner(target.parent)])
    writing.write_whole(target, [text.encode()])
