"""Where a server folder lies that is reached by file transfer, where vaults lie, and what keep.toml says of the way
there.

::

    [server]    folder = "sftp://keeper@rock.example/srv/gannet-rock"    or ftps://, ftp://
                copy: the local working copy (default: beside the keep, called as the keep without ".keep")
    [far]       secret: { env } or { file }, the password or the passphrase of the key
                key: a private key file (SFTP); else the agent and the usual key files
                known-hosts: further known host keys (SFTP)
                certificate: a PEM file with the certificate, or its authority, that an FTPS host shows
                connections: at most so many at a time (default 4)
                still: how long two looks lie apart that tell whether files there change (default "5 s")
    [[vault]]   name, target: a folder (relative ones are relative to the keep), or an address as above or of object
                storage (s3://…)
                secret: { env } or { file }, the passphrase that it is sealed with; without, it is not sealed
                password: { env } or { file }, of the host or the key; key, known-hosts, certificate as in [far]

An address never holds a password.
"""

from __future__ import annotations

import re
from dataclasses import dataclass, replace
from datetime import timedelta

from emberkeep.errors import UsageError
from emberkeep.keep import locate
from emberkeep.keep.toml_reader import Reader

SCHEMES = {"ftp": 21, "ftps": 21, "sftp": 22}
MOST_CONNECTIONS = 16


@dataclass(frozen=True)
class Address:
    """A folder on a far host. ``folder``: its path there, absolute, or relative to where one arrives after logging in
    (``""``: just there)."""

    scheme: str
    host: str
    port: int
    user: str
    folder: str

    def __str__(self) -> str:
        user = f"{self.user}@" if self.user else ""
        host = f"[{self.host}]" if ":" in self.host else self.host
        port = "" if self.port == SCHEMES[self.scheme] else f":{self.port}"
        return (
            f"{self.scheme}://{user}{host}{port}{self.folder if self.folder.startswith('/') else '/~/' + self.folder}"
        )


@dataclass(frozen=True)
class RemoteAccess:
    """How the server folder is reached; ``address`` is None where it is a plain folder."""

    address: Address | None = None
    secret_env: str = ""
    secret_file: str = ""
    key: str = ""
    known_hosts: str = ""
    certificate: str = ""
    connections: int = 4
    still: timedelta = timedelta(seconds=5)


@dataclass(frozen=True)
class VaultAt:
    """Where a vault lies. ``name``: what keep.toml calls it; ``target``: a folder, absolute, or an address; ``way``:
    how its host is reached, None where our own file transfer has no part in it."""

    name: str
    target: str
    secret_env: str = ""
    secret_file: str = ""
    way: RemoteAccess | None = None

    @property
    def label(self) -> str:
        """The same place, always spelled the same."""
        return str(self.way.address) if self.way else self.target


def is_remote(folder: str) -> bool:
    """Whether a server folder, or a vault, is told as an address."""
    return re.match(r"[a-z][a-z0-9+.-]+://", folder) is not None


def is_by_transfer(target: str) -> bool:
    """Whether a folder is reached by our own file transfer."""
    return target.partition("://")[0] in SCHEMES


def address_of(text: str) -> Address:
    """An address taken apart. UsageError for what is none, or holds a password."""
    from urllib.parse import unquote, urlsplit  # only where there is one: every command reads keep.toml

    try:
        parts = urlsplit(text)
        port = parts.port
    except ValueError as error:
        raise UsageError(f"'{text}' is no address: {error}") from None
    if parts.scheme not in SCHEMES or not parts.hostname or parts.query or parts.fragment:
        raise UsageError(
            f"'{_without_password(text)}' is no address that can be reached",
            hint="sftp://USER@HOST/FOLDER is wanted, or ftps://, ftp://",
        )
    if parts.password is not None:
        raise UsageError(
            f"'{_without_password(text)}' holds a password",
            hint='take it out; [far] secret = { env = "NAME" } in keep.toml names where it stands',
        )
    folder = unquote(parts.path).rstrip("/") or "/"
    if any(ord(sign) < 32 for sign in folder + unquote(parts.username or "")):
        raise UsageError("an address holds no control characters")
    if folder == "/~" or folder.startswith("/~/"):
        folder = folder[3:]
    return Address(parts.scheme, parts.hostname, port or SCHEMES[parts.scheme], unquote(parts.username or ""), folder)


_PASSWORD = re.compile(r"(//[^/@:]*):[^/@]*@")


def _without_password(text: str) -> str:
    return _PASSWORD.sub(r"\1:…@", text)


def checked_target(target: str) -> str:
    """Where a vault is to lie, as told. UsageError when that holds a password or a key, which would be shown."""
    if _PASSWORD.search(target):
        raise UsageError(
            f"'{_without_password(target)}' holds a password",
            hint="take it out; a host's stands in the environment or a file, object storage finds its own",
        )
    return target


def read(reader: Reader, server: Reader, folder: str) -> RemoteAccess:
    """What keep.toml tells of the way to the server folder."""
    table = reader.sub("far")
    secret = table.sub("secret")
    address = None
    if is_remote(folder):
        try:
            address = address_of(folder)
        except UsageError as error:
            server.fault("folder", error.faults[0].what, error.faults[0].hint)
    elif table.table:
        table.fault("", "is only for a server folder with an address, as sftp://HOST/FOLDER")
    remote = RemoteAccess(
        address,
        secret.string("env"),
        secret.string("file"),
        table.string("key"),
        table.string("known-hosts"),
        table.string("certificate"),
        table.get("connections", int, "a number", RemoteAccess.connections) or 0,
        table.time("still", RemoteAccess.still),
    )
    if not 1 <= remote.connections <= MOST_CONNECTIONS:
        table.fault("connections", f"should be from 1 to {MOST_CONNECTIONS}")
    for part in (secret, table):
        part.no_others()
    return remote


def read_vaults(reader: Reader, keep: str) -> tuple[VaultAt, ...]:
    """The vaults that keep.toml tells; ``keep``: the keep's folder."""
    found: dict[str, VaultAt] = {}
    for item in reader.subs("vault"):
        one = _vault(item, keep)
        if one.name in found:
            item.fault("name", f"there is another vault '{one.name}'")
        found[one.name] = one
    return tuple(found.values())


def _vault(reader: Reader, keep: str) -> VaultAt:
    secret, password = reader.sub("secret"), reader.sub("password")
    name, target = reader.required("name"), reader.required("target")
    way = RemoteAccess(
        None,
        password.string("env"),
        password.string("file"),
        reader.string("key"),
        reader.string("known-hosts"),
        reader.string("certificate"),
        1,
    )
    try:
        if is_by_transfer(checked_target(target)):
            way = replace(way, address=address_of(target))
    except UsageError as error:
        reader.fault("target", error.faults[0].what, error.faults[0].hint)
    if way.address is None and way != RemoteAccess(connections=1):
        reader.fault("", "password, key, known-hosts and certificate are for a target as sftp://HOST/FOLDER")
    if target and not is_remote(target):
        target = locate.inside(keep, target)
    if "/" in name or "\\" in name:
        reader.fault("name", "should be no path")
    found = VaultAt(name, target, secret.string("env"), secret.string("file"), way if way.address else None)
    for part in (secret, password, reader):
        part.no_others()
    return found
