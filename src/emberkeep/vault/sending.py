"""Bringing a vault up to date with the keep."""

from __future__ import annotations

import json
from collections.abc import Iterator, Mapping
from contextlib import AbstractContextManager, closing, nullcontext, suppress
from dataclasses import asdict, dataclass
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from blake3 import blake3

from emberkeep.callbacks import Progress, no_op
from emberkeep.errors import Damage, Fault, Place, Refused, UnreadableInput
from emberkeep.fs import private, writing
from emberkeep.fs.trees import digest_of, file_chunks
from emberkeep.keep.keep import Keep, written_in
from emberkeep.store.manifest import is_sound, parse_about
from emberkeep.store.needs import needed
from emberkeep.store.shared import owner_of, share_of, store_of
from emberkeep.store.store import Store
from emberkeep.store.verify import check_packs
from emberkeep.vault.vault import HEAD, KEEP, LIST, SHARED, STORE, Listed, Vault, members_in, prefix_of


@dataclass(frozen=True)
class Sent:
    """What came of bringing a vault up to date. ``files`` and ``bytes``: in it; ``new`` and ``new_bytes``: sent now.
    ``astray``: what had become of its list meanwhile, in words."""

    target: str
    sealed: bool
    files: int
    bytes: int
    new: int
    new_bytes: int
    removed: int
    astray: str = ""


def _held(keep: Keep, store: Store) -> dict[str, Path]:
    """The files that a vault holds, by name, in the order in which they are sent: those of the store, and those of its
    keep, or of every keep that shares it and is there."""
    patterns = SHARED if store.member else STORE
    found = {
        path.relative_to(store.folder).as_posix(): path
        for pattern in patterns
        for path in sorted(store.folder.glob(pattern))
    }
    folders = {store.member: keep.folder}
    folders |= {other.member: folder for other in store.others() if (folder := owner_of(other.own))}
    for member, folder in sorted(folders.items()):
        below = prefix_of(member) + KEEP
        found |= {f"{below}/{path.relative_to(folder).as_posix()}": path for path in written_in(folder)}
    return found


class Memory:
    """``vault.json`` of a keep, or of the store that it shares; what is wrong with it costs no more than reading the
    files again."""

    def __init__(self, keep: Keep) -> None:
        share = share_of(keep)
        self._member = share.name if share else ""
        self._file = (share.folder if share else keep.folder) / "vault.json"
        self._files: dict[str, list[Any]] = {}
        self.vaults: dict[str, dict[str, Any]] = {}
        with suppress(OSError, ValueError, LookupError, TypeError, AttributeError):
            memory = json.loads(self._file.read_text(encoding="utf-8"))
            files = memory["files"].items()
            self._files = {name: row for name, row in files if isinstance(row, list) and len(row) == 3}
            self.vaults = {name: row for name, row in memory["vaults"].items() if isinstance(row, dict)}

    def knows(self, name: str, path: Path) -> bool:
        """Whether a file is as it was when its digest was remembered."""
        return self._files.get(name, [])[:2] == _stamp(path)

    def digest(self, name: str, path: Path) -> str:
        """BLAKE3 of a file, remembered as long as its stamp is the same."""
        if not self.knows(name, path):
            self._files[name] = [*_stamp(path), digest_of(file_chunks(path))]
        return str(self._files[name][2])

    def brought_up(self, target: str) -> tuple[datetime | None, int]:
        """When a vault was last brought up to date, and the newest snapshot then; None and 0 for never."""
        with suppress(LookupError, ValueError, TypeError):
            row = self.vaults[target]
            newest = row["newest"]  # of each keep, where several share the store
            return datetime.fromisoformat(row["at"]), int(newest[self._member] if self._member else newest)
        return None, 0

    def pinned(self, target: str) -> Mapping[str, Any] | None:
        """Salt and costs of a vault as this keep saw them first."""
        head = self.vaults.get(target, {}).get("head")
        return head if isinstance(head, dict) else None

    def astray(self, target: str, listed: Mapping[str, Listed], is_there: bool) -> str:
        """What is to say where a vault's list is not the one that this keep put there last; "" where it is, or nothing
        is known of it."""
        digest = self.vaults.get(target, {}).get("list")
        if not digest or (is_there and _digest(listed) == digest):
            return ""
        if not is_there:
            return "its list is gone: somebody took it away, or it was lost"
        return "its list is not what this keep put there last: an older one was put back, or another keep sends there"

    def save(self, names: Mapping[str, Path]) -> None:
        """Write down what is known, for the files that are there."""
        kept = {name: row for name, row in self._files.items() if name in names}
        writing.write_whole(self._file, [json.dumps({"files": kept, "vaults": self.vaults}).encode()])


def _stamp(path: Path) -> list[int]:
    facts = path.stat()
    return [facts.st_size, facts.st_mtime_ns]


def send(keep: Keep, vault: Vault, now: datetime, *, another: bool = False, progress: Progress = no_op) -> Sent:
    """Bring a vault up to date, or begin it. What was sent until it is broken off stays, and is not sent again.

    Refused where it would let go what this keep does not have, see above; ``another``: all the same, as it is to be
    this keep's from now on. Damage where this keep is damaged. The vault is left as it is then.
    """
    with closing(store_of(keep)) as store, _alone(store):
        return _send(keep, store, vault, now, another, progress)


def _alone(store: Store) -> AbstractContextManager[None]:
    """Hold the one place of whoever sends to vaults; Refused while another program does."""
    if not store.folder.is_dir():
        return nullcontext()  # there is nothing to send, and nothing is written
    busy = Refused(
        "another Ember Keep is sending to a vault just now",
        place=Place(str(store.folder)),
        hint="wait until it has finished",
    )
    return private.exclusive_lock(store.folder / "vault.lock", lambda: busy)


def _send(keep: Keep, store: Store, vault: Vault, now: datetime, another: bool, progress: Progress) -> Sent:
    memory = Memory(keep)
    label = vault.place.label
    listed = vault.open(None if another else memory.pinned(label))
    astray = ""
    if listed is None:
        _check_new(vault, memory, another)
        vault.begin()
        listed = {}
    elif not another:
        astray = memory.astray(label, listed, LIST in vault.place.sizes())
    store.save_index()  # a vault is read by it
    held = _held(keep, store)
    if not another:
        _check_ours(vault, listed, store, memory)
    rows = _rows(vault, held, store, memory, progress)
    _check_whole(store, listed, rows, progress)
    newest = _newest(store)
    astray = "" if listed == rows else astray  # else it was only not noted any more that it was sent
    there = vault.place.sizes()
    wanted = [name for name, row in rows.items() if there.get(row.called) != vault.stored(row)]
    total, done = sum(rows[name].size for name in wanted), 0
    for name in wanted:
        _put(vault, name, held[name], rows[name])
        done += rows[name].size
        progress(done, total)
    gone = there.keys() - {HEAD, LIST, *(row.called for row in rows.values())}
    if listed != rows or LIST not in there:
        vault.put(LIST, lambda: iter([_text(rows)]))
    for called in gone:
        vault.place.remove(called)
    memory.vaults[label] = {
        "at": now.astimezone(UTC).isoformat(),
        "newest": newest,
        "list": _digest(rows),
        "head": {"salt": vault.head.get("salt"), "costs": vault.head.get("costs")},
    }
    memory.save(held)
    size = sum(row.size for row in rows.values())
    return Sent(label, vault.sealed, len(rows), size, len(wanted), total, len(gone), astray)


def _newest(store: Store) -> int | dict[str, int]:
    """The number of the newest snapshot; by keep, where several share the store."""
    if not store.member:
        return max(store.numbers(), default=0)
    return {one.member: max(one.numbers(), default=0) for one in (store, *store.others())}


def _text(rows: Mapping[str, Listed]) -> bytes:
    return json.dumps({name: asdict(row) for name, row in sorted(rows.items())}).encode()


def _digest(rows: Mapping[str, Listed]) -> str:
    return blake3(_text(rows)).hexdigest()


def _check_new(vault: Vault, memory: Memory, another: bool) -> None:
    """Refused where no vault is to be begun."""
    if vault.place.label in memory.vaults and not another:
        raise Refused(
            f"the vault {vault.place.label} is not there any more",
            hint="is its disk mounted, its address as it was? --another begins it anew",
        )
    if vault.place.sizes():
        raise Refused(
            f"{vault.place.label} holds other things, and no vault", hint="name a folder of its own for the vault"
        )


def _check_ours(vault: Vault, listed: Mapping[str, Listed], store: Store, memory: Memory) -> None:
    """Refused where the vault holds newer snapshots than this keep, or did, or holds another keep's."""
    sent = memory.vaults.get(vault.place.label, {})
    known = sent.get("list") == _digest(listed)
    views = {one.member: one for one in (store, *store.others())}
    views.setdefault("", store)  # as this keep sent before it shared its store
    newest = sent.get("newest", 0)  # which holds though the list there may be lost
    before = newest if isinstance(newest, dict) else {store.member: newest}
    there = members_in(listed)
    for member in sorted({*there, *before}):
        view = views.get(member)
        if view is not None:
            _check_part(vault, listed, view, prefix_of(member), before.get(member, 0), known)
        elif member in there and not known:
            raise Refused(f"the vault {vault.place.label} holds snapshots of another keep, {member}", hint=_ANOTHER)


_ANOTHER = "--bring-back with a new --keep gives back what it holds; --another makes it this keep's, the rest goes"


def _check_part(
    vault: Vault, listed: Mapping[str, Listed], store: Store, prefix: str, before: int, known: bool
) -> None:
    """Refused where the vault holds newer snapshots of a keep than there are, or did, or others of the same numbers."""
    folder = f"{prefix}snapshots/"
    there = {int(stem): name for name in listed if name.startswith(folder) and (stem := Path(name).stem).isdigit()}
    newest, here = max((*there, before)), max(store.numbers(), default=0)
    if newest > here:
        newest_here = f"the newest here is {here}" if here else "this keep has none"
        raise Refused(f"the vault {vault.place.label} holds snapshot {newest}, and {newest_here}", hint=_ANOTHER)
    common = sorted(there.keys() & set(store.numbers()), reverse=True)
    answers = (_is_same(vault, there[number], listed[there[number]], store, str(number)) for number in common)
    ours = next((answer for answer in answers if answer is not None), None)
    if ours is None:  # where all that is there was thinned here meanwhile
        ours = not there or known
    if not ours:
        raise Refused(f"the vault {vault.place.label} holds snapshots of another keep", hint=_ANOTHER)


def _is_same(vault: Vault, name: str, listed: Listed, store: Store, label: str) -> bool | None:
    """Whether a snapshot in the vault and that of its number here are the same one, though other facts were written
    about it since; None where that cannot be told."""
    try:
        if digest_of(file_chunks(store.manifest_path(label))) == listed.digest:
            return True
        return parse_about(b"".join(vault.get(name, listed)), name).taken == store.about(label).taken
    except (Damage, UnreadableInput, OSError):
        return None


def _check_whole(store: Store, listed: Mapping[str, Listed], rows: Mapping[str, Listed], progress: Progress) -> None:
    """Refused where blocks are lacking that snapshots need which are new to the vault; or any, where a pack goes."""
    changed = {name for name in listed.keys() | rows.keys() if listed.get(name) != rows.get(name)}
    names = store.all_names()
    if not any(name in listed for name in changed if name.startswith("packs/")):
        names = [name for name in names if store.path_of(name).relative_to(store.folder).as_posix() in changed]
    needed(store, names, progress)


def _check_sound(store: Store, new: Mapping[str, Path], progress: Progress) -> None:
    """Damage where files of the store that are to go into a vault are not what was put there."""
    packs = [int(path.stem) for name, path in new.items() if name.startswith("packs/")]
    faults = check_packs(store, lambda block: True, progress, packs).faults
    manifests = [path for name, path in new.items() if name.endswith(".manifest")]
    faults += [f"{path.name} is damaged" for path in manifests if not is_sound(path.read_bytes())]
    if faults:
        hint = "the vault was left as it is; run 'emberkeep verify', and 'emberkeep verify --repair'"
        raise Damage.gathered(tuple(Fault(fault, Place(str(store.folder)), hint) for fault in faults))


def _rows(
    vault: Vault, held: Mapping[str, Path], store: Store, memory: Memory, progress: Progress
) -> dict[str, Listed]:
    """What the vault's list is to hold. Damage where what is new to it is damaged here."""
    try:
        _check_sound(store, {name: path for name, path in held.items() if not memory.knows(name, path)}, progress)
        return {name: _row(vault, path, memory.digest(name, path), name) for name, path in held.items()}
    except FileNotFoundError as error:
        raise Refused(
            "the store changed meanwhile; say it again", place=Place(str(error.filename)), hint="run the same again"
        ) from None


def _row(vault: Vault, path: Path, digest: str, name: str) -> Listed:
    return Listed(vault.called(name, digest), path.stat().st_size, digest)


def _put(vault: Vault, name: str, path: Path, row: Listed) -> None:
    def chunks() -> Iterator[bytes]:
        hasher = blake3()
        for chunk in file_chunks(path):
            hasher.update(chunk)
            yield chunk
        if hasher.hexdigest() != row.digest:
            raise Damage(f"{name} is not what it was when it was last looked at", hint="run 'emberkeep verify'")

    try:
        vault.put(row.called, chunks)
    except FileNotFoundError:
        raise Refused(
            "the store changed meanwhile; say it again", place=Place(str(path)), hint="run the same again"
        ) from None
