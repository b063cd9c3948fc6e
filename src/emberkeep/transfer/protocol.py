"""One connection to a far host, as the rest of the product sees it; ``ftp`` and ``sftp`` are the two there are.

Paths are relative to the server folder, with ``/`` between their parts; "" is the folder itself. Names that are not
UTF-8 carry surrogates, as everywhere.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from typing import NamedTuple, Protocol

from emberkeep.fs.trees import Kind
from emberkeep.keep.tables.transfer import Address, RemoteAccess

CHUNK = 256 << 10


class ConnectionLost(Exception):
    """The connection is gone, or the host asks to come back later: with a new one it may go well."""


class RemoteError(Exception):
    """The host says no: it lacks the file, the right, the room or the command. ``full``: the room."""

    def __init__(self, what: str, *, full: bool = False) -> None:
        super().__init__(what)
        self.full = full


class RemoteEntry(NamedTuple):
    """What a listing tells of one name.

    ``size``: bytes, -1 where it tells none; ``mtime_ns``: modification time in ns since 1970 UTC, None where it tells
    none; ``precision``: how exact that is, in seconds; ``mode``: permission bits, None where it tells none.
    """

    path: str
    kind: Kind
    size: int = -1
    mtime_ns: int | None = None
    precision: float = 1.0
    mode: int | None = None
    points_at: str = ""

    def same_as(self, other: RemoteEntry) -> bool:
        """Whether a file is as it was, as far as listings tell: by size and time."""
        if (self.kind, self.size, self.points_at) != (other.kind, other.size, other.points_at):
            return False
        if self.mtime_ns is None or other.mtime_ns is None:
            return True
        return abs(self.mtime_ns - other.mtime_ns) < max(self.precision, other.precision) * 1e9


@dataclass(frozen=True)
class SkippedEntry:
    """A name in a listing that is left out, and why."""

    path: str
    why: str


class ReadRequest(NamedTuple):
    """A file to read: from ``start`` up to ``size`` bytes, to its end where that is -1."""

    path: str
    start: int
    size: int


ReadEvent = tuple[int, bytes | RemoteError]
"""The number of a file among those wanted, and some of its bytes; b"" at its end, RemoteError where it cannot be
had."""


class RemoteFileSystem(Protocol):
    """One connection, used by one thread at a time. ConnectionLost and RemoteError as they come."""

    def listing(self, folder: str) -> Iterator[RemoteEntry | SkippedEntry]:
        """What stands in a folder."""
        ...

    def read(self, path: str, start: int, size: int) -> Iterator[bytes]:
        """The bytes of a file from ``start`` on. ``size``: how long it should be, -1 where nobody knows; a host that
        takes a question for each piece need not ask for more."""
        ...

    def write(self, path: str, chunks: Iterable[bytes]) -> None:
        """Write a file, which may be there already."""
        ...

    def size(self, path: str) -> int | None:
        """Bytes of a file as the host counts them now; None where it does not tell. RemoteError when it is not
        there."""
        ...

    def rename(self, path: str, target: str) -> None:
        """Give a file another name, over what has that name where the host allows it; else RemoteError."""
        ...

    def remove(self, path: str) -> None:
        """Delete a file. RemoteError when it is not there."""
        ...

    def make_folder(self, path: str) -> None:
        """Make a folder. RemoteError when something stands there."""
        ...

    def remove_folder(self, path: str) -> None:
        """Remove an empty folder. RemoteError when it is none."""
        ...

    def set_metadata(self, path: str, mtime_ns: int, mode: int | None) -> None:
        """Give a file its time and mode, where the host can."""
        ...

    @property
    def hash_name(self) -> str:
        """The name that ``hashlib`` has for a hash that the host works out itself; "" where it knows none."""
        ...

    def digest(self, path: str) -> str:
        """That hash of a file, in hex."""
        ...

    @property
    def reads_many(self) -> bool:
        """Whether many files over one connection come quicker by :meth:`read_many` than over several at a time."""
        ...

    def read_many(self, wants: Sequence[ReadRequest]) -> Iterator[ReadEvent]:
        """The bytes of files, each in its turn."""
        ...

    @property
    def answers_in(self) -> float:
        """Seconds that the host took for an answer when it was met."""
        ...

    def another(self) -> RemoteFileSystem:
        """A further way over the same connection, for another thread. RemoteError where there is none."""
        ...

    def close(self) -> None:
        """End the connection; never raises."""
        ...


class Trust(Protocol):
    """Asks whoever sits there whether a host key that is not known is the right one."""

    def __call__(self, host: str, kind: str, fingerprint: str) -> bool:
        """Whether to trust it from now on. ``kind``: the algorithm; ``fingerprint``: SHA-256, as OpenSSH shows it."""
        ...


def nobody(host: str, kind: str, fingerprint: str) -> bool:
    """Trusts no key that is not known."""
    return False


@dataclass
class Met:
    """What connections to one host find out for those after them. ``ssh``: whether the system's own may be tried."""

    ssh: bool = True


@dataclass(frozen=True)
class ConnectionSettings:
    """All that connecting takes. ``secret``: the password or passphrase; ``own_keys``: the file where host keys that
    were trusted are remembered; ``limit``: seconds without an answer after which a connection counts as lost."""

    remote: RemoteAccess
    secret: str = ""
    own_keys: str = ""
    trust: Trust = nobody
    limit: float = 30.0
    environment: Mapping[str, str] | None = None
    met: Met = field(default_factory=Met, compare=False, repr=False)

    @property
    def address(self) -> Address:
        """Where it leads."""
        assert self.remote.address is not None
        return self.remote.address


def one_by_one(host: RemoteFileSystem, wants: Sequence[ReadRequest]) -> Iterator[ReadEvent]:
    """The bytes of files, each asked for when the one before has come."""
    for number, want in enumerate(wants):
        try:
            for chunk in host.read(*want):
                yield number, chunk
        except RemoteError as error:
            yield number, error
        else:
            yield number, b""


def joined(folder: str, name: str) -> str:
    """The path of a name in a folder."""
    return f"{folder}/{name}" if folder else name


def unsafe_name_reason(name: str) -> str:
    """Why a name from a listing is not taken: it could lead out of the folder, or is ours; "" for any other."""
    if name in ("", ".", "..") or "/" in name or "\\" in name or "\0" in name:
        return "a name that could lead elsewhere"
    return ""
