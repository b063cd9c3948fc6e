"""A real MariaDB, started by tests on a data folder, socket and port of its own; never a system one."""

from __future__ import annotations

import getpass
import itertools
import os
import shutil
import subprocess
import time
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path

import pytest

from emberkeep.databases.dump import Watch, dumped
from emberkeep.databases.mariadb import Access, Connection
from emberkeep.demo.walk import free_ports
from emberkeep.errors import EmberKeepError

PROGRAMS = ("mariadbd", "mariadb-install-db", "mariadb", "mariadb-dump")
WORD = "low \"tide' 7\\#"
USER = "rock"
_numbers = itertools.count(1)


def require() -> None:
    lacking = [name for name in PROGRAMS if shutil.which(name) is None]
    if lacking:
        if os.environ.get("EMBERKEEP_REAL_SERVERS") == "required":
            pytest.fail(f"{', '.join(lacking)} must be installed here")
        pytest.skip(f"{', '.join(lacking)} is not installed (Debian: mariadb-server)")


class Server:
    """A running MariaDB. Its superuser is ``root`` without a password, on the socket only tests know."""

    def __init__(self, folder: Path, *options: str, port: int = 0) -> None:
        self.folder, self.options = folder, options
        self.socket = f"{folder}/s"
        self.port = port or free_ports(1)[0]
        (folder / "tmp").mkdir(exist_ok=True)
        self.own_room = f"--tmpdir={folder}/tmp"  # one that starts clears it of what others have there
        user = getpass.getuser()
        line = [
            "mariadb-install-db",
            "--no-defaults",
            f"--user={user}",
            f"--datadir={folder}/data",
            self.own_room,
            "--auth-root-authentication-method=normal",
            "--skip-test-db",
        ]
        for left in (2, 1, 0):  # it fails at times where several are made at once
            shutil.rmtree(folder / "data", ignore_errors=True)
            done = subprocess.run(line, capture_output=True, text=True, check=False)
            if done.returncode == 0:
                break
            assert left, done.stdout + done.stderr
        self.start()
        self.sql(
            f"create user {USER}@'%' identified by '{WORD.replace(chr(92), chr(92) * 2).replace(chr(39), chr(39) * 2)}'"
        )
        self.sql(f"grant all on *.* to {USER}@'%'")

    def start(self) -> None:
        with (self.folder / "log").open("ab") as log:
            self.process = subprocess.Popen(
                [
                    "mariadbd",
                    "--no-defaults",
                    f"--user={getpass.getuser()}",
                    f"--datadir={self.folder}/data",
                    self.own_room,
                    f"--socket={self.socket}",
                    "--bind-address=127.0.0.1",
                    f"--port={self.port}",
                    f"--pid-file={self.folder}/pid",
                    "--innodb-buffer-pool-size=64M",
                    "--innodb-flush-log-at-trx-commit=2",
                    *self.options,
                ],
                stdout=log,
                stderr=log,
            )
        for _ in range(300):
            with suppress(EmberKeepError), Connection(self.root(), schema=None):
                return
            if self.process.poll() is not None:
                break
            time.sleep(0.1)
        pytest.fail(f"MariaDB did not start: {(self.folder / 'log').read_text()[-600:]}")

    def root(self, schema: str = "") -> Access:
        return Access("root", schema, "root", socket=self.socket)

    def access(self, schema: str) -> Access:
        return Access("accounts", schema, USER, WORD, "127.0.0.1", self.port)

    def schema(self) -> str:
        """A new, empty database."""
        name = f"rock_{next(_numbers)}"
        self.sql(f"create database {name} character set utf8mb4")
        return name

    def sql(self, text: str, schema: str = "") -> list[list[str]]:
        """What the server's own client prints for some SQL."""
        done = subprocess.run(
            [
                "mariadb",
                "--no-defaults",
                "-uroot",
                f"--socket={self.socket}",
                "--batch",
                "--skip-column-names",
                "--default-character-set=utf8mb4",
                *([schema] if schema else []),
            ],
            input=text.encode(),
            capture_output=True,
            check=False,
        )
        assert done.returncode == 0, done.stderr.decode()
        return [line.split("\t") for line in done.stdout.decode().splitlines()]

    def dump(self, schema: str) -> bytes:
        """All of a database, as its own client dumps it."""
        return b"".join(dumped(self.root(schema), Watch()))

    def schemas(self) -> list[str]:
        return [row[0] for row in self.sql("show databases")]

    def kill(self) -> None:
        self.process.kill()
        self.process.wait()

    def close(self) -> None:
        self.process.terminate()
        try:
            self.process.wait(30)
        except subprocess.TimeoutExpired:
            self.kill()


@contextmanager
def server(folder: Path, *options: str) -> Iterator[Server]:
    require()
    running = Server(folder, *options)
    try:
        yield running
    finally:
        running.close()


ODD = r"""
create table `odd ``name` (`id x` int primary key, v text, b mediumblob, f double, d decimal(10,3), ts timestamp null,
  g int generated always as (`id x` + 1) stored, bits bit(3), j json, ch char(4), en enum('a','b'));
insert into `odd ``name` (`id x`, v, b, f, d, ts, bits, j, ch, en) values
  (1, 'a\nb''c"\\ \0 😀);\nINSERT INTO `x` VALUES (1);\nUNLOCK TABLES;', 0x00ff27, 1.5e-300, 12.340,
   '2026-01-01 00:00:00', b'101', '{"a": 1}', 'ab', 'b'),
  (2, null, '', null, null, null, null, null, '', null),
  (3, '', repeat('x', 70000), -0.1, -1, '2026-07-01 12:00:00', b'0', '[]', null, 'a');
create table people (id int primary key, name varchar(20)) comment 'who; "lives" here';
create table boats (id int primary key auto_increment, owner int, foreign key (owner) references people (id));
insert into people values (1, 'Mooring'), (2, 'Sculler'), (4, 'naïve; -- not');
insert into boats values (1, 1), (2, 2), (7, 2);
create table heap (a int, b varchar(10));
insert into heap values (3, 'z'), (1, 'y'), (3, 'z');
create table empty_one (a int primary key);
create view fleet as select p.name, b.id from people p join boats b on b.owner = p.id;
create view abroad as select * from fleet where id > 1;
create sequence tides start with 100;
delimiter ;;
create trigger before_boats before insert on boats for each row begin set new.owner = new.owner; end;;
create function next_tide(a int) returns int deterministic return a + 1;;
create procedure moor() begin select 1; end;;
create event ebb on schedule every 1 day do begin delete from boats where id = -1; end;;
delimiter ;
"""
"""Odd names, binary and long values, keys that refer, a heap, a view, a trigger, routines, an event, a sequence."""
