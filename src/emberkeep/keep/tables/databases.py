"""What keep.toml says of databases: what each holds, how it is reached, and how the vendor's SQL for it is laid out.

::

    [[database]]    name: what it is called here
                    holds: accounts, master, world or progress
                    file: a glob of SQLite files of the server folder; or else, of a database server:
                    schema: its name there (default: name)
                    host and port, or socket; user
                    secret: { env } or { file }, the password
                    settings: { file, schema, host, port, user, password }: "as in this settings file, under these keys"
                    certificate: a PEM file with the authority that the server's certificate is checked by (default:
                    those of this system); plain: true lets the way to a server elsewhere be one that others can read
                    client: the dump client, when it is not to be found by its name
                    version: { table, column, where }: where the database tells the version it is of; engine: the
                    entry of [versions] that it should agree with (default "engine")
                    defaults: globs of the SQL or dumps in which the vendor ships the contents of tables, within
                    recorded defaults; tables: those whose contents are merged (default: all that are shipped)
    [vendor-sql]    layout: a pattern below the folder that ``migrate --sql`` names, with {from}, {database} and
                    perhaps {to}, {part} and {variant}, as "{from}/{database}/{part}-*.sql"
                    parts: in their order (default ["structure", "data"])
                    variants: [{ name, file, key, is }]: the first one that is so; otherwise: the name when none is
                    besides: globs of SQL files that no step is to run; any other that fits no part is refused

Databases are dumped, stepped through SQL and restored in the order in which they stand.
"""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass, field

from emberkeep.keep.toml_reader import Reader

HOLDS = ("accounts", "master", "world", "progress")
PORT = 3306
PARTS = ("structure", "data")
_NAME = re.compile(r"[A-Za-z0-9][A-Za-z0-9_.-]*")
_FROM_SETTINGS = ("schema", "host", "port", "user", "password")
_LONGEST_SCHEMA = 50
"""Names of schemas end at 64 letters, and the names of ours beside them are a little longer."""


@dataclass(frozen=True)
class VersionAt:
    """Where a database tells its version. ``where``: SQL, "" for the only row."""

    table: str
    column: str
    where: str = ""


@dataclass(frozen=True)
class Database:
    """One database. ``file``: a glob of SQLite files, "" for one of a database server; ``in_settings``: what a settings
    file tells, as purpose and key; secrets are named here, never held."""

    name: str
    holds: str = "world"
    file: str = ""
    schema: str = ""
    host: str = ""
    port: int = 0
    socket: str = ""
    user: str = ""
    secret_env: str = ""
    secret_file: str = ""
    settings_file: str = ""
    in_settings: Mapping[str, str] = field(default_factory=dict)
    certificate: str = ""
    plain: bool = False
    client: str = ""
    version: VersionAt | None = None
    engine: str = "engine"
    defaults: tuple[str, ...] = ()
    tables: tuple[str, ...] = ()

    @property
    def served(self) -> bool:
        """Whether a database server holds it; else it is a file of the server folder."""
        return not self.file


@dataclass(frozen=True)
class Variant:
    """A set of the vendor's SQL, for servers of which a condition is so: a key of a file has a value, or (without
    ``key``) the file is there."""

    name: str
    file: str
    key: str = ""
    value: str = ""


@dataclass(frozen=True)
class VendorSql:
    """How the vendor lays SQL out; ``layout`` is "" where keep.toml does not tell. ``besides``: globs of SQL files that
    no step is to run."""

    layout: str = ""
    parts: tuple[str, ...] = PARTS
    variants: tuple[Variant, ...] = ()
    otherwise: str = ""
    besides: tuple[str, ...] = ()


@dataclass(frozen=True)
class Databases:
    """All of it, in order."""

    all: tuple[Database, ...] = ()
    vendor: VendorSql = field(default_factory=VendorSql)

    @property
    def served(self) -> tuple[Database, ...]:
        """Those that a database server holds."""
        return tuple(one for one in self.all if one.served)

    def named(self, name: str) -> Database | None:
        """The one that is called so."""
        return next((one for one in self.all if one.name == name), None)


def read(reader: Reader) -> Databases:
    """The tables of keep.toml, checked."""
    found = []
    names: set[str] = set()
    for item in reader.subs("database"):
        one = _database(item)
        if one.name in names:
            item.fault("name", f"there is another database '{one.name}'")
        names.add(one.name)
        found.append(one)
    return Databases(tuple(found), _vendor(reader.sub("vendor-sql")))


def _database(reader: Reader) -> Database:
    secret, settings, version = (reader.sub(key) for key in ("secret", "settings", "version"))
    name = reader.required("name")
    found = Database(
        name,
        reader.choice("holds", HOLDS, Database.holds),
        reader.string("file"),
        reader.string("schema"),
        reader.string("host"),
        reader.get("port", int, "a number", 0),
        reader.string("socket"),
        reader.string("user"),
        secret.string("env"),
        secret.string("file"),
        settings.string("file"),
        {what: key for what in _FROM_SETTINGS if (key := settings.string(what))},
        reader.string("certificate"),
        reader.get("plain", bool, "true or false", False),
        reader.string("client"),
        VersionAt(version.required("table"), version.required("column"), version.string("where"))
        if version.table
        else None,
        reader.string("engine", Database.engine),
        reader.strings("defaults"),
        reader.strings("tables"),
    )
    _check(reader, found)
    for part in (secret, settings, version, reader):
        part.no_others()
    return found


def _check(reader: Reader, found: Database) -> None:
    if found.name and not _NAME.fullmatch(found.name):
        reader.fault("name", "should be letters, digits, '-', '_' and '.'")
    served = bool(found.schema or found.host or found.socket or found.user or found.settings_file)
    if found.file and served:
        reader.fault("file", "is for a SQLite file; a database of a server has host or socket, user and schema")
    if found.file:
        reader.check_glob("file", found.file)
    elif not (found.user or "user" in found.in_settings):
        reader.fault("", "lacks the key 'user', or 'file' for a SQLite file")
    if found.in_settings and not found.settings_file:
        reader.fault("settings", "lacks the key 'file'")
    if len(found.schema or found.name) > _LONGEST_SCHEMA:
        reader.fault("schema", f"should have {_LONGEST_SCHEMA} letters at most")
    if not 0 <= found.port < 1 << 16:
        reader.fault("port", "should be from 1 to 65535")
    for pattern in found.defaults:
        reader.check_glob("defaults", pattern)


def _vendor(reader: Reader) -> VendorSql:
    variants = []
    for item in reader.subs("variants"):
        variants.append(Variant(item.required("name"), item.required("file"), item.string("key"), item.string("is")))
        item.no_others()
    found = VendorSql(
        reader.string("layout"),
        reader.strings("parts") or PARTS,
        tuple(variants),
        reader.string("otherwise"),
        reader.strings("besides"),
    )
    if found.layout:
        places = re.findall(r"\{(\w*)\}", found.layout)
        for wanted in ("from", "database"):
            if wanted not in places:
                reader.fault("layout", f"should hold {{{wanted}}}", 'as "{from}/{database}/{part}-*.sql"')
        for name in places:
            if name not in ("from", "to", "database", "part", "variant"):
                reader.fault("layout", f"{{{name}}} stands for nothing", "known: from, to, database, part, variant")
        reader.check_glob("layout", found.layout)
    elif reader.table:
        reader.fault("", "lacks the key 'layout'")
    reader.no_others()
    return found
