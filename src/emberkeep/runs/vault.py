"""A vault: a second copy of the store, and of what the keep knows, in a folder, on a far host or in object storage.

::

    vault/
      vault            JSON: format, and where it is sealed: salt (hex) and costs of scrypt
      list             JSON: for each file of the keep its name in the vault, bytes and BLAKE3 (hex); written last
      packs/… snapshots/… defaults/… format    the store's files (see docs/store-format.md), and of the keep
      keep/…           keep.toml, answers.toml, orders.toml, recipes/…; behind each name a dot and the first 16
                       digits of its BLAKE3, so that nothing is ever written over

In a sealed vault every file but ``vault`` is sealed (see ``remote.seal``), and all but ``list`` are called
``sealed/HASH``, the first 40 digits of BLAKE3, keyed with the vault's key, of the name above.

What the list does not name does not count. Packs never change, so only new ones go there; what was thinned here goes
there too, after the new list. A vault can be read with nothing but its address and, where it is sealed, the passphrase.
"""

from __future__ import annotations

import json
import os
import random
from collections.abc import Iterator, Mapping
from contextlib import suppress
from dataclasses import asdict, dataclass
from pathlib import Path
from typing import Any

from blake3 import blake3

from emberkeep import files
from emberkeep.errors import Damage, Place, Refused, UnreadableInput
from emberkeep.keep import Keep
from emberkeep.locate import FILE
from emberkeep.remote import places, seal
from emberkeep.store.intake import Progress, silent
from emberkeep.trees import digest_of, file_chunks

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
    """What came of bringing a vault up to date. ``files`` and ``bytes``: in it; ``new`` and ``new_bytes``: sent now."""

    target: str
    sealed: bool
    files: int
    bytes: int
    new: int
    new_bytes: int
    removed: int


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

    def __init__(self, place: places.Place, passphrase: str = "") -> None:
        self.place = place
        self._passphrase = passphrase
        self._key = b""

    # --- opening -------------------------------------------------------------------

    def open(self) -> dict[str, Listed] | None:
        """What it holds; None when there is none yet. Refused when the passphrase is lacking, or another."""
        if HEAD not in self.place.sizes():
            return None
        head = self._json(b"".join(_first(self.place.get(HEAD), _LARGEST_HEAD)), HEAD)
        if head.get("format") != FORMAT:
            raise Refused("this vault was written by another version of Ember Keep", place=self._where(HEAD))
        if "salt" in head:
            if not self._passphrase:
                raise Refused("this vault is sealed", hint="--secret-env or --secret-file tells its passphrase")
            n, r, p = (int(cost) for cost in head["costs"])
            self._key = seal.key_of(self._passphrase, bytes.fromhex(head["salt"]), (n, r, p))
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
        return {name: Listed(**row) for name, row in rows.items() if _is_safe(name) and _is_safe(row["called"])}

    def begin(self) -> None:
        """Make an empty vault."""
        head: dict[str, Any] = {"format": FORMAT}
        if self._passphrase:
            salt = os.urandom(32)
            self._key = seal.key_of(self._passphrase, salt)
            head |= {"salt": salt.hex(), "costs": list(seal.COSTS)}
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

    def put(self, called: str, chunks: places.Chunks) -> None:
        """Put a file into it."""
        if self._key:
            self.place.put(called, lambda: seal.sealed(chunks(), self._key, called))
        else:
            self.place.put(called, chunks)

    def _get(self, called: str) -> Iterator[bytes]:
        chunks = self.place.get(called)
        return seal.opened(chunks, self._key, called) if self._key else chunks

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
        return seal.sealed_size(listed.size) if self._key else listed.size


def _first(chunks: Iterator[bytes], most: int) -> Iterator[bytes]:
    left = most
    for chunk in chunks:
        yield chunk[:left]
        left -= len(chunk)
        if left <= 0:
            return


def _is_safe(name: str) -> bool:
    parts = name.split("/")
    return not any(part in ("", ".", "..") or "\\" in part or "\0" in part or ":" in part for part in parts)


# --- bringing it up to date ------------------------------------------------------------


def _held(keep: Keep) -> dict[str, Path]:
    """The files of a keep that a vault holds, by name, in the order in which they are sent."""
    store = keep.store_folder
    found = {path.relative_to(store).as_posix(): path for pattern in _STORE for path in sorted(store.glob(pattern))}
    known = [keep.folder / FILE, keep.answers_file, keep.orders_file, *sorted(keep.recipes.rglob("*"))]
    found |= {f"keep/{path.relative_to(keep.folder).as_posix()}": path for path in known if path.is_file()}
    return found


class _Digests:
    """The digests of packs, remembered in the keep by size and time: packs never change, and reading all of them each
    time would take long."""

    def __init__(self, keep: Keep) -> None:
        self._file = keep.folder / "vault.json"
        self._known: dict[str, list[Any]] = {}
        with suppress(OSError, ValueError):
            self._known = json.loads(self._file.read_text(encoding="utf-8"))

    def of(self, name: str, path: Path) -> str:
        facts = path.stat()
        stamp = [facts.st_size, facts.st_mtime_ns]
        known = self._known.get(name)
        if known is None or known[:2] != stamp:
            known = self._known[name] = [*stamp, digest_of(file_chunks(path))]
        return str(known[2])

    def save(self, names: Mapping[str, Path]) -> None:
        kept = {name: told for name, told in self._known.items() if name in names}
        files.write_whole(self._file, [json.dumps(kept).encode()])


def send(keep: Keep, vault: Vault, progress: Progress = silent) -> Sent:
    """Bring a vault up to date, or begin it. What was sent until it is broken off stays, and is not sent again."""
    listed = vault.open()
    if listed is None:
        if vault.place.sizes():
            raise Refused(
                f"{vault.place.label} holds other things, and no vault", hint="name a folder of its own for the vault"
            )
        vault.begin()
        listed = {}
    held, there, digests = _held(keep), vault.place.sizes(), _Digests(keep)
    try:
        now = {name: _row(vault, path, digests.of(name, path), name) for name, path in held.items()}
    except FileNotFoundError as error:
        raise Refused("the store changed meanwhile; say it again", place=Place(str(error.filename))) from None
    wanted = [name for name, row in now.items() if there.get(row.called) != vault.stored(row)]
    total, done = sum(now[name].size for name in wanted), 0
    for name in wanted:
        _put(vault, name, held[name], now[name])
        done += now[name].size
        progress(done, total)
    gone = there.keys() - {HEAD, LIST, *(row.called for row in now.values())}
    if listed != now or LIST not in there:
        rows = json.dumps({name: asdict(row) for name, row in now.items()}).encode()
        vault.put(LIST, lambda: iter([rows]))
    for called in gone:
        vault.place.remove(called)
    digests.save(held)
    size = sum(row.size for row in now.values())
    return Sent(vault.place.label, vault.sealed, len(now), size, len(wanted), total, len(gone))


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


def check(vault: Vault, share: float, chance: random.Random, progress: Progress = silent) -> Checked:
    """Look whether all that the list names is there, of its size; and read every byte of ``share`` of it."""
    listed = _opened(vault)
    there = vault.place.sizes()
    faults = [] if LIST in there else ["it was begun and never finished; say 'mirror vault' again without --check"]
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
            files.make_folder(target.parent)
            files.write_whole(target, vault.get(name, row))
        done += row.size
        progress(done, total)
    return Checked(vault.place.label, len(listed), total, len(listed), ())


def _opened(vault: Vault) -> dict[str, Listed]:
    listed = vault.open()
    if listed is None:
        raise UnreadableInput(
            f"there is no vault at {vault.place.label}", hint="'emberkeep mirror vault TARGET' makes one"
        )
    return listed
