"""The contents of many files of an SFTP host, asked for behind one another without waiting for answers in between.

SFTP version 3 (draft-ietf-secsh-filexfer-02), of which OPEN, READ and CLOSE are spoken, and the question how long a
piece may be (limits@openssh.com, which OpenSSH's PROTOCOL describes). It runs over any stream that leads to a host's
SFTP: that of the system's own ``ssh`` (see ``pipe``), or a channel of a connection of ours.
"""

from __future__ import annotations

import struct
from collections import deque
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from typing import NamedTuple, Protocol

from emberkeep.transfer.protocol import ConnectionLost, ReadEvent, RemoteError

_INIT, _VERSION, _OPEN, _CLOSE, _READ = 1, 2, 3, 4, 5
_STATUS, _HANDLE, _DATA = 101, 102, 103
_EXTENDED, _EXTENDED_REPLY = 200, 201
_EOF, _NO_CONNECTION, _CONNECTION_LOST = 1, 6, 7
_FOR_READING = 1
_LIMITS = b"limits@openssh.com"
LEAST_PIECE, LARGEST_PIECE = 32 << 10, 255 << 10
"""Bytes asked for at a time: every server must give the one, and the other still fits what OpenSSH takes for one
answer."""
AHEAD = 64
"""Files that are opened before their turn."""
ROOM = 8 << 20
"""Bytes that were asked for and not given on yet: as much as a line of a gigabit holds within 60 ms."""
_WAITING = 24 << 10
"""Bytes of questions without an answer: as long as they fit a system's buffer, no side waits for the other for ever."""
_LONGEST_ANSWER = 1 << 20
_HEAD = struct.Struct(">IBII")


class Stream(Protocol):
    """Bytes both ways. ConnectionLost when it ends."""

    def read(self, size: int) -> bytes:
        """Exactly so many bytes."""
        ...

    def write(self, data: bytes) -> None:
        """All of some bytes."""
        ...

    def close(self) -> None:
        """End it, for both ways."""
        ...


@dataclass
class _File:
    number: int
    path: bytes
    at: int
    """Up to where it was given on."""
    end: int
    asked: int
    handle: bytes = b""
    due: int = 0
    """Answers that have not come."""
    early: dict[int, bytes] = field(default_factory=dict)
    failed: RemoteError | None = None

    @property
    def finished(self) -> bool:
        return self.due == 0 and (self.failed is not None or self.at >= self.end >= 0)

    def next(self) -> bytes:
        data = self.early.pop(self.at, b"")
        self.at += len(data)
        return data


class _Due(NamedTuple):
    file: _File
    kind: int
    offset: int
    length: int
    question: int
    """Bytes of the question."""


class PipelinedReader:
    """Reads over ``stream``, which it owns. ConnectionLost and RemoteError as they come."""

    def __init__(self, stream: Stream) -> None:
        self._stream = stream
        self._number = 0
        self._out = bytearray()
        self._due: dict[int, _Due] = {}
        self._bytes_due = self._questions_due = 0
        self._piece = LEAST_PIECE
        try:
            self._begin()
        except BaseException:
            stream.close()
            raise

    def close(self) -> None:
        """End it."""
        self._stream.close()

    def _begin(self) -> None:
        self._stream.write(struct.pack(">IBI", 5, _INIT, 3))
        size, kind, _ = struct.unpack(">IBI", self._stream.read(9))
        if kind != _VERSION or not 5 <= size <= _LONGEST_ANSWER:
            raise ConnectionLost("what answers there does not speak SFTP")
        if _LIMITS in self._stream.read(size - 5):
            self._stream.write(struct.pack(">IBII", 9 + len(_LIMITS), _EXTENDED, 0, len(_LIMITS)) + _LIMITS)
            kind, _, word, rest = self._packet()
            if kind == _EXTENDED_REPLY and len(rest) >= 12:
                longest, most_read = struct.unpack_from(">QQ", word.to_bytes(4) + rest)
                wanted = min(longest - 1024, most_read or LARGEST_PIECE)
                self._piece = max(LEAST_PIECE, min(wanted, LARGEST_PIECE))

    def files(self, wants: Sequence[tuple[bytes, int, int]]) -> Iterator[ReadEvent]:
        """Files in their order, each with its pieces in theirs: each wanted from one byte up to another, to its end
        where that is -1. What is left half-way leaves this reader in the middle of something: it is of no more use."""
        waiting = deque(_File(number, path, start, end, start) for number, (path, start, end) in enumerate(wants))
        current: deque[_File] = deque()
        asking: deque[_File] = deque()
        while waiting or current:
            self._ask(waiting, current, asking)
            file = current[0]
            while data := file.next():
                self._bytes_due -= len(data)
                yield file.number, data
            if not file.finished:
                self._answer(asking)
                continue
            current.popleft()
            self._bytes_due -= sum(map(len, file.early.values()))
            if file.handle:
                self._say(file, _CLOSE, file.handle)
            yield file.number, file.failed or b""
        self._send()
        while self._due:
            self._answer(asking)

    # --- questions -------------------------------------------------------------

    def _ask(self, waiting: deque[_File], current: deque[_File], asking: deque[_File]) -> None:
        """As much as may be asked now: pieces of what is open, then further files."""
        if current and current[0].handle and not (current[0].due or current[0].finished):
            self._ask_piece(current[0])  # the one whose turn it is never waits for room that others' bytes take
        while asking and self._bytes_due < ROOM and self._questions_due < _WAITING:
            if not self._ask_piece(asking[0]):
                asking.popleft()
        while waiting and len(current) < AHEAD and self._questions_due < _WAITING and not asking:
            file = waiting.popleft()
            current.append(file)
            self._say(file, _OPEN, file.path, struct.pack(">II", _FOR_READING, 0))
        self._send()

    def _ask_piece(self, file: _File) -> bool:
        """Ask for a file's next piece; False where there is none to be asked for now. Of a file whose end nobody knows
        one is asked for at a time."""
        left = self._piece if file.end < 0 else min(self._piece, file.end - file.asked)
        if left <= 0 or file.failed or (file.end < 0 and file.due):
            return False
        self._read(file, file.asked, left)
        file.asked += left
        return True

    def _read(self, file: _File, offset: int, length: int) -> None:
        self._say(file, _READ, file.handle, struct.pack(">QI", offset, length), offset, length)

    def _say(self, file: _File, kind: int, text: bytes, rest: bytes = b"", offset: int = 0, length: int = 0) -> None:
        self._number = (self._number + 1) & 0xFFFFFFFF
        size = 9 + len(text) + len(rest)
        self._out += struct.pack(">IBII", size, kind, self._number, len(text)) + text + rest
        self._due[self._number] = _Due(file, kind, offset, length, size)
        self._bytes_due += length
        self._questions_due += size
        file.due += kind != _CLOSE

    def _send(self) -> None:
        if self._out:
            out, self._out = bytes(self._out), bytearray()
            self._stream.write(out)

    # --- answers ---------------------------------------------------------------

    def _packet(self) -> tuple[int, int, int, bytes]:
        """An answer: its kind, to which question, its first word (a length, or a code), and the rest."""
        size, kind, number, word = _HEAD.unpack(self._stream.read(_HEAD.size))
        if not 9 <= size <= _LONGEST_ANSWER:
            raise ConnectionLost("what answers there does not speak SFTP")
        return kind, number, word, self._stream.read(size - 9)

    def _answer(self, asking: deque[_File]) -> None:
        kind, number, word, rest = self._packet()
        due = self._due.pop(number, None)
        if due is None:
            raise ConnectionLost("an answer to what was not asked")
        self._questions_due -= due.question
        if due.kind == _CLOSE:
            return
        file = due.file
        file.due -= 1
        if kind == _STATUS:
            self._bytes_due -= due.length
            self._refused(due, word, rest)
        elif kind == _HANDLE and due.kind == _OPEN and word == len(rest):
            file.handle = rest
        elif kind == _DATA and due.kind == _READ and 0 < word == len(rest) <= due.length:
            self._came(due, rest)
        else:
            raise ConnectionLost("an answer of another kind than was asked for")
        if (due.kind == _OPEN or file.end < 0) and not file.finished:
            asking.append(file)

    def _came(self, due: _Due, data: bytes) -> None:
        file = due.file
        file.early[due.offset] = data
        if len(data) < due.length:  # it gives less at a time than was asked for
            self._bytes_due -= due.length - len(data)
            if file.end < 0:
                file.asked = due.offset + len(data)
            else:
                self._read(file, due.offset + len(data), due.length - len(data))

    def _refused(self, due: _Due, code: int, rest: bytes) -> None:
        file = due.file
        words = rest[4 : 4 + int.from_bytes(rest[:4])].decode("utf-8", "replace") or f"status {code}"
        if code in (_NO_CONNECTION, _CONNECTION_LOST):
            raise ConnectionLost(words)
        if due.kind == _READ and code == _EOF:
            file.end = due.offset if file.end < 0 else min(file.end, due.offset)
            return
        file.failed = RemoteError(words)
