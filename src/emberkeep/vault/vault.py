"""A vault: a second copy of the store, and of what the keep knows, in a folder, on a far host or in object storage.

::

    vault/
      vault            JSON: format, and where it is sealed: salt (hex) and costs of scrypt
      list             JSON: for each file of the keep its name in the vault, bytes and BLAKE3 (hex); written last
      packs/… snapshots/… defaults/… format index   the store's files (see docs/store-format.md), and of the keep
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
from collections.abc import Iterable, Iterator, Mapping
from contextlib import closing, contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from blake3 import blake3

from emberkeep.errors import Damage, Place, Refused, UnreadableInput
from emberkeep.keep.secrets import secret
from emberkeep.keep.tables.transfer import VaultAt
from emberkeep.store.store import KEEPS
from emberkeep.transfer.protocol import ConnectionSettings, Trust, nobody
from emberkeep.vault import backends, encryption

FORMAT = 1
HEAD, LIST = "vault", "list"
INDEX = "index"
KEEP = "keep"
"""Where a vault has the files of a keep that are not its store's."""
STORE = ("packs/*.pack", "snapshots/*.manifest", "defaults/*.manifest", "format", INDEX)
SHARED = ("packs/*.pack", "keeps/*/snapshots/*.manifest", "keeps/*/defaults/*.manifest", "format", INDEX)
"""The files of a store that a vault holds: of a keep's own, and of one that several keeps share."""
_LARGEST_HEAD = 1 << 16


@dataclass(frozen=True)
class Listed:
    """A file in a vault. ``called``: its name there; ``size`` and ``digest``: of the file itself, not of its seal."""

    called: str
    size: int
    digest: str


class Vault:
    """A vault at ``place``. ``passphrase``: "" for one that is not sealed."""

    def __init__(self, place: backends.Backend, passphrase: str = "") -> None:
        self.place = place
        self._passphrase = passphrase
        self._key = b""
        self._heads: dict[str, bytes] = {}
        self.head: dict[str, Any] = {}

    # --- opening -------------------------------------------------------------------

    def open(self, pinned: Mapping[str, Any] | None = None) -> dict[str, Listed] | None:
        """What it holds; None when there is none yet. Refused when the passphrase is lacking, or another, or when its
        head is not the one that is ``pinned``: whoever keeps the files may not choose what they are sealed with."""
        there = self.place.sizes()
        if HEAD not in there:
            return None
        head = self._json(b"".join(_first(self.place.get(HEAD), _LARGEST_HEAD)), HEAD)
        if head.get("format") != FORMAT:
            raise Refused(
                "this vault was written by another version of Ember Keep",
                place=self._where(HEAD),
                hint="update Ember Keep",
            )
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
            raise Refused(
                "this vault is not sealed; a passphrase would promise what it does not keep",
                hint="leave the passphrase out, or begin a sealed vault in a new place",
            )
        if LIST not in there:
            return {}
        try:
            rows = self._json(b"".join(self._get(LIST)), LIST)
        except Damage as error:
            raise Refused(
                "the vault's list cannot be opened: the passphrase is another, or the list was changed",
                place=self._where(LIST),
                hint="see the passphrase; 'emberkeep mirror vault' from the keep writes the list anew",
            ) from error
        try:
            listed = {name: _listed(**row) for name, row in rows.items()}
        except (AttributeError, TypeError, ValueError):
            raise Damage(
                "the vault's list is not what was put there",
                place=self._where(LIST),
                hint="'emberkeep mirror vault' from the keep writes it anew",
            ) from None
        return {name: row for name, row in listed.items() if _is_safe(name) and _is_safe(row.called)}

    def contents(self, pinned: Mapping[str, Any] | None = None) -> dict[str, Listed]:
        """What it holds, nothing where it was never finished. UnreadableInput when there is none."""
        listed = self.open(pinned)
        if listed is None:
            raise UnreadableInput(
                f"there is no vault at {self.place.label}", hint="'emberkeep mirror vault TARGET' makes one"
            )
        return listed

    def finished(self, pinned: Mapping[str, Any] | None = None) -> dict[str, Listed]:
        """What it holds. UnreadableInput also when it was never finished."""
        listed = self.contents(pinned)
        if not listed:
            raise UnreadableInput(f"the vault at {self.place.label} was begun and never finished")
        return listed

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
            raise Damage(
                f"the vault's {name} is not what was put there",
                place=self._where(name),
                hint="'emberkeep mirror vault' from the keep writes it anew",
            ) from None

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
            raise Damage(
                f"{name} in the vault is not what was put there",
                place=self._where(name),
                hint="'emberkeep mirror vault --check' tells more; send it again from the keep",
            )

    def part(self, listed: Listed, start: int, end: int) -> bytes:
        """The bytes of a file from ``start`` up to ``end``, for which no others are fetched but those of the seal. What
        is not sealed may be anything: whoever asks has to know it again."""
        called = listed.called
        if not self._key:
            return b"".join(self.place.get(called, start, end))
        if called not in self._heads:
            self._heads[called] = b"".join(self.place.get(called, 0, encryption.HEAD))
        chunks = b"".join(self.place.get(called, *encryption.span(start, end, listed.size)))
        return encryption.opened_span(self._heads[called], chunks, self._key, called, start, end, listed.size)

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


def prefix_of(member: str) -> str:
    """What the names of a keep's files in a vault begin with: ``member`` is its name in a shared store, or ""."""
    return f"{KEEPS}/{member}/" if member else ""


def members_in(listed: Iterable[str]) -> list[str]:
    """The keeps whose snapshots or files a vault holds, by their names in the shared store; "" for a keep whose store
    is its own."""
    parts = {tuple(name.split("/")) for name in listed}
    shared = {names[1] for names in parts if names[0] == KEEPS and len(names) > 2}
    return sorted(shared | {"" for names in parts if names[0] in ("snapshots", "defaults", KEEP)})


def _is_safe(name: str) -> bool:
    parts = name.split("/")
    return not any(part in ("", ".", "..") or "\\" in part or "\0" in part or ":" in part for part in parts)


@contextmanager
def opened(at: VaultAt, keep: Path, environment: Mapping[str, str], trust: Trust = nobody) -> Iterator[Vault]:
    """The vault that is meant; ``keep``: the keep's folder. Refused where a secret is not to be had."""
    words = secret(at.secret_env, at.secret_file, environment, "the vault's passphrase")
    settings = None
    if at.way is not None:
        word = secret(at.way.secret_env, at.way.secret_file, environment, "the host's password")
        settings = ConnectionSettings(at.way, word, str(keep / "known_hosts"), trust)
    with closing(backends.backend_of(at.target, settings)) as place:
        yield Vault(place, words)
