"""Where a vault may lie: a folder, a far host, or object storage, behind one small interface of whole files by name."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path
from typing import Any, Protocol

from emberkeep.errors import Place, Refused, UnreadableInput, reason
from emberkeep.fs import system, writing
from emberkeep.fs.folder_tree import FolderTree
from emberkeep.fs.scan import TEMPORARY
from emberkeep.fs.trees import Kind, file_chunks
from emberkeep.transfer.pool import ConnectionPool
from emberkeep.transfer.protocol import ConnectionSettings, RemoteError, RemoteFileSystem
from emberkeep.transfer.walk import now_there, walk

CHUNK = 1 << 20
Chunks = Callable[[], Iterator[bytes]]
"""Gives a file's bytes anew whenever it is asked."""


class Backend(Protocol):
    """Holds whole files by name, with ``/`` in names; a file is there complete or not at all."""

    label: str

    def sizes(self) -> dict[str, int]:
        """All files there, and their bytes."""
        ...

    def put(self, name: str, chunks: Chunks) -> None:
        """Write a file, all or nothing, over what has that name."""
        ...

    def get(self, name: str, start: int = 0, end: int = -1) -> Iterator[bytes]:
        """A file's bytes from ``start`` up to ``end``, to its last where that is -1; what lies elsewhere in it is not
        read. UnreadableInput when it is not there."""
        ...

    def remove(self, name: str) -> None:
        """Delete a file, if it is there."""
        ...

    def close(self) -> None:
        """Let connections go."""
        ...


@dataclass
class FolderBackend:
    """A folder of this machine: another disk, a mounted share."""

    folder: Path

    def __post_init__(self) -> None:
        self.label = str(self.folder)

    def sizes(self) -> dict[str, int]:
        """All files below the folder; temporary ones are passed over."""
        if not self.folder.is_dir():
            return {}
        entries = FolderTree(self.folder).entries()
        return {path: entry.size for path, entry in entries.items() if entry.kind is Kind.FILE}

    def put(self, name: str, chunks: Chunks) -> None:
        """Written beside its target and renamed over it."""
        target = self.folder / name
        writing.make_folder(target.parent)
        writing.write_whole(target, chunks())

    def get(self, name: str, start: int = 0, end: int = -1) -> Iterator[bytes]:
        """Read from the disk. UnreadableInput when it cannot be."""
        try:
            if end < 0 and not start:
                yield from file_chunks(self.folder / name)
                return
            with (self.folder / name).open("rb") as handle:
                handle.seek(start)
                while chunk := handle.read(CHUNK if end < 0 else min(CHUNK, end - handle.tell())):
                    yield chunk
        except OSError as error:
            raise UnreadableInput(f"cannot read {name}: {reason(error)}", place=Place(self.label)) from error

    def remove(self, name: str) -> None:
        """Delete it, if it is there."""
        with suppress(FileNotFoundError):
            system.io.unlink(self.folder / name)

    def close(self) -> None:
        """Nothing is open."""


@dataclass
class RemoteBackend:
    """A folder on a host that is reached by file transfer."""

    pool: ConnectionPool

    def __post_init__(self) -> None:
        self.label = str(self.pool.settings.address)
        self._made: set[str] = set()

    def sizes(self) -> dict[str, int]:
        """What the listing of the far folder tells."""
        try:
            found = walk(self.pool)
        except Refused:  # the folder is made with the first file
            return {}
        return {path: entry.size for path, entry in found.entries.items() if entry.kind is Kind.FILE}

    def put(self, name: str, chunks: Chunks) -> None:
        """Written beside its target there, checked, and renamed over it."""
        folder, _, last = name.rpartition("/")
        beside = f"{folder}/{TEMPORARY}{last}".lstrip("/")

        def write(host: RemoteFileSystem) -> None:
            self._make(host, folder)
            sent = 0

            def counted() -> Iterator[bytes]:
                nonlocal sent
                for chunk in chunks():
                    sent += len(chunk)
                    yield chunk

            host.write(beside, counted())
            size = host.size(beside)
            if size is not None and size != sent:
                raise RemoteError(f"the host counts {size} bytes")
            try:
                host.rename(beside, name)
            except RemoteError:
                host.remove(name)
                host.rename(beside, name)

        try:
            self.pool.first.do(write, f"cannot write {name}")
        except RemoteError as error:
            raise UnreadableInput(f"cannot write {name}: {error}", place=Place(self.label)) from None

    def _make(self, host: RemoteFileSystem, folder: str) -> None:
        if folder in self._made:
            return
        parts = folder.split("/") if folder else []
        for at in range(len(parts) + 1):
            path = "/".join(parts[:at])
            if path not in self._made:
                with suppress(RemoteError):  # the top is mostly there
                    if not path or now_there(host, path) is None:
                        host.make_folder(path)
                self._made.add(path)

    def get(self, name: str, start: int = 0, end: int = -1) -> Iterator[bytes]:
        """Fetched. UnreadableInput when it cannot be."""
        try:
            yield from self.pool.first.steady(name, start, end, f"cannot read {name}")
        except RemoteError as error:
            raise UnreadableInput(f"cannot read {name}: {error}", place=Place(self.label)) from None

    def remove(self, name: str) -> None:
        """Delete it there."""
        with suppress(RemoteError):
            self.pool.first.do(lambda host: host.remove(name), f"cannot remove {name}")

    def close(self) -> None:
        """End the connections."""
        self.pool.__exit__()


class ObjectBackend:
    """Object storage, or whatever else fsspec reaches. Credentials are found as its own tools find them."""

    def __init__(self, address: str) -> None:
        try:
            from fsspec.core import url_to_fs  # type: ignore[import-untyped]  # its own packages are optional

            # asked anew: its packages would keep a connection to wherever the environment named at first
            self._system, self._top = url_to_fs(address, skip_instance_cache=True)
        except (ImportError, ValueError) as error:
            raise UnreadableInput(
                f"{address} cannot be reached: {error}",
                hint="object storage needs its packages: python3 -m pip install 'emberkeep[s3]'",
            ) from None
        self.label = address

    def _name(self, name: str) -> str:
        return f"{self._top.rstrip('/')}/{name}"

    def _tried(self, act: Any, what: str) -> Any:
        try:
            return act()
        except FileNotFoundError:
            raise UnreadableInput(f"{what}: it is not there", place=Place(self.label)) from None
        except Exception as error:  # each of its packages has a tree of errors of its own
            raise UnreadableInput(f"{what}: {error}", place=Place(self.label)) from error

    def sizes(self) -> dict[str, int]:
        """All objects below the prefix."""

        def look() -> dict[str, int]:
            self._system.invalidate_cache()
            try:
                found = self._system.find(self._top, detail=True)
            except FileNotFoundError:
                return {}
            start = len(self._top.rstrip("/")) + 1
            return {path[start:]: int(facts["size"]) for path, facts in found.items()}

        return dict(self._tried(look, "cannot list it"))

    def put(self, name: str, chunks: Chunks) -> None:
        """One upload, which the storage takes whole or not at all."""

        def write() -> None:
            with self._system.open(self._name(name), "wb", block_size=16 << 20) as handle:
                for chunk in chunks():
                    handle.write(chunk)

        self._tried(write, f"cannot write {name}")

    def get(self, name: str, start: int = 0, end: int = -1) -> Iterator[bytes]:
        """The object's bytes; some of them in one request."""
        if end >= 0:
            yield self._tried(
                lambda: self._system.cat_file(self._name(name), start=start, end=end), f"cannot read {name}"
            )
            return
        handle = self._tried(lambda: self._system.open(self._name(name), "rb"), f"cannot read {name}")
        with handle:
            handle.seek(start)
            while chunk := self._tried(lambda: handle.read(CHUNK), f"cannot read {name}"):
                yield chunk

    def remove(self, name: str) -> None:
        """Delete the object."""

        def delete() -> None:
            with suppress(FileNotFoundError):
                self._system.rm(self._name(name))  # rm_file is not in all versions of its packages

        self._tried(delete, f"cannot remove {name}")

    def close(self) -> None:
        """Nothing is kept open."""


def backend_of(target: str, settings: ConnectionSettings | None) -> Backend:
    """The place that a target means; ``settings``: the way to it, where it is reached by file transfer."""
    if settings is not None:
        return RemoteBackend(ConnectionPool(settings).__enter__())
    if "://" in target:
        return ObjectBackend(target)
    return FolderBackend(Path(target))
