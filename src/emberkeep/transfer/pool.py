"""Connections that are opened when they are wanted and opened again when they were lost, and work done over some of
them at a time."""

from __future__ import annotations

import threading
import time
from collections import deque
from collections.abc import Callable, Iterable, Iterator, Sequence
from contextlib import suppress
from dataclasses import dataclass, field
from typing import TypeVar

from emberkeep.errors import EmberKeepError, Place, Refused, UnreadableInput
from emberkeep.transfer.connect import connect
from emberkeep.transfer.protocol import (
    ConnectionLost,
    ConnectionSettings,
    ReadEvent,
    ReadRequest,
    RemoteError,
    RemoteFileSystem,
)

Item = TypeVar("Item")
Result = TypeVar("Result")

TRIES = 6
"""How often one thing is tried before it is given up."""
LANES = 4
"""Ways over one connection; hosts allow ten, and some fewer."""
FAR = 0.004
"""Seconds for an answer from which on a host is far enough for more than one way over a connection to pay."""
FIRST_PAUSE, LONGEST_PAUSE = 0.5, 20.0
"""Seconds between tries: doubled each time."""


@dataclass
class RemoteConnection:
    """One connection at a time to one host, for one thread. ``pause``: waits between tries; ``opened``: who opens."""

    settings: ConnectionSettings
    pause: Callable[[float], None] = time.sleep
    opened: Callable[[ConnectionSettings], RemoteFileSystem] = connect
    stopped: threading.Event = field(default_factory=threading.Event)
    """Set when nothing more is to be tried."""
    over: RemoteConnection | None = None
    """The line whose connection this one goes over, too."""
    _host: RemoteFileSystem | None = None
    _guard: threading.RLock = field(default_factory=threading.RLock)

    def host(self) -> RemoteFileSystem:
        """The connection, opened where there is none."""
        with self._guard:
            if self._host is None:
                try:
                    self._host = self.over.lane() if self.over else self.opened(self.settings)
                except RemoteError as error:
                    raise Refused(
                        f"the host refuses: {error}",
                        place=Place(str(self.settings.address)),
                        hint="see what the host allows, then run the same again",
                    ) from None
            return self._host

    def lane(self) -> RemoteFileSystem:
        """A further way over this line's connection, which is opened again where it turns out to be gone."""
        with self._guard:
            base = self.host()
            try:
                return base.another()
            except ConnectionLost:
                self.close()
                raise

    def opens(self) -> bool:
        """Whether the host takes one more connection."""
        try:
            self.host()
        except (ConnectionLost, EmberKeepError):
            return False
        return True

    def lost(self, error: ConnectionLost, attempt: int, what: str) -> None:
        """Wait before the next try. UnreadableInput where there is none: ``attempt`` is the number of this one."""
        self.close()
        if attempt >= TRIES or self.stopped.is_set():
            raise UnreadableInput(
                f"{what}: {error} ({attempt} tries)",
                place=Place(str(self.settings.address)),
                hint="see that the host can be reached, then say the same again: it goes on where it stopped",
            ) from error
        self.pause(min(FIRST_PAUSE * 2 ** (attempt - 1), LONGEST_PAUSE))

    def do(self, act: Callable[[RemoteFileSystem], Result], what: str) -> Result:
        """``act`` over a connection, tried again over a new one when it was lost. UnreadableInput, saying ``what`` was
        tried, when it stays so; RemoteError as it comes."""
        for attempt in range(1, TRIES + 1):
            try:
                return act(self.host())
            except ConnectionLost as error:
                self.lost(error, attempt, what)
            except BaseException as error:
                if not isinstance(error, RemoteError):
                    self.close()  # what it was in the middle of is not known
                raise
        raise AssertionError("the last try ends in an error")

    def steady(self, path: str, start: int, size: int, what: str) -> Iterator[bytes]:
        """The bytes of a file from ``start`` on; a connection that is lost on the way is opened again and goes on where
        it was. ``size``: how long the file should be, -1 where nobody knows. RemoteError as it comes."""
        at, attempt = start, 0
        while True:
            try:
                for chunk in self.host().read(path, at, size):
                    yield chunk
                    at, attempt = at + len(chunk), 0
                if at >= size:
                    return
                raise ConnectionLost(f"it ended after {at} of {size} bytes")
            except ConnectionLost as error:
                attempt += 1
                self.lost(error, attempt, what)

    def many(self, wants: Sequence[ReadRequest], what: str) -> Iterator[tuple[int, Iterator[bytes]]]:
        """Files one after the other, each by its number with its bytes, which raise RemoteError where it cannot be had.
        A connection that is lost on the way is opened again and goes on where it was."""
        pieces = self._pieces(wants, what)
        for number in range(len(wants)):
            file = _Bytes(pieces)
            yield number, file
            file.skip()
        for _ in pieces:
            raise AssertionError("more files came than were wanted")

    def _pieces(self, wants: Sequence[ReadRequest], what: str) -> Iterator[ReadEvent]:
        number, at, attempt = 0, wants[0].start if wants else 0, 0
        while number < len(wants):
            left = [wants[number]._replace(start=at), *wants[number + 1 :]]
            first = number
            try:
                for index, piece in self.host().read_many(left):
                    number, attempt = first + index, 0
                    if isinstance(piece, bytes) and piece:
                        at += len(piece)
                    else:
                        number += 1
                        at = wants[number].start if number < len(wants) else 0
                    yield first + index, piece
            except ConnectionLost as error:
                attempt += 1
                self.lost(error, attempt, what)

    def close(self) -> None:
        """End the connection, if there is one."""
        host, self._host = self._host, None
        if host is not None:
            host.close()


def _reads_many(host: RemoteFileSystem) -> bool:
    return host.reads_many


class _Bytes:
    """One file's part of the pieces of many."""

    def __init__(self, pieces: Iterator[ReadEvent]) -> None:
        self._pieces = pieces
        self._ended = False
        self._broken: EmberKeepError | None = None

    def __iter__(self) -> _Bytes:
        return self

    def __next__(self) -> bytes:
        try:
            piece = b"" if self._ended else next(self._pieces)[1]
        except EmberKeepError as error:
            self._broken = error
            raise
        if isinstance(piece, RemoteError):
            self._ended = True
            raise piece
        if not piece:
            self._ended = True
            raise StopIteration
        return piece

    def skip(self) -> None:
        """Past what of it was not taken. Raises again what ended them all."""
        if self._broken is not None:
            raise self._broken
        with suppress(RemoteError):
            for _ in self:
                pass


@dataclass
class ConnectionPool:
    """Up to ``settings.far.connections`` of them, each with :data:`LANES` ways where the host allows it: a small file
    is mostly waiting for answers. As a context manager it ends them all."""

    settings: ConnectionSettings
    pause: Callable[[float], None] = time.sleep
    opened: Callable[[ConnectionSettings], RemoteFileSystem] = connect
    _all: list[RemoteConnection] = field(default_factory=list)
    _stopped: threading.Event = field(default_factory=threading.Event)

    def __enter__(self) -> ConnectionPool:
        own = [
            RemoteConnection(self.settings, self.pause, self.opened, self._stopped)
            for _ in range(self.settings.remote.connections)
        ]
        more = [
            RemoteConnection(self.settings, self.pause, self.opened, self._stopped, line)
            for _ in range(LANES - 1 if self.settings.address.scheme == "sftp" else 0)
            for line in own
        ]
        self._all = [*own, *more]
        return self

    def __exit__(self, *_: object) -> None:
        for line in self._all:
            line.close()

    @property
    def first(self) -> RemoteConnection:
        """The one that is used where one will do."""
        return self._all[0]

    def reads_many(self) -> bool:
        """Whether files are better read behind one another (:meth:`Line.many`) than several at a time."""
        return self.first.do(_reads_many, "cannot connect")

    def _pays(self, line: RemoteConnection) -> bool:
        """Whether a line is worth its thread: a further way over a connection only where answers take their time."""
        return line.over is None or self.first.host().answers_in >= FAR

    def each(
        self,
        items: Iterable[Item],
        act: Callable[[RemoteConnection, Item], Sequence[Item] | None],
        most: int | None = None,
    ) -> None:
        """``act`` on every item, some at a time; what it returns is to be done as well. What it raises ends all.
        ``most``: over at most so many connections; further ones are ended."""
        waiting = deque(items)
        for line in self._all[most:] if most else ():
            line.close()
        if not waiting:
            return
        self.first.do(lambda host: None, "cannot connect")  # before the others: some hosts take one connection only
        changed = threading.Condition()
        busy = 0
        failed: list[BaseException] = []

        def work(line: RemoteConnection) -> None:
            nonlocal busy
            if line is not self._all[0] and not (self._pays(line) and line.opens()):
                return  # the host takes no more of them, or answers at once; the others do the work
            while True:
                with changed:
                    while not waiting and busy and not failed:
                        changed.wait()
                    if failed or not waiting:
                        return
                    item = waiting.popleft()
                    busy += 1
                more: Sequence[Item] | None = None
                try:
                    more = act(line, item)
                except BaseException as error:  # handed to the thread that asked
                    failed.append(error)
                finally:
                    with changed:
                        busy -= 1
                        waiting.extend(more or ())
                        changed.notify_all()

        threads = [threading.Thread(target=work, args=(line,), daemon=True) for line in self._all[1:most]]
        for thread in threads:
            thread.start()
        try:
            work(self._all[0])
        except BaseException as error:
            failed.append(error)
        with changed:
            changed.notify_all()
        if failed:
            self._stopped.set()
            for line in self._all:
                line.close()  # what the others wait for ends at once
        for thread in threads:
            thread.join()
        if failed:
            raise failed[0]
