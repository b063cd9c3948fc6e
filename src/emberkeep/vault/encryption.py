"""Bytes sealed with a passphrase, so that whoever holds them can neither read them nor change them unnoticed.

::

    sealed  = magic salt chunk*
    magic   = b"EMBERSEAL 1\\n"
    salt    = 32 random bytes
    chunk   = ChaCha20-Poly1305 (RFC 8439) of up to 1 MiB of the bytes, 16 bytes longer than they
        key     BLAKE3, keyed with the vault's key, of salt and the name of what is sealed (UTF-8)
        nonce   number of the chunk (u64, little-endian), then 1 for the last chunk and 0 for any other (u32)
    vault's key = scrypt (RFC 7914) of the passphrase (UTF-8), 32 bytes, with the vault's salt and costs

The last chunk may be empty. A byte that was changed, a chunk that is missing, doubled or stands elsewhere, an end that
was cut off, another name, another passphrase: all are noticed.
"""

from __future__ import annotations

import os
import struct
from collections.abc import Iterable, Iterator
from itertools import chain

from blake3 import blake3

from emberkeep.errors import Damage, Refused

MAGIC = b"EMBERSEAL 1\n"
CHUNK = 1 << 20
TAG = 16
SALT = 32
_NONCE = struct.Struct("<QI")
COSTS = (1 << 15, 8, 1)
"""Of scrypt: n, r, p; 32 MB and about a tenth of a second."""
MOST_COSTS = (1 << 20, 16, 4)
"""What a stranger's vault may ask for at most."""


def key_of(passphrase: str, salt: bytes, costs: tuple[int, int, int] = COSTS) -> bytes:
    """The key of a vault. Refused for costs that only somebody who means harm would ask for: so much that it never
    ends, or so little that the passphrase is soon guessed from what is sealed with it."""
    if any(not 0 < cost <= most for cost, most in zip(costs, MOST_COSTS, strict=True)):
        raise Refused(
            "the vault asks for more work than any passphrase is worth; it was tampered with",
            hint="use another copy; tell whoever keeps this one",
        )
    if any(cost < least for cost, least in zip(costs, COSTS, strict=True)) or len(salt) < SALT:
        raise Refused(
            "the vault asks for a weaker seal than any that Ember Keep makes; it was tampered with",
            hint="use another copy; tell whoever keeps this one",
        )
    return derived(passphrase, salt, costs)


def derived(passphrase: str, salt: bytes, costs: tuple[int, int, int]) -> bytes:
    """32 bytes of a passphrase by scrypt (RFC 7914)."""
    from cryptography.hazmat.primitives.kdf.scrypt import Scrypt  # only where a vault is sealed

    return Scrypt(salt=salt, length=32, n=costs[0], r=costs[1], p=costs[2]).derive(passphrase.encode("utf-8"))


def _cipher(key: bytes, salt: bytes, name: str):  # type: ignore[no-untyped-def]
    from cryptography.hazmat.primitives.ciphers.aead import ChaCha20Poly1305

    return ChaCha20Poly1305(blake3(salt + name.encode("utf-8", "surrogateescape"), key=key).digest())


def sealed(chunks: Iterable[bytes], key: bytes, name: str) -> Iterator[bytes]:
    """The sealed form of bytes that come in pieces; ``name``: what they are called."""
    salt = os.urandom(SALT)
    cipher = _cipher(key, salt, name)
    yield MAGIC + salt
    held, number = bytearray(), 0
    for chunk in chunks:
        held += chunk
        while len(held) > CHUNK:
            yield cipher.encrypt(_NONCE.pack(number, 0), bytes(held[:CHUNK]), None)
            del held[:CHUNK]
            number += 1
    yield cipher.encrypt(_NONCE.pack(number, 1), bytes(held), None)


def opened(chunks: Iterable[bytes], key: bytes, name: str) -> Iterator[bytes]:
    """The bytes that were sealed. Damage when they are not what was sealed under that name with that key."""
    from cryptography.exceptions import InvalidTag

    held = bytearray()
    source = iter(chunks)
    while len(held) < HEAD and (more := next(source, b"")):
        held += more
    if not held.startswith(MAGIC) or len(held) < HEAD:
        raise Damage(
            f"{name} in the vault is no sealed file",
            hint="'emberkeep mirror vault --check' tells more; send it again from the keep",
        )
    cipher = _cipher(key, bytes(held[len(MAGIC) : HEAD]), name)
    del held[:HEAD]
    number = 0
    try:
        for chunk in chain((b"",), source):  # some of the first chunk may have come with the head
            held += chunk
            while len(held) > CHUNK + TAG:
                yield cipher.decrypt(_NONCE.pack(number, 0), bytes(held[: CHUNK + TAG]), None)
                del held[: CHUNK + TAG]
                number += 1
        yield cipher.decrypt(_NONCE.pack(number, 1), bytes(held), None)
    except InvalidTag:
        raise Damage(
            f"{name} in the vault is not what was put there, or the passphrase is another",
            hint="see the passphrase; 'emberkeep mirror vault --check' tells more",
        ) from None


HEAD = len(MAGIC) + SALT
"""Bytes before the first chunk."""


def span(start: int, end: int, size: int) -> tuple[int, int]:
    """Where the chunks lie in the sealed form of ``size`` bytes that hold those from ``start`` up to ``end``."""
    first, last = start // CHUNK, max(start, end - 1) // CHUNK
    return HEAD + first * (CHUNK + TAG), min(HEAD + (last + 1) * (CHUNK + TAG), sealed_size(size))


def opened_span(head: bytes, chunks: bytes, key: bytes, name: str, start: int, end: int, size: int) -> bytes:
    """The bytes from ``start`` up to ``end`` of ``size`` that were sealed, by the first :data:`HEAD` bytes of their
    sealed form and what stands in it where :func:`span` tells. Damage as by :func:`opened`."""
    from cryptography.exceptions import InvalidTag

    if not head.startswith(MAGIC) or len(head) < HEAD:
        raise Damage(
            f"{name} in the vault is no sealed file",
            hint="'emberkeep mirror vault --check' tells more; send it again from the keep",
        )
    cipher = _cipher(key, head[len(MAGIC) : HEAD], name)
    first, last = start // CHUNK, (max(1, -(-size // CHUNK)) - 1)
    found = []
    try:
        for number, at in enumerate(range(0, len(chunks), CHUNK + TAG), first):
            nonce = _NONCE.pack(number, int(number == last))
            found.append(cipher.decrypt(nonce, chunks[at : at + CHUNK + TAG], None))
    except InvalidTag:
        raise Damage(
            f"{name} in the vault is not what was put there, or the passphrase is another",
            hint="see the passphrase; 'emberkeep mirror vault --check' tells more",
        ) from None
    return b"".join(found)[start - first * CHUNK : end - first * CHUNK]


def sealed_size(size: int) -> int:
    """How long the sealed form of ``size`` bytes is."""
    return HEAD + size + TAG * max(1, -(-size // CHUNK))
