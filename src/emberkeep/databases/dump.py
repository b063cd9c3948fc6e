"""Dumps of databases, by the servers' own client, as a stream; and what was dumped, table by table.

Each row stands on a line of its own, in the order of the primary key: an earlier dump's lines are found again in a
later one, and rows can be counted without reading them. MariaDB's client writes many such lines as one ``INSERT``;
MySQL's writes an ``INSERT`` a row, as it would else put them all on one line. What was dumped::

    {"format": 1, "name": what the keep calls it, "schema": its name there, "server": the server's version,
     "charset": …, "collation": …, "tables": {TABLE: {"rows": N, "digest": BLAKE3 of the table's rows, in hex}}}

A table's digest is that of its rows as the dump spells them, each ``(…)``, joined by a comma and a line end: it does
not depend on how they are grouped.
"""

from __future__ import annotations

import json
import os
import shutil
import subprocess
import sys
import tempfile
from collections.abc import Iterator, Mapping
from contextlib import contextmanager, suppress
from dataclasses import dataclass, field
from pathlib import Path

from blake3 import blake3

from emberkeep.databases.mariadb import Access, Connection
from emberkeep.errors import Damage, Place, Refused, RunFailed

CLIENTS = ("mariadb-dump", "mysqldump")
OPTIONS = (
    "--single-transaction",
    "--quick",
    "--routines",
    "--triggers",
    "--events",
    "--hex-blob",
    "--skip-dump-date",
    "--order-by-primary",
    "--no-tablespaces",
    "--default-character-set=utf8mb4",
    "--max-allowed-packet=1G",
)
_OF_MYSQL = ("--skip-extended-insert", "--set-gtid-purged=OFF", "--column-statistics=0")
"""What only the client of MySQL needs."""
COMPLETE = b"-- Dump completed"
"""What the last line of a dump begins with."""
_PIECE = 1 << 20
FORMAT = 1


@dataclass(frozen=True)
class TableDump:
    """A table as it was dumped: its rows, and the BLAKE3 of its lines."""

    rows: int
    digest: str


@dataclass(frozen=True)
class Facts:
    """What was dumped of a database."""

    name: str
    schema: str
    server: str
    charset: str
    collation: str
    tables: Mapping[str, TableDump] = field(default_factory=dict)

    @property
    def rows(self) -> int:
        """Rows in all."""
        return sum(table.rows for table in self.tables.values())


def serialize(facts: Facts) -> bytes:
    """The bytes of what is kept beside a dump."""
    header = {
        "format": FORMAT,
        **{name: getattr(facts, name) for name in ("name", "schema", "server", "charset", "collation")},
        "tables": {name: {"rows": one.rows, "digest": one.digest} for name, one in facts.tables.items()},
    }
    return json.dumps(header, ensure_ascii=False, indent=1).encode()


def parse(data: bytes, place: str) -> Facts:
    """The same again; Damage for what is none."""
    try:
        header = json.loads(data)
        tables = {name: TableDump(int(one["rows"]), str(one["digest"])) for name, one in header["tables"].items()}
        names = ("name", "schema", "server", "charset", "collation")
        number, texts = int(header["format"]), [str(header[name]) for name in names]
    except (ValueError, KeyError, TypeError, AttributeError) as error:
        raise Damage(
            "what was dumped of this database cannot be read",
            place=Place(place),
            hint="run 'emberkeep verify'; restore the rest with --only",
        ) from error
    if number > FORMAT:
        raise Refused("this dump was made by a newer Ember Keep", place=Place(place), hint="update Ember Keep")
    return Facts(texts[0], texts[1], texts[2], texts[3], texts[4], tables)


_LOCK, _UNLOCK, _INSERT, _NEXT = b"\nLOCK TABLES `", b"\nUNLOCK TABLES;", b"\nINSERT INTO ", b"),\n("


@dataclass
class Watch:
    """Counts the rows of a dump that passes by, and hashes each table's rows. None is taken apart, nor copied twice."""

    tables: dict[str, TableDump] = field(default_factory=dict)
    complete: bool = False
    size: int = 0
    _held: bytes = b"\n"
    _table: _Passing | None = None

    def see(self, chunk: bytes) -> None:
        """The next bytes of the dump."""
        self.size += len(chunk)
        data = self._held + chunk
        at = 0
        while at >= 0:
            self._held = data[at:]
            at = self._rows(self._table, data, at) if self._table else self._between(data, at)

    def _between(self, data: bytes, at: int) -> int:
        """Look for the next table; where what follows it begins, -1 where that is still to come."""
        start = data.find(_LOCK, at)
        end = data.find(b"\n", start + 1) if start >= 0 else -1
        if end < 0:
            self.complete = self.complete or data.find(b"\n" + COMPLETE, at) >= 0
            self._held = data[max(at, data.rfind(b"\n", at)) if start < 0 else start :]
            return -1
        self._table = _Passing(data[start + len(_LOCK) : end].removesuffix(b"` WRITE;"))
        return end

    def _rows(self, table: _Passing, data: bytes, at: int) -> int:
        """Pass the rows of a table on; as above."""
        end = data.find(_UNLOCK, at)
        used = table.see(data, at, end if end >= 0 else len(data), last=end >= 0)
        if end < 0:
            self._held = data[used:]
            return -1
        name = table.name.replace(b"``", b"`").decode("utf-8", "backslashreplace")
        self.tables[name] = TableDump(table.rows, table.hasher.hexdigest())
        self._table = None
        return end


@dataclass
class _Passing:
    """The rows of one table as they pass by."""

    name: bytes
    rows: int = 0
    hasher: blake3 = field(default_factory=blake3)
    _between: bytes = b""

    def see(self, data: bytes, at: int, stop: int, *, last: bool) -> int:
        """Take the rows that end between two places; how far they go. ``last``: there are no more behind."""
        if not self._between:
            first = self._first(data, at, stop)
            if first < 0:
                return at
            at = first
        while (one := data.find(self._between, at, stop)) >= 0:  # where one statement ends and the next begins
            self._take(data, at, one + 1)
            self.hasher.update(_NEXT[1:])
            self.rows += 1
            at = one + len(self._between)
        cut = data.rfind(b");\n", at, stop + 1) if last else data.rfind(_NEXT, at, stop)
        if cut < 0:
            return at
        self._take(data, at, cut + 1)
        return cut + 1

    def _first(self, data: bytes, at: int, stop: int) -> int:
        """Behind the bracket of the first row; -1 where it is still to come."""
        start = data.find(_INSERT, at, stop)
        values = data.find(b" VALUES", start, stop) if start >= 0 else -1
        first = data.find(b"(", values, stop) if values >= 0 else -1
        if first < 0:
            return -1
        self._between = b");" + data[start : first + 1]
        self.hasher.update(b"(")
        self.rows = 1
        return first + 1

    def _take(self, data: bytes, start: int, end: int) -> None:
        self.rows += data.count(b"\n", start, end)
        self.hasher.update(memoryview(data)[start:end])


def dumped(access: Access, watch: Watch, *further: str, schema: str = "") -> Iterator[bytes]:
    """The dump of a database, piece by piece, as ``watch`` sees it too.

    Refused where no client is to be found; RunFailed when it warns, ends badly or stops early.
    """
    place = Place(f"{access.name} ({access})")
    client = _client(access)
    with option_file(access) as options, tempfile.TemporaryFile() as complaints:
        command = [client, f"--defaults-file={options}", *OPTIONS, *further]
        if _is_mariadb(client):
            command += ["--ssl", "--ssl-verify-server-cert"] if access.guarded else []
        else:
            command += [*_OF_MYSQL, *(["--ssl-mode=VERIFY_IDENTITY"] if access.guarded else [])]
        process = subprocess.Popen(
            [*command, schema or access.schema], stdin=subprocess.DEVNULL, stdout=subprocess.PIPE, stderr=complaints
        )
        assert process.stdout is not None
        _widen(process.stdout.fileno())
        try:
            while chunk := process.stdout.read(_PIECE):
                watch.see(chunk)
                yield chunk
            code = process.wait()
        finally:
            process.stdout.close()
            if process.poll() is None:
                process.kill()
                process.wait()
        complaints.seek(0)
        said = complaints.read().decode("utf-8", "replace").strip().splitlines()
    if code or said:
        what = said[-1] if said else f"it ended with {code}"
        raise RunFailed(f"the dump of this database is not good: {what}", place=place, hint="mend that and try again")
    if not watch.complete:
        raise RunFailed("the dump of this database ends early", place=place, hint="try again")


def _widen(pipe: int) -> None:
    """Let the client write ahead while what it wrote is looked at, where the system allows it."""
    if sys.platform == "linux":
        import fcntl

        with suppress(OSError):
            fcntl.fcntl(pipe, fcntl.F_SETPIPE_SZ, _PIECE)


def facts_of(access: Access, watch: Watch) -> Facts:
    """What was dumped, once the dump has come to its end."""
    with Connection(access) as connection:
        charset, collation = connection.all(
            "select default_character_set_name, default_collation_name from information_schema.schemata"
            " where schema_name = %s",
            [access.schema],
        )[0]
        server = connection.version()
    return Facts(access.name, access.schema, server, str(charset), str(collation), dict(watch.tables))


def _client(access: Access) -> str:
    if access.client:
        if shutil.which(access.client) is None:
            raise Refused(
                f"there is no program {access.client}", hint=f"mend client of database '{access.name}' in keep.toml"
            )
        return access.client
    for name in CLIENTS:
        found = shutil.which(name)
        if found:
            return found
    raise Refused(
        f"the database '{access.name}' cannot be dumped: neither {CLIENTS[0]} nor {CLIENTS[1]} is installed here",
        hint="install the database's client programs (Debian: mariadb-client), or tell keep.toml its 'client'",
    )


def _is_mariadb(client: str) -> bool:
    done = subprocess.run([client, "--version"], capture_output=True, check=False, stdin=subprocess.DEVNULL)
    return b"MariaDB" in done.stdout


@contextmanager
def option_file(access: Access) -> Iterator[Path]:
    """A file that nobody else may read, with what a client must know: a password never stands in a command line."""
    lines = ["[client]"]
    for key, value in (
        ("user", access.user),
        ("password", access.password),
        ("host", access.host),
        ("socket", access.socket),
        ("ssl-ca", access.certificate),
    ):
        if value:
            text = value.replace("\\", "\\\\").replace('"', '\\"').replace("\n", "\\n")
            lines.append(f'{key}="{text}"')
    if access.host:
        lines += [f"port={access.port}", "protocol=tcp"]
    descriptor, name = tempfile.mkstemp(prefix="emberkeep-", suffix=".cnf")  # made with mode 600
    try:
        with os.fdopen(descriptor, "w", encoding="utf-8") as handle:
            handle.write("\n".join(lines) + "\n")
        yield Path(name)
    finally:
        Path(name).unlink()
