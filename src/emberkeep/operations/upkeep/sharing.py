"""What a store holds, of which keeps, and letting go of a keep that is no more."""

from __future__ import annotations

from collections import Counter
from contextlib import suppress
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path

from emberkeep.callbacks import Progress, no_op
from emberkeep.errors import Damage, Refused, UsageError, did_you_mean
from emberkeep.keep.keep import Keep
from emberkeep.keep.locate import is_keep
from emberkeep.store.moving import remove_own
from emberkeep.store.needs import needed
from emberkeep.store.shared import owner_of
from emberkeep.store.store import Store


@dataclass(frozen=True)
class Member:
    """What one keep has in a store. ``name``: in a shared store, "" in its own; ``keep``: its folder, None where that
    is not known; ``there``: whether it is still there; ``newest``: when its last snapshot was taken; ``needs``: bytes
    of blocks that it needs; ``alone``: of these, what no other keep needs, which is what goes with it."""

    name: str
    keep: Path | None
    there: bool
    snapshots: int
    defaults: int
    newest: datetime | None
    needs: int = 0
    alone: int = 0


@dataclass(frozen=True)
class Overview:
    """A store: its folder, its bytes on disk, whether it is ``shared``, and the keeps that it is of, this one first."""

    folder: Path
    bytes: int
    shared: bool
    members: tuple[Member, ...]


def overview(keep: Keep, store: Store, progress: Progress = no_op) -> Overview:
    """What a store holds. Refused where a manifest in it is damaged."""
    stores = (store, *store.others())
    blocks = []
    for number, one in enumerate(stores, 1):
        blocks.append(set(needed(one, one.names()).stretches))
        progress(number, len(stores))
    named = Counter(block for some in blocks for block in some)
    stored = {block: store.location(block).stored for block in named}
    members = []
    for one, some in zip(stores, blocks, strict=True):
        needs = sum(stored[block] for block in some)
        alone = sum(stored[block] for block in some if named[block] == 1)
        members.append(_member(one, keep if one is store else None, needs, alone))
    size = store.size() if store.folder.exists() else 0
    return Overview(store.folder, size, bool(store.member), tuple(members))


def _member(store: Store, keep: Keep | None, needs: int = 0, alone: int = 0) -> Member:
    folder = keep.folder if keep is not None else owner_of(store.own)
    there = folder is not None and is_keep(str(folder))
    numbers = store.numbers()
    newest = None
    with suppress(Damage):
        newest = store.about(str(numbers[-1])).taken if numbers else None
    return Member(store.member, folder, there, len(numbers), len(store.versions()), newest, needs, alone)


def to_forget(store: Store, name: str) -> Member:
    """What forgetting a keep lets go. UsageError where none is called so; Refused where that keep is still there."""
    others = {other.member: other for other in store.others()}
    if name not in others:
        none = "this keep shares its store with no other" if not others else "its keeps are " + ", ".join(others)
        what = f"no other keep in this store is called '{name}'" if name else "which keep?"
        raise UsageError(what, hint=did_you_mean(name, others, none))
    found = _member(others[name], None)
    if found.there:
        raise Refused(
            f"the keep {name} is still there: {found.keep}",
            hint=f"'emberkeep --keep {found.keep} store leave --go' takes its snapshots out",
        )
    return found


def forget(store: Store, gone: Member) -> None:
    """Delete the snapshots and recorded releases of a keep that is no more; the next thinning frees their space."""
    other = next(other for other in store.others() if other.member == gone.name)
    with store.writing():
        remove_own(other)
