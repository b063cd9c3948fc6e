"""A far host that speaks SFTP over SSH. Its key must be known, or trusted by whoever sits there and then remembered."""

from __future__ import annotations

import base64
import errno
import hashlib
import stat
import time
from collections.abc import Iterable, Iterator, Sequence
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import Any

import paramiko
from paramiko import SFTPAttributes, SSHException
from paramiko.ssh_exception import (
    AuthenticationException,
    BadHostKeyException,
    ChannelException,
    NoValidConnectionsError,
)

from emberkeep.errors import Place, Refused, UnreadableInput
from emberkeep.fs import writing
from emberkeep.fs.trees import Kind
from emberkeep.transfer.protocol import (
    CHUNK,
    ConnectionLost,
    ConnectionSettings,
    ReadEvent,
    ReadRequest,
    RemoteEntry,
    RemoteError,
    SkippedEntry,
    joined,
    unsafe_name_reason,
)
from emberkeep.transfer.sftp_pipeline import PipelinedReader
from emberkeep.transfer.ssh_client import SshSubprocess

PIECE = 32 << 10
"""Bytes that one answer holds at most; more are asked for ahead."""


class _Asks(paramiko.MissingHostKeyPolicy):
    """Asks about a key that is not known, and remembers one that is trusted."""

    def __init__(self, settings: ConnectionSettings) -> None:
        self._settings = settings

    def missing_host_key(self, client: paramiko.SSHClient, hostname: str, key: paramiko.PKey) -> None:
        if not self._settings.trust(hostname, key.get_name(), fingerprint(key)):
            raise Refused(
                f"the key of {hostname} is not known: {key.get_name()} {fingerprint(key)}",
                place=Place(str(self._settings.address)),
                hint="compare that with what the host tells of its key; --accept-new then remembers it",
            )
        if self._settings.own_keys:
            remember(Path(self._settings.own_keys), hostname, key)


def fingerprint(key: paramiko.PKey) -> str:
    """As ``ssh-keygen -l`` prints it."""
    return "SHA256:" + base64.b64encode(hashlib.sha256(key.asbytes()).digest()).decode().rstrip("=")


def remember(path: Path, host: str, key: paramiko.PKey) -> None:
    """Add a line to a file of known hosts (sshd(8), SSH_KNOWN_HOSTS FILE FORMAT)."""
    before = path.read_bytes() if path.exists() else b""
    writing.make_folder(path.parent, private=True)  # it may be a keep's, which is made here
    writing.write_whole(path, [before, f"{host} {key.get_name()} {key.get_base64()}\n".encode()], mode=0o600)


class SftpFileSystem:
    """One channel of a connection, its own or (``over``) that of another one."""

    def __init__(self, settings: ConnectionSettings, over: paramiko.SSHClient | None = None) -> None:
        self._settings, self._owns = settings, over is None
        self._reader: PipelinedReader | None = None
        self._client = over or paramiko.SSHClient()
        try:
            with _speaking():
                if over is None:
                    self._connect(settings)
                elif over.get_transport() is None:
                    raise ConnectionLost("the connection was ended")
                self._sftp = self._client.open_sftp()
                channel = self._sftp.get_channel()
                assert channel is not None
                channel.settimeout(settings.limit)
                asked = time.monotonic()
                home = self._sftp.normalize(".").rstrip("/") + "/"
                self.answers_in = time.monotonic() - asked
        except BaseException:
            if self._owns:
                self._client.close()
            raise
        self._top = (("" if settings.address.folder.startswith("/") else home) + settings.address.folder).rstrip("/")

    def another(self) -> SftpFileSystem:
        """A further channel over the same connection, for another thread."""
        return SftpFileSystem(self._settings, self._client)

    def _connect(self, settings: ConnectionSettings) -> None:
        address, place = settings.address, Place(str(settings.address))
        self._client.load_system_host_keys()
        for path in (settings.own_keys, settings.remote.known_hosts):
            if path and Path(path).exists():
                self._client.load_host_keys(path)
        self._client.set_missing_host_key_policy(_Asks(settings))
        try:
            self._client.connect(
                address.host,
                address.port,
                address.user or None,
                password=settings.secret or None,
                passphrase=settings.secret or None,
                key_filename=str(Path(settings.remote.key).expanduser()) if settings.remote.key else None,
                timeout=settings.limit,
                banner_timeout=settings.limit,
                auth_timeout=settings.limit,
                look_for_keys=not settings.remote.key,
                transport_factory=_quick,
            )
        except BadHostKeyException as error:
            raise Refused(
                f"the key of {address.host} has CHANGED: it shows {error.key.get_name()} {fingerprint(error.key)}",
                place=place,
                hint="somebody may stand in between. Ask the host; if the change is theirs, take the old line out of "
                "the file of known hosts",
            ) from None
        except AuthenticationException as error:
            raise Refused(
                f"the host lets nobody in: {error}", place=place, hint="see user, key and [far] secret in keep.toml"
            ) from None
        except (ValueError, FileNotFoundError) as error:
            raise UnreadableInput(f"a key file cannot be read: {error}", place=Place(settings.remote.key)) from None

    def _at(self, path: str) -> bytes:
        whole = (f"{self._top}/{path}" if path else self._top) or "/"
        return whole.encode("utf-8", "surrogateescape")

    # --- looking -------------------------------------------------------------

    def listing(self, folder: str) -> Iterator[RemoteEntry | SkippedEntry]:
        """SSH_FXP_READDIR, with the facts that come along."""
        with _speaking():
            found = self._sftp.listdir_attr(self._at(folder))  # type: ignore[arg-type]
        for item in found:
            raw: str | bytes = item.filename  # bytes, where it is not UTF-8
            name = raw.decode("utf-8", "surrogateescape") if isinstance(raw, bytes) else raw
            if name in (".", ".."):
                continue
            if why := unsafe_name_reason(name):
                yield SkippedEntry(joined(folder, name), why)
                continue
            yield self._entry(joined(folder, name), item)

    def _entry(self, path: str, item: SFTPAttributes) -> RemoteEntry | SkippedEntry:
        full = item.st_mode or 0
        mtime = None if item.st_mtime is None else item.st_mtime * 1_000_000_000
        if stat.S_ISLNK(full):
            with _speaking():
                target = self._sftp.readlink(self._at(path))
            return RemoteEntry(path, Kind.LINK, 0, mtime, 1.0, None, str(target or ""))
        if stat.S_ISDIR(full):
            return RemoteEntry(path, Kind.FOLDER, 0, mtime, 1.0, stat.S_IMODE(full))
        if not stat.S_ISREG(full):
            return SkippedEntry(path, "neither a file, a folder nor a link")
        return RemoteEntry(
            path, Kind.FILE, -1 if item.st_size is None else item.st_size, mtime, 1.0, stat.S_IMODE(full)
        )

    def size(self, path: str) -> int | None:
        """SSH_FXP_STAT."""
        with _speaking():
            return self._sftp.stat(self._at(path)).st_size

    hash_name = ""  # OpenSSH offers none over SFTP

    def digest(self, path: str) -> str:
        """RemoteError: SFTP as OpenSSH speaks it has none."""
        raise RemoteError("no hashes over SFTP")

    # --- contents ------------------------------------------------------------

    def read(self, path: str, start: int, size: int) -> Iterator[bytes]:
        """By SSH_FXP_READ, up to ``size``, else to the end."""
        with _speaking():
            handle = self._sftp.open(self._at(path), "rb", bufsize=0)
            if start:
                handle.seek(start)
            if size < 0:
                size = handle.stat().st_size or 0
                size = size if size > start else 1 << 62  # it tells nothing, or grows: read to the end
            elif size - start > PIECE:
                handle.prefetch(size, max_concurrent_requests=64)
            at = start
            while at < size and (data := handle.read(min(CHUNK, size - at))):
                at += len(data)
                yield data
            del handle  # which closes it without waiting for an answer: a third of all that a small file waits for

    reads_many = True

    def read_many(self, wants: Sequence[ReadRequest]) -> Iterator[ReadEvent]:
        """Over the system's own ssh, where a second connection is allowed and it is let in; else over this one."""
        reader = self._reader or self._over_ssh() or self._over_this()
        self._reader = reader  # so that whoever closes this host ends what waits for an answer
        try:
            yield from reader.files([(self._at(want.path), want.start, want.size) for want in wants])
        except BaseException:  # what is left half-way is in the middle of something
            self._reader = None
            reader.close()
            raise

    def _over_ssh(self) -> PipelinedReader | None:
        transport, settings = self._client.get_transport(), self._settings
        if not settings.met.ssh or settings.remote.connections < 2 or transport is None:
            return None
        try:
            key = transport.get_remote_server_key()
            return PipelinedReader(SshSubprocess(settings, f"{key.get_name()} {key.get_base64()}"))
        except (RemoteError, ConnectionLost, SSHException):
            settings.met.ssh = False
            return None

    def _over_this(self) -> PipelinedReader:
        with _speaking():
            transport = self._client.get_transport()
            if transport is None:
                raise ConnectionLost("the connection was ended")
            channel = transport.open_session()
            channel.settimeout(self._settings.limit)
            channel.invoke_subsystem("sftp")
            return PipelinedReader(_Channel(channel))

    def write(self, path: str, chunks: Iterable[bytes]) -> None:
        """Written in pieces that are not waited for one by one."""
        with _speaking(), self._sftp.open(self._at(path), "wb") as handle:
            handle.set_pipelined(True)
            for chunk in chunks:
                handle.write(chunk)

    # --- changes -------------------------------------------------------------

    def rename(self, path: str, target: str) -> None:
        """posix-rename@openssh.com, else SSH_FXP_RENAME."""
        with _speaking():
            try:
                self._sftp.posix_rename(self._at(path), self._at(target))
            except OSError as error:
                if error.errno is not None or "unsupported" not in str(error).lower():
                    raise
                self._sftp.rename(self._at(path), self._at(target))

    def remove(self, path: str) -> None:
        """SSH_FXP_REMOVE."""
        with _speaking():
            self._sftp.remove(self._at(path))

    def make_folder(self, path: str) -> None:
        """SSH_FXP_MKDIR."""
        with _speaking():
            self._sftp.mkdir(self._at(path))

    def remove_folder(self, path: str) -> None:
        """SSH_FXP_RMDIR."""
        with _speaking():
            self._sftp.rmdir(self._at(path))

    def set_metadata(self, path: str, mtime_ns: int, mode: int | None) -> None:
        """SSH_FXP_SETSTAT."""
        at = mtime_ns // 1_000_000_000
        with _speaking():
            if mode is not None:
                self._sftp.chmod(self._at(path), mode)
            self._sftp.utime(self._at(path), (at, at))

    def close(self) -> None:
        """Let the channel go, and the connection, where it is ours."""
        if self._reader is not None:
            with suppress(Exception):
                self._reader.close()
        with suppress(Exception):
            if self._owns:
                self._client.close()
            else:
                self._sftp.close()


class _Channel:
    """A channel as a stream."""

    def __init__(self, channel: paramiko.Channel) -> None:
        self._channel = channel
        self._came = channel.makefile("rb", 1 << 18)

    def read(self, size: int) -> bytes:
        with _speaking():
            data = self._came.read(size)
        if len(data) < size:
            raise ConnectionLost("the connection was cut")
        return data

    def write(self, data: bytes) -> None:
        with _speaking():
            self._channel.sendall(data)

    def close(self) -> None:
        self._channel.close()


def _quick(*args: Any, **further: Any) -> paramiko.Transport:
    """A transport that asks for the ciphers first that need no hash of their own for each packet (RFC 5647)."""
    made = paramiko.Transport(*args, **further)
    options = made.get_security_options()
    options.ciphers = tuple(sorted(options.ciphers, key=lambda name: "gcm" not in name))
    return made


_CLOSED = "Socket is closed"
"""What paramiko says, without a number, of a channel whose connection another thread has ended."""


@contextmanager
def _speaking() -> Iterator[None]:
    try:
        yield
    except (Refused, UnreadableInput):
        raise
    except ChannelException as error:  # it allows no further one
        raise RemoteError(str(error)) from error
    except (EOFError, TimeoutError, SSHException, NoValidConnectionsError, ConnectionError) as error:
        raise ConnectionLost(str(error) or "the connection was cut") from error
    except OSError as error:
        if str(error) == _CLOSED:
            raise ConnectionLost("the connection was ended") from error
        if error.errno in (errno.ENOENT, errno.EACCES, errno.EPERM, errno.EEXIST) or error.errno is None:
            raise RemoteError(error.strerror or str(error)) from error  # a host without room only says "Failure"
        raise ConnectionLost(error.strerror or str(error)) from error
