"""A vault: a second copy of the store, and of what the keep knows, in a folder, on a far host or in object storage.

::

    vault/
      vault            JSON: format, and where it is sealed: salt (hex) and costs of scrypt
      list             JSON: for each file of the keep its name in the vault, bytes and BLAKE3 (hex); written last
      packs/… snapshots/… defaults/… format    the store's files (see docs/store-format.md), and of the keep
      keep/…           keep.toml, answers.toml, orders.toml, recipes/…; behind each name a dot and the first 16
                       digits of its BLAKE3, so that nothing is ever written over

In a sealed vault every file but ``vault`` is sealed (see ``encryption``), and all but ``list`` are called
``sealed/HASH``, the first 40 digits of BLAKE3, keyed with the vault's key, of the name above.

What the list does not name does not count. Packs never change, so only new ones go there; what was thinned here goes
there too, after the new list. A vault can be read with nothing but its address and, where it is sealed, the passphrase.

What goes from a vault is gone, and a vault is there for the day when this keep is not what it was. So nothing goes
there that is damaged here, and nothing goes from there while this keep lacks anything that it needs itself; and a
vault of which this keep does not hold the newest snapshots, or that is not where it was, is left alone.

::

    KEEP/vault.json      JSON: files = { NAME = [bytes, mtime_ns, BLAKE3 (hex)] }, which spares reading them each time,
                         vaults = { TARGET = { at, newest, list, head } }: when each was brought up to date, the newest
                         snapshot then, the BLAKE3 (hex) of its list, and salt and costs of its seal: whoever keeps the
                         files there may choose neither, nor put an older list back unseen
"""

from __future__ import annotations

import json
import os
import random
from collections.abc import Iterator, Mapping
from contextlib import closing, contextmanager, suppress
from dataclasses import asdict, dataclass
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from blake3 import blake3

from emberkeep.errors import Damage, Fault, Place, Refused, UnreadableInput
from emberkeep.fs import writing
from emberkeep.fs.trees import digest_of, file_chunks
from emberkeep.keep.keep import Keep
from emberkeep.keep.locate import FILE
from emberkeep.keep.secrets import secret
from emberkeep.keep.tables.transfer import VaultAt
from emberkeep.store.compact import needed
from emberkeep.store.intake import Progress, silent
from emberkeep.store.manifest import is_sound, parse_about
from emberkeep.store.store import Store
from emberkeep.store.verify import check_packs, manifest_file, manifest_names
from emberkeep.transfer.protocol import Door, Trust, nobody
from emberkeep.vault import backends, encryption

FORMAT = 1
HEAD, LIST = "vault", "list"
_STORE = ("packs/*.pack", "snapshots/*.manifest", "defaults/*.manifest", "format")
_LARGEST_HEAD = 1 << 16


@dataclass(frozen=True)
class Listed:
    """A file in a vault. ``called``: its name there; ``size`` and ``digest``: of the file itself, not of its seal."""

    called: str
    size: int
    digest: str


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


class Vault:
    """A vault at ``place``. ``passphrase``: "" for one that is not sealed."""

    def __init__(self, place: backends.Place, passphrase: str = "") -> None:
        self.place = place
        self._passphrase = passphrase
        self._key = b""
        self.head: dict[str, Any] = {}

    # --- opening -------------------------------------------------------------------

    def open(self, pinned: Mapping[str, Any] | None = None) -> dict[str, Listed] | None:
        """What it holds; None when there is none yet. Refused when the passphrase is lacking, or another, or when its
        head is not the one that is ``pinned``: whoever keeps the files may not choose what they are sealed with."""
        if HEAD not in self.place.sizes():
            return None
        head = self._json(b"".join(_first(self.place.get(HEAD), _LARGEST_HEAD)), HEAD)
        if head.get("format") != FORMAT:
            raise Refused("this vault was written by another version of Ember Keep", place=self._where(HEAD))
        if pinned and {"salt": head.get("salt"), "costs": head.get("costs")} != pinned:
            raise Refused(
                "salt and costs of this vault are not those that it was made with: whoever keeps it has changed them",
                place=self._where(HEAD),
                hint="nothing was sent; begin a new vault in a new place, and keep this one for what it holds",
            )
        self.head = head
        if "salt" in head:
            if not self._passphrase:
                raise Refused("this vault is sealed", hint="--secret-env or --secret-file tells its passphrase")
            n, r, p = (int(cost) for cost in head["costs"])
            self._key = encryption.key_of(self._passphrase, bytes.fromhex(head["salt"]), (n, r, p))
        elif self._passphrase:
            raise Refused("this vault is not sealed; a passphrase would promise what it does not keep")
        if LIST not in self.place.sizes():
            return {}
        try:
            rows = self._json(b"".join(self._get(LIST)), LIST)
        except Damage as error:
            raise Refused(
                "the vault's list cannot be opened: the passphrase is another, or the list was changed",
                place=self._where(LIST),
            ) from error
        try:
            listed = {name: _listed(**row) for name, row in rows.items()}
        except (AttributeError, TypeError, ValueError):
            raise Damage("the vault's list is not what was put there", place=self._where(LIST)) from None
        return {name: row for name, row in listed.items() if _is_safe(name) and _is_safe(row.called)}

    def begin(self) -> None:
        """Make an empty vault."""
        head: dict[str, Any] = {"format": FORMAT}
        if self._passphrase:
            salt = os.urandom(32)
            self._key = encryption.key_of(self._passphrase, salt)
            head |= {"salt": salt.hex(), "costs": list(encryption.COSTS)}
        self.head = head
        self.place.put(HEAD, lambda: iter([json.dumps(head).encode()]))

    @property
    def sealed(self) -> bool:
        """Whether what is in it can only be read with a passphrase."""
        return bool(self._key)

    def _where(self, name: str) -> Place:
        return Place(f"{self.place.label}/{name}")

    def _json(self, data: bytes, name: str) -> Any:
        try:
            return json.loads(data)
        except ValueError:
            raise Damage(f"the vault's {name} is not what was put there", place=self._where(name)) from None

    # --- files in it -----------------------------------------------------------------

    def called(self, name: str, digest: str) -> str:
        """What a file of these contents is called in the vault."""
        name = f"{name}.{digest[:16]}"
        if not self._key:
            return name
        return f"sealed/{blake3(name.encode('utf-8', 'surrogateescape'), key=self._key).hexdigest()[:40]}"

    def put(self, called: str, chunks: backends.Chunks) -> None:
        """Put a file into it."""
        if self._key:
            self.place.put(called, lambda: encryption.sealed(chunks(), self._key, called))
        else:
            self.place.put(called, chunks)

    def _get(self, called: str) -> Iterator[bytes]:
        chunks = self.place.get(called)
        return encryption.opened(chunks, self._key, called) if self._key else chunks

    def get(self, name: str, listed: Listed) -> Iterator[bytes]:
        """A file's bytes; Damage at the end when they are not those of the list."""
        hasher = blake3()
        for chunk in self._get(listed.called):
            hasher.update(chunk)
            yield chunk
        if hasher.hexdigest() != listed.digest:
            raise Damage(f"{name} in the vault is not what was put there", place=self._where(name))

    def stored(self, listed: Listed) -> int:
        """How many bytes a file takes there."""
        return encryption.sealed_size(listed.size) if self._key else listed.size


def _first(chunks: Iterator[bytes], most: int) -> Iterator[bytes]:
    left = most
    for chunk in chunks:
        yield chunk[:left]
        left -= len(chunk)
        if left <= 0:
            return


def _listed(called: object, size: object, digest: object) -> Listed:
    return Listed(str(called), int(str(size)), str(digest))


def _is_safe(name: str) -> bool:
    parts = name.split("/")
    return not any(part in ("", ".", "..") or "\\" in part or "\0" in part or ":" in part for part in parts)


# --- the way there -------------------------------------------------------------------


@contextmanager
def opened(at: VaultAt, keep: Path, environment: Mapping[str, str], trust: Trust = nobody) -> Iterator[Vault]:
    """The vault that is meant; ``keep``: the keep's folder. Refused where a secret is not to be had."""
    words = secret(at.secret_env, at.secret_file, environment, "the vault's passphrase")
    door = None
    if at.way is not None:
        word = secret(at.way.secret_env, at.way.secret_file, environment, "the host's password")
        door = Door(at.way, word, str(keep / "known_hosts"), trust)
    with closing(backends.place_of(at.target, door)) as place:
        yield Vault(place, words)


# --- bringing it up to date ------------------------------------------------------------


def _held(keep: Keep) -> dict[str, Path]:
    """The files of a keep that a vault holds, by name, in the order in which they are sent."""
    store = keep.store_folder
    found = {path.relative_to(store).as_posix(): path for pattern in _STORE for path in sorted(store.glob(pattern))}
    known = [keep.folder / FILE, keep.answers_file, keep.orders_file, *sorted(keep.recipes.rglob("*"))]
    found |= {f"keep/{path.relative_to(keep.folder).as_posix()}": path for path in known if path.is_file()}
    return found


class _Memory:
    """``vault.json`` of a keep; what is wrong with it costs no more than reading the files again."""

    def __init__(self, keep: Keep) -> None:
        self._file = keep.folder / "vault.json"
        self._files: dict[str, list[Any]] = {}
        self.vaults: dict[str, dict[str, Any]] = {}
        with suppress(OSError, ValueError, LookupError, TypeError, AttributeError):
            told = json.loads(self._file.read_text(encoding="utf-8"))
            self._files = {name: row for name, row in told["files"].items() if isinstance(row, list) and len(row) == 3}
            self.vaults = {name: row for name, row in told["vaults"].items() if isinstance(row, dict)}

    def knows(self, name: str, path: Path) -> bool:
        """Whether a file is as it was when its digest was remembered."""
        return self._files.get(name, [])[:2] == _stamp(path)

    def digest(self, name: str, path: Path) -> str:
        if not self.knows(name, path):
            self._files[name] = [*_stamp(path), digest_of(file_chunks(path))]
        return str(self._files[name][2])

    def brought_up(self, target: str) -> tuple[datetime | None, int]:
        """When a vault was last brought up to date, and the newest snapshot then; None and 0 for never."""
        with suppress(LookupError, ValueError, TypeError):
            told = self.vaults[target]
            return datetime.fromisoformat(told["at"]), int(told["newest"])
        return None, 0

    def pinned(self, target: str) -> Mapping[str, Any] | None:
        """Salt and costs of a vault as this keep saw them first."""
        told = self.vaults.get(target, {}).get("head")
        return told if isinstance(told, dict) else None

    def astray(self, target: str, listed: Mapping[str, Listed], is_there: bool) -> str:
        """What is to say where a vault's list is not the one that this keep put there last; "" where it is, or nothing
        is known of it."""
        told = self.vaults.get(target, {}).get("list")
        if not told or (is_there and _digest(listed) == told):
            return ""
        if not is_there:
            return "its list is gone: somebody took it away, or it was lost"
        return "its list is not what this keep put there last: an older one was put back, or another keep sends there"

    def save(self, names: Mapping[str, Path]) -> None:
        kept = {name: told for name, told in self._files.items() if name in names}
        writing.write_whole(self._file, [json.dumps({"files": kept, "vaults": self.vaults}).encode()])


def _stamp(path: Path) -> list[int]:
    facts = path.stat()
    return [facts.st_size, facts.st_mtime_ns]


def send(keep: Keep, vault: Vault, now: datetime, *, another: bool = False, progress: Progress = silent) -> Sent:
    """Bring a vault up to date, or begin it. What was sent until it is broken off stays, and is not sent again.

    Refused where it would let go what this keep does not have, see above; ``another``: all the same, as it is to be
    this keep's from now on. Damage where this keep is damaged. The vault is left as it is then.
    """
    memory, held = _Memory(keep), _held(keep)
    label = vault.place.label
    listed = vault.open(None if another else memory.pinned(label))
    astray = ""
    if listed is None:
        _check_new(vault, memory, another)
        vault.begin()
        listed = {}
    elif not another:
        astray = memory.astray(label, listed, LIST in vault.place.sizes())
    with closing(Store(keep.store_folder)) as store:
        if not another:
            _check_ours(vault, listed, store, memory)
        rows = _rows(vault, held, store, memory, progress)
        _check_whole(store, listed, rows, progress)
        newest = max(store.numbers(), default=0)
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


def _text(rows: Mapping[str, Listed]) -> bytes:
    return json.dumps({name: asdict(row) for name, row in sorted(rows.items())}).encode()


def _digest(rows: Mapping[str, Listed]) -> str:
    return blake3(_text(rows)).hexdigest()


def _check_new(vault: Vault, memory: _Memory, another: bool) -> None:
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


def _check_ours(vault: Vault, listed: Mapping[str, Listed], store: Store, memory: _Memory) -> None:
    """Refused where the vault holds newer snapshots than this keep, or did, or holds another keep's."""
    hint = "--bring-back with a new --keep gives back what it holds; --another makes it this keep's, the rest goes"
    there = {
        int(stem): name for name in listed if name.startswith("snapshots/") and (stem := Path(name).stem).isdigit()
    }
    held = memory.brought_up(vault.place.label)[1]  # its list may be lost
    newest, here = max((*there, held)), max(store.numbers(), default=0)
    if newest > here:
        told = f"the newest here is {here}" if here else "this keep has none"
        raise Refused(f"the vault {vault.place.label} holds snapshot {newest}, and {told}", hint=hint)
    common = sorted(there.keys() & set(store.numbers()), reverse=True)
    answers = (_is_same(vault, there[number], listed[there[number]], store, str(number)) for number in common)
    ours = next((answer for answer in answers if answer is not None), None)
    if ours is None:  # where all that is there was thinned here meanwhile
        ours = not there or memory.vaults.get(vault.place.label, {}).get("list") == _digest(listed)
    if not ours:
        raise Refused(f"the vault {vault.place.label} holds snapshots of another keep", hint=hint)


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
    names = manifest_names(store)
    if not any(name in listed for name in changed if name.startswith("packs/")):
        names = [name for name in names if manifest_file(store, name).relative_to(store.folder).as_posix() in changed]
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
    vault: Vault, held: Mapping[str, Path], store: Store, memory: _Memory, progress: Progress
) -> dict[str, Listed]:
    """What the vault's list is to hold. Damage where what is new to it is damaged here."""
    try:
        _check_sound(store, {name: path for name, path in held.items() if not memory.knows(name, path)}, progress)
        return {name: _row(vault, path, memory.digest(name, path), name) for name, path in held.items()}
    except FileNotFoundError as error:
        raise Refused("the store changed meanwhile; say it again", place=Place(str(error.filename))) from None


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
        raise Refused("the store changed meanwhile; say it again", place=Place(str(path))) from None


# --- looking at it, and coming back from it ------------------------------------------------


def standings(keep: Keep, store: Store) -> list[Standing]:
    """How the vaults that keep.toml tells stand, without a look at them."""
    memory, numbers = _Memory(keep), store.numbers()
    found = []
    for one in keep.config.vaults:
        at, newest = memory.brought_up(one.label)
        found.append(Standing(one.name, one.target, at, sum(number > newest for number in numbers)))
    return found


def check(
    vault: Vault, share: float, chance: random.Random, progress: Progress = silent, keep: Keep | None = None
) -> Checked:
    """Look whether all that the list names is there, of its size; and read every byte of ``share`` of it. ``keep``: the
    one that sends there, and knows what it put there last."""
    memory = _Memory(keep) if keep is not None else None
    listed = _opened(vault, memory.pinned(vault.place.label) if memory else None)
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


def bring_back(vault: Vault, into: Path, progress: Progress = silent) -> Checked:
    """Make a keep of what a vault holds. Refused where there is one. What came until it is broken off is not fetched
    again; keep.toml comes last, so a keep that is not whole is none."""
    listed = _opened(vault)
    if not listed:
        raise UnreadableInput(f"the vault at {vault.place.label} was begun and never finished")
    if (into / FILE).exists():
        raise Refused(f"{into / FILE} is there already", hint="name a new folder with --keep")
    order = sorted(listed, key=lambda name: (name == f"keep/{FILE}", name))
    total, done = sum(row.size for row in listed.values()), 0
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


def _opened(vault: Vault, pinned: Mapping[str, Any] | None = None) -> dict[str, Listed]:
    listed = vault.open(pinned)
    if listed is None:
        raise UnreadableInput(
            f"there is no vault at {vault.place.label}", hint="'emberkeep mirror vault TARGET' makes one"
        )
    return listed
