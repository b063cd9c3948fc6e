"""A database server that is none, or that asks for more than it should be given: the password reaches nobody in clear."""

from __future__ import annotations

import socket
import struct
import threading
from collections.abc import Iterator
from contextlib import contextmanager

import pytest

from emberkeep.databases.mariadb import Access, Connection
from emberkeep.errors import EmberKeepError

WORD = "the tide turns at nine"
NATIVE, NO_SSL = b"mysql_native_password", 0xF7FF & ~0x0800


@contextmanager
def pretender(host: str) -> Iterator[tuple[int, list[bytes]]]:
    """A server without TLS that greets, then asks for the password itself: its port, and what it was sent."""
    heard: list[bytes] = []
    with socket.create_server((host, 0)) as server:
        server.settimeout(10)

        def serve() -> None:
            line, _ = server.accept()
            with line:
                line.settimeout(3)
                salt = b"12345678"
                greeting = b"\x0a10.11.6-MariaDB\0" + struct.pack("<I", 7) + salt + b"\0"
                greeting += struct.pack("<HBHHB", NO_SSL, 45, 2, 0x000F | 0x0008, 21) + b"\0" * 10
                greeting += b"123456789012\0" + NATIVE + b"\0"
                line.sendall(struct.pack("<I", len(greeting))[:3] + b"\0" + greeting)
                try:
                    heard.append(line.recv(4096))
                    switch = b"\xfemysql_clear_password\0"
                    line.sendall(struct.pack("<I", len(switch))[:3] + b"\x02" + switch)
                    heard.append(line.recv(4096))
                except OSError:
                    return

        thread = threading.Thread(target=serve)
        thread.start()
        try:
            yield server.getsockname()[1], heard
        finally:
            thread.join(15)


def test_a_server_here_that_asks_for_the_password_itself_is_not_told() -> None:
    with pretender("127.0.0.1") as (port, heard):
        access = Access("accounts", "rock", "keeper", WORD, "127.0.0.1", port)
        with pytest.raises(EmberKeepError, match="in clear"):
            Connection(access)
    assert len(heard) >= 1
    assert not any(WORD.encode() in told for told in heard)


def test_a_server_elsewhere_must_prove_who_it_is_before_anything_is_said() -> None:
    with pretender("127.0.0.2") as (port, heard):
        access = Access("accounts", "rock", "keeper", WORD, "127.0.0.2", port)
        assert access.guarded
        with pytest.raises(EmberKeepError, match="SSL"):
            Connection(access)
    assert not any(b"keeper" in told for told in heard)


def test_what_may_be_read_on_the_way_is_said_to_be() -> None:
    with pretender("127.0.0.2") as (port, heard):
        access = Access("accounts", "rock", "keeper", WORD, "127.0.0.2", port, plain=True)
        with pytest.raises(EmberKeepError, match="in clear"):
            Connection(access)
    assert any(b"keeper" in told for told in heard)
    assert not any(WORD.encode() in told for told in heard)
