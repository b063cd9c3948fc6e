"""The keep: the folder where all that is known of one server lies, and its ``keep.toml``.

::

    KEEP/                    by default SERVER.keep, beside the server folder, never inside it
      keep.toml              what this keep knows of its server; the admin's own file
      answers.toml           answers given to questions of merges
      orders.toml            standing orders
      journal.db             which runs changed the server folder
      recipes/               how saves are migrated, one file for each version step
      output/                what started servers print
      due.lock               held by the one process that does what is due
      far.db, far/           what a far server folder held at the last fetch, and files that are half fetched
      vault.json             what went into vaults, and when
      store/                 snapshots and recorded defaults

``keep.toml``::

    format = 1
    [server]          name, folder (relative ones are relative to the keep), zone (IANA name)
    [far]             the way to a server folder behind a file transfer, and its copy here; see ``far``
    [[vault]]         where second copies of this keep go; see ``far``
    [versions.NAME]   pattern (a regular expression with one group), in (list of globs)
    [roles]           ROLE = [globs], first match wins in the order written
    [world]           pointer = { file, key }, tiles = { names, sector }, dimensions (further folders), numbered =
                      { names, engine-file, engine-pattern }: saves with a number, and where the engine tells its own
    [launch]          script, program, and the names of its variables or arguments for seed, size, name, port
    [log]             in (globs), and patterns of the lines version, ready, loaded, failed, error,
                      seed (one group), joined and left (a group "name")
    [player-bound]    files: globs of extension data that belongs to single players
    [wanted]          NAME = the version wanted, or { file, pattern } or { address, pattern } where it is published
    [process] [console] [start] [[service]] [stop]    see ``running``
    [[database]] [vendor-sql]                         see ``database``
    [[landmark]]      name, and file (its bytes), file with record and field, tiles (X1,Y1..X2,Y2) or row ({ database,
                      table, where }): what must hold after an update as before
    [update]          overlay: glob of the archive that a framework is laid over the engine from; command: the admin's
                      own updater; remember: what is done with extensions without a new build (keep, remove, stop)
    [rehearse]        set = { "FILE" = { KEY = "value" } }: what differs in a copy that is only rehearsed with
    [scopes.NAME] [[survives]] [wipe]                 see ``wiping``
    [[event]] [calendar] [announce] [[webhook]]       see ``events``
    [ladder]          "AGE" = "all" or "one a hour|day|week|month|year": which snapshots thinning keeps
    [[rule]]          files (a glob), field (a glob), record (a glob over names in reports), take: settles questions
    [checks]          silence: learned checks that are not to be reported, by the names that reports give them
    [records."GLOB"]  "tag/tag" = ["@attribute" or "child", …], [] for records without identity
"""

from __future__ import annotations

import os
import re
import zoneinfo
from collections.abc import Mapping
from dataclasses import dataclass, field
from datetime import timedelta
from functools import cached_property
from pathlib import Path
from types import MappingProxyType
from typing import TYPE_CHECKING, Any

from emberkeep.errors import Refused, UsageError
from emberkeep.fs import globs, writing
from emberkeep.keep import locate
from emberkeep.keep.locate import FILE, SUFFIX
from emberkeep.keep.tables import process
from emberkeep.keep.tables.process import Running
from emberkeep.keep.toml_reader import Reader, load, parsed

if TYPE_CHECKING:  # what reads these tables is loaded where keep.toml has them: every command reads keep.toml
    from emberkeep.keep.tables.databases import Databases
    from emberkeep.keep.tables.schedule import Events
    from emberkeep.keep.tables.transfer import Far, VaultAt
    from emberkeep.keep.tables.wiping import Wiping

QUESTION = "# ?"
_GUESSED = re.compile(r"is (?!\S+ the version of )[^?]+? (?:the world|(?P<role>[a-z-]+))\? ")
FORMAT = 1
ROLES = (
    "engine",
    "world",
    "players",
    "progress",
    "access",
    "settings",
    "economy",
    "scripts",
    "extensions",
    "extension-data",
    "databases",
    "logs",
    "scratch",
)
UNSORTED = "unsorted"


@dataclass(frozen=True)
class VersionSource:
    """How one version number is found: a pattern with one group, looked for in files (names and first lines)."""

    name: str
    pattern: str
    within: tuple[str, ...]


@dataclass(frozen=True)
class WorldPointer:
    """The settings key whose value is the world's folder name."""

    file: str
    key: str


@dataclass(frozen=True)
class World:
    """What is known of the world's files. ``tiles``: name with {x} and {y}; ``sector``: bytes; ``numbered``: name
    with {number}; ``number_in`` and ``number_pattern``: the engine's own file that tells which number it reads."""

    pointer: WorldPointer | None = None
    tiles: str = ""
    sector: int = 0
    numbered: str = ""
    dimensions: tuple[str, ...] = ()
    number_in: str = ""
    number_pattern: str = ""


@dataclass(frozen=True)
class Launch:
    """The launch script, the program that it starts, and what its variables or arguments are called, by purpose
    (``seed size name port``)."""

    script: str = ""
    program: str = ""
    keys: Mapping[str, str] = field(default_factory=dict)


@dataclass(frozen=True)
class Log:
    """Where the server's log is, and the pattern of each kind of line (``version ready loaded failed
    error seed joined left``)."""

    within: tuple[str, ...] = ()
    patterns: Mapping[str, str] = field(default_factory=dict)


@dataclass(frozen=True)
class Wanted:
    """Which version of something is wanted: told, or to be read from a file or an HTTP address by a pattern with one
    group."""

    name: str
    version: str = ""
    file: str = ""
    address: str = ""
    pattern: str = ""


@dataclass(frozen=True)
class Settling:
    """A rule that settles questions of merges: those about ``field`` (a glob) in ``files`` (a glob), of the records
    whose name in reports fits ``record``, where that is told."""

    files: str
    field: str
    take: str
    record: str = ""


TAKES = ("mine", "new", "old", "larger", "smaller", "ratio", "mean")


@dataclass(frozen=True)
class Landmark:
    """Something that must hold after an update as before; exactly one of ``file`` alone, ``file`` with ``record`` and
    ``field``, ``tiles``, or ``database`` with ``table`` and ``where``."""

    name: str
    file: str = ""
    record: str = ""
    field: str = ""
    tiles: str = ""
    database: str = ""
    table: str = ""
    where: str = ""


@dataclass(frozen=True)
class Updating:
    """What an update needs to know. ``set_for_rehearsal``: file, key, value."""

    overlay: str = ""
    command: tuple[str, ...] = ()
    remember: Mapping[str, str] = field(default_factory=dict)
    set_for_rehearsal: tuple[tuple[str, str, str], ...] = ()


EXTENSION_CHOICES = ("keep", "remove", "stop")


@dataclass(frozen=True)
class Rung:
    """A rung of the retention ladder: of snapshots up to ``age`` old, all are kept (``every`` "") or the last one
    of each hour, day, week, month or year."""

    age: timedelta
    every: str


PERIODS = ("hour", "day", "week", "month", "year")
_DAYS = {"hour": 1 / 24, "day": 1, "week": 7, "month": 30.44, "year": 365.25}

PURPOSES = ("seed", "size", "name", "port")
LOG_LINES = ("version", "ready", "loaded", "failed", "error", "seed", "joined", "left")

RecordRules = Mapping[str, tuple[str, ...]]
"""Path of tags below the root -> the fields that identify such a record among its siblings."""


@dataclass(frozen=True)
class Config:
    """The contents of keep.toml, checked."""

    name: str
    folder: str
    zone: str
    versions: tuple[VersionSource, ...] = ()
    roles: tuple[tuple[str, tuple[str, ...]], ...] = ()
    world: World = World()
    records: tuple[tuple[str, RecordRules], ...] = ()
    launch: Launch = Launch()
    log: Log = Log()
    player_bound: tuple[str, ...] = ()
    wanted: tuple[Wanted, ...] = ()
    running: Running = field(default_factory=Running)
    user: str = ""
    """Whom root works as; "" for root."""
    copy: str = ""
    """Where the local copy of a far server folder lies, relative to the keep; "" for beside it."""
    vaults: tuple[VaultAt, ...] = ()
    landmarks: tuple[Landmark, ...] = ()
    updating: Updating = field(default_factory=Updating)
    told_far: Far | None = None
    told_databases: Databases | None = None
    told_wiping: Wiping | None = None
    told_events: Events | None = None
    """These four are None where keep.toml has none of their tables; ``far`` and so on are there always."""
    ladder: tuple[Rung, ...] = ()
    rules: tuple[Settling, ...] = ()
    silenced: tuple[str, ...] = ()
    questions: tuple[str, ...] = ()
    """Lines of keep.toml that begin with ``# ?``: what adopt could only guess, until the admin strikes them out."""

    @property
    def guesses(self) -> tuple[tuple[str, str], ...]:
        """Open questions about which files have a role: the role, and the question."""
        told = ((_GUESSED.match(question), question) for question in self.questions)
        return tuple((found["role"] or "world", question) for found, question in told if found)

    @property
    def is_far(self) -> bool:
        """Whether the server folder is reached by file transfer."""
        return self.told_far is not None and self.told_far.address is not None

    @cached_property
    def far(self) -> Far:
        """The way to a server folder that is reached by file transfer."""
        from emberkeep.keep.tables.transfer import Far

        return self.told_far or Far()

    @cached_property
    def databases(self) -> Databases:
        """The databases."""
        from emberkeep.keep.tables.databases import Databases

        return self.told_databases or Databases()

    @cached_property
    def wiping(self) -> Wiping:
        """What wipes clear; where nothing is told, the scopes that the roles make."""
        from emberkeep.keep.tables.wiping import Wiping, from_roles

        return self.told_wiping or Wiping(from_roles(dict(self.roles), self.player_bound))

    @cached_property
    def calendar(self) -> Events:
        """What comes round."""
        from emberkeep.keep.tables.schedule import Events

        return self.told_events or Events()

    @cached_property
    def tz(self) -> zoneinfo.ZoneInfo:
        """The zone in which times are shown."""
        return zoneinfo.ZoneInfo(self.zone)

    def record_rules(self, path: str) -> RecordRules:
        """The record identities told for the file at ``path``."""
        rules: dict[str, tuple[str, ...]] = {}
        for pattern, told in self.records:
            if globs.matches(path, [pattern]):
                rules.update(told)
        return rules


def read_config(path: Path) -> Config:
    """keep.toml read and checked as a whole; UnreadableInput lists every fault with line and dotted path."""
    table, text = load(path)
    return config_of(table, text, path)


def check_text(text: str, path: Path) -> Config:
    """The same for a text that is to be written to ``path``."""
    return config_of(parsed(text, str(path)), text, path)


def config_of(table: Mapping[str, object], text: str, path: Path) -> Config:
    """A parsed keep.toml, checked."""
    reader = Reader(str(path), text, table)
    number = reader.get("format", int, "a number", None)
    if number is None:
        reader.fault("", f"lacks the key 'format'; this Ember Keep writes format = {FORMAT}")
    elif number > FORMAT:
        raise Refused(f"{path} has format {number}; this Ember Keep reads up to {FORMAT}", hint="update Ember Keep")
    server = reader.sub("server")
    zone, roles, player_bound = _zone(server), _roles(reader.sub("roles")), _player_bound(reader.sub("player-bound"))
    wipes = _wiping(reader, dict(roles), player_bound)
    name, folder, vaults = server.required("name"), server.required("folder"), _vaults(reader, path)
    config = Config(
        name=name,
        folder=folder,
        zone=zone,
        versions=_versions(reader.sub("versions")),
        roles=roles,
        world=_world(reader.sub("world")),
        records=_records(reader.sub("records")),
        launch=_launch(reader.sub("launch")),
        log=_log(reader.sub("log")),
        player_bound=player_bound,
        wanted=_wanted(reader),
        running=process.read(reader),
        user=server.string("user"),
        copy=server.string("copy"),
        vaults=vaults,
        landmarks=tuple(_landmark(item) for item in reader.subs("landmark")),
        updating=_updating(reader.sub("update"), reader.sub("rehearse")),
        told_far=_far(reader, server, folder),
        told_databases=_databases(reader),
        told_wiping=wipes,
        told_events=_events(reader, zone, wipes, dict(roles), player_bound, bool(vaults)),
        ladder=_ladder(reader.sub("ladder")),
        rules=tuple(_settling(item) for item in reader.subs("rule")),
        silenced=_silenced(reader.sub("checks")),
        questions=tuple(
            line.strip().removeprefix(QUESTION).strip() for line in text.splitlines() if line.startswith(QUESTION)
        ),
    )
    server.no_others()
    reader.no_others()
    reader.raise_if_faulty()
    return config


def _far(reader: Reader, server: Reader, folder: str) -> Far | None:
    if not reader.has("far") and "://" not in folder:
        return None
    from emberkeep.keep.tables import transfer

    return transfer.read(reader, server, folder)


def _vaults(reader: Reader, path: Path) -> tuple[VaultAt, ...]:
    if not reader.has("vault"):
        return ()
    from emberkeep.keep.tables import transfer

    return transfer.read_vaults(reader, str(path.parent))


def _databases(reader: Reader) -> Databases | None:
    if not reader.has("database", "vendor-sql"):
        return None
    from emberkeep.keep.tables import databases

    return databases.read(reader)


def _wiping(reader: Reader, roles: Mapping[str, tuple[str, ...]], player_bound: tuple[str, ...]) -> Wiping | None:
    if not reader.has("scopes", "survives", "wipe"):
        return None
    from emberkeep.keep.tables import wiping

    return wiping.read(reader, roles, player_bound)


def _events(
    reader: Reader,
    zone: str,
    wipes: Wiping | None,
    roles: Mapping[str, tuple[str, ...]],
    player_bound: tuple[str, ...],
    vaults: bool,
) -> Events | None:
    if not reader.has("event", "calendar", "announce", "webhook"):
        return None
    from emberkeep.keep.tables import schedule, wiping

    scopes = wipes.scopes if wipes else wiping.from_roles(roles, player_bound)
    return schedule.read(reader, zoneinfo.ZoneInfo(zone), tuple(scope.name for scope in scopes), vaults)


def _zone(server: Reader) -> str:
    zone = server.string("zone", "UTC")
    try:
        zoneinfo.ZoneInfo(zone)
    except (zoneinfo.ZoneInfoNotFoundError, ValueError, OSError):
        server.fault("zone", f"'{zone}' is no time zone", "an IANA name is wanted, as Atlantic/Faroe or UTC")
        return "UTC"
    return zone


def _versions(reader: Reader) -> tuple[VersionSource, ...]:
    found = []
    for name, table in reader.items():
        pattern = table.required("pattern")
        _check_pattern(table, pattern)
        found.append(VersionSource(name, pattern, table.strings("in")))
        table.no_others()
    return tuple(found)


def _check_pattern(table: Reader, pattern: str, key: str = "pattern") -> None:
    try:
        groups = re.compile(pattern).groups
    except re.error as error:
        table.fault(key, f"not a regular expression: {error}")
        return
    if pattern and groups != 1:
        table.fault(key, f"should have one group in ( ) around the version, has {groups}")


def _roles(reader: Reader) -> tuple[tuple[str, tuple[str, ...]], ...]:
    roles = tuple((role, reader.strings(role)) for role in reader.table if role in ROLES)
    for role, patterns in roles:
        for pattern in patterns:
            reader.check_glob(role, pattern)
    reader.no_others(*ROLES)
    return roles


def _world(reader: Reader) -> World:
    pointer, tiles, numbered = reader.sub("pointer"), reader.sub("tiles"), reader.sub("numbered")
    world = World(
        WorldPointer(pointer.required("file"), pointer.required("key")) if pointer.table else None,
        tiles.string("names"),
        tiles.get("sector", int, "a number of bytes", 0),
        numbered.string("names"),
        reader.strings("dimensions"),
        numbered.string("engine-file"),
        numbered.string("engine-pattern"),
    )
    if world.number_pattern or world.number_in:
        _check_pattern(numbered, world.number_pattern, "engine-pattern")
    for part in (reader, pointer, tiles, numbered):
        part.no_others()
    return world


def _records(reader: Reader) -> tuple[tuple[str, RecordRules], ...]:
    return tuple((pattern, {path: table.strings(path) for path in table.table}) for pattern, table in reader.items())


def _launch(reader: Reader) -> Launch:
    keys = {purpose: value for purpose in PURPOSES if (value := reader.string(purpose))}
    launch = Launch(reader.string("script"), reader.string("program"), keys)
    reader.no_others()
    return launch


def _log(reader: Reader) -> Log:
    patterns = {kind: value for kind in LOG_LINES if (value := reader.string(kind))}
    for kind, pattern in patterns.items():
        try:
            re.compile(pattern)
        except re.error as error:
            reader.fault(kind, f"not a regular expression: {error}")
    log = Log(reader.strings("in"), patterns)
    reader.no_others()
    return log


def _player_bound(reader: Reader) -> tuple[str, ...]:
    found = reader.strings("files")
    reader.no_others()
    return found


def _wanted(reader: Reader) -> tuple[Wanted, ...]:
    table = reader.sub("wanted")
    found = []
    for name, value in table.table.items():
        if isinstance(value, str):
            found.append(Wanted(name, table.string(name)))
            continue
        source = table.sub(name)
        wanted = Wanted(name, "", source.string("file"), source.string("address"), source.required("pattern"))
        _check_pattern(source, wanted.pattern)
        if bool(wanted.file) == bool(wanted.address):
            source.fault("", "should have a file or an address", "as { address = \"http://…\", pattern = '…' }")
        elif wanted.address and not wanted.address.startswith(("http://", "https://")):
            source.fault("address", "should begin with http:// or https://")
        source.no_others()
        found.append(wanted)
    return tuple(found)


def _settling(reader: Reader) -> Settling:
    take = reader.required("take")
    if take and take not in TAKES:
        reader.fault("take", f"'{take}' is nothing a rule can take", f"one of {', '.join(TAKES)}")
    found = Settling(
        reader.required("files"), reader.required("field").removeprefix("@"), take, reader.string("record")
    )
    reader.no_others()
    return found


def _landmark(reader: Reader) -> Landmark:
    row = reader.sub("row")
    found = Landmark(
        reader.required("name"),
        reader.string("file"),
        reader.string("record"),
        reader.string("field"),
        reader.string("tiles"),
        row.string("database"),
        row.string("table"),
        row.string("where"),
    )
    kinds = [bool(found.file), bool(found.tiles), bool(found.database and found.table)]
    if sum(kinds) != 1 or (found.field and not found.file):
        reader.fault("", "should tell one of: file, file with record and field, tiles, row", 'as tiles = "3,-1..4,0"')
    if found.tiles and not re.fullmatch(r"-?\d+,-?\d+\.\.-?\d+,-?\d+", found.tiles):
        reader.fault("tiles", "should be X1,Y1..X2,Y2", 'as "3,-1..4,0"')
    for part in (row, reader):
        part.no_others()
    return found


def _updating(reader: Reader, rehearse: Reader) -> Updating:
    remember = reader.sub("remember")
    choices = {name: remember.string(name) for name in remember.table}
    for name, choice in choices.items():
        if choice not in EXTENSION_CHOICES:
            remember.fault(name, f"'{choice}' is no choice", f"one of {', '.join(EXTENSION_CHOICES)}")
    sets = rehearse.sub("set")
    told = [(path, key, table.string(key)) for path, table in sets.items() for key in table.table]
    found = Updating(reader.string("overlay"), reader.strings("command"), choices, tuple(told))
    for part in (reader, rehearse):
        part.no_others()
    return found


def _silenced(reader: Reader) -> tuple[str, ...]:
    found = reader.strings("silence")
    reader.no_others()
    return found


_AGE = re.compile(rf"(\d+) ({'|'.join(PERIODS)})s?")
_EVERY = re.compile(rf"all|one an? ({'|'.join(PERIODS)})")


def _ladder(reader: Reader) -> tuple[Rung, ...]:
    rungs = []
    for name in reader.table:
        age, every = _AGE.fullmatch(name), _EVERY.fullmatch(reader.string(name))
        if age is None or not 0 < int(age[1]) < 10_000:
            reader.fault(name, "is no age", 'as "2 days" = "all" or "3 months" = "one a week"')
        elif every is None:
            reader.fault(name, 'should be "all" or as "one a day"', "hour, day, week, month or year")
        else:
            rungs.append(Rung(timedelta(days=int(age[1]) * _DAYS[age[2]]), every[1] or ""))
    return tuple(sorted(rungs, key=lambda rung: rung.age))


class Keep:
    """An opened keep. ``folder``: the keep itself; ``config``: its keep.toml; ``server``: the server folder, or the
    local copy of one that is far; ``environment``: where the secrets of databases are looked for."""

    def __init__(self, folder: Path, environment: Mapping[str, str] = MappingProxyType({})) -> None:
        self.folder = folder
        self.environment = environment
        self.config = read_config(folder / FILE)
        here = self.config.folder
        if self.config.is_far:
            called = folder.name.removesuffix(SUFFIX)
            here = self.config.copy or (f"../{called}" if called not in ("", folder.name) else "copy")
        self.server = Path(locate.inside(str(folder), here))
        if self.server == folder or self.server in folder.parents:
            raise Refused(
                f"the keep {folder} lies inside its server folder, where a reinstall would take it along",
                hint="move it beside the server folder and set server.folder in keep.toml",
            )

    @property
    def store_folder(self) -> Path:
        """Where snapshots and recorded defaults lie."""
        return self.folder / "store"

    @property
    def orders_file(self) -> Path:
        """Where standing orders are kept."""
        return self.folder / "orders.toml"

    @property
    def written(self) -> list[Path]:
        """The files in it that the admin writes, or has had written, and may read."""
        recipes = sorted(path for path in self.recipes.rglob("*") if path.is_file())
        told = (self.folder / FILE, self.answers_file, self.orders_file)
        return [*(path for path in told if path.is_file()), *recipes]

    @property
    def recipes(self) -> Path:
        """Where recipes are kept."""
        return self.folder / "recipes"

    @property
    def output(self) -> Path:
        """Where what started servers print goes."""
        return self.folder / "output"

    @property
    def answers_file(self) -> Path:
        """Where answers are remembered."""
        return self.folder / "answers.toml"

    def require_server(self) -> Path:
        """The server folder; UsageError when it is not there."""
        if not self.server.is_dir():
            if self.config.is_far:
                raise UsageError(
                    f"there is no copy of {self.config.far.address} at {self.server} yet",
                    hint="'emberkeep mirror fetch' brings it here",
                )
            raise UsageError(
                f"the server folder {self.server} is not there",
                hint=f"set server.folder in {self.folder / FILE}",
            )
        return self.server


def beside(server: Path) -> Path:
    """The keep that belongs to a server folder by default."""
    return server.with_name(server.name + SUFFIX)


def make_like(keep: Keep, folder: Path, server: Path) -> Keep:
    """A keep in ``folder`` for another server folder, that knows what ``keep`` knows: keep.toml, answers, orders and
    recipes; snapshots, defaults and journal stay where they are."""
    import tomlkit  # only where keep.toml is written

    told = tomlkit.parse((keep.folder / FILE).read_text(encoding="utf-8"))
    told["server"]["folder"] = Path(os.path.relpath(server, folder)).as_posix()
    for table, key in ((told["server"], "copy"), (told, "far")):  # what it is made for lies here
        table.pop(key, None)
    _without_vaults(told)
    writing.make_folder(folder, private=True)
    others = [keep.answers_file, keep.orders_file, *keep.recipes.rglob("*")]
    for path in (path for path in others if path.is_file()):
        target = folder / path.relative_to(keep.folder)
        writing.make_folder(target.parent, private=True)
        writing.write_whole(target, [path.read_bytes()])
    writing.write_whole(folder / FILE, [tomlkit.dumps(told).encode()])
    return Keep(folder, keep.environment)


def _without_vaults(told: Any) -> None:
    """Take the vaults out of a keep.toml that is to be another keep's: they are the first one's."""
    told.pop("vault", None)
    events = told.get("event", [])
    for at in reversed([at for at, event in enumerate(events) if event.get("kind") == "vault"]):
        del events[at]
    if not events:
        told.pop("event", None)


def remember(keep: Keep, table: tuple[str, ...], told: Mapping[str, str]) -> None:
    """Write entries into a table of keep.toml, the admin's own writing left as it is. UnreadableInput, nothing written,
    for what would not be a good keep.toml."""
    import tomlkit  # only where keep.toml is written

    path = keep.folder / FILE
    document = tomlkit.parse(path.read_text(encoding="utf-8"))
    at: Any = document
    for name in table:
        at = at.setdefault(name, tomlkit.table())
    for name, value in told.items():
        at[name] = value
    text = tomlkit.dumps(document)
    check_text(text, path)
    writing.write_whole(path, [text.encode()])


def find(explicit: str | None, environment: Mapping[str, str], here: Path) -> Keep:
    """The keep meant by ``--keep``, by the variable EMBERKEEP_KEEP, or found from the folder ``here`` upwards."""
    folder = locate.keep_meant(explicit, environment, str(here))
    if not folder:
        raise UsageError(
            f"no keep found from {here} upwards",
            hint=f"say it with --keep DIR, set {locate.VARIABLE}, or make one with 'emberkeep adopt SERVER'",
        )
    if not locate.is_keep(folder):
        raise UsageError(f"{folder} is not a keep: it has no {FILE}", hint="'emberkeep adopt SERVER' makes one")
    return Keep(Path(folder), environment)
