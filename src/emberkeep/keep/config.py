"""keep.toml as a whole, read and checked.

::

    format = 1
    [server]          name, folder (relative ones are relative to the keep), zone (IANA name), user
    [versions.NAME] [roles] [world] [launch] [log] [player-bound] [records."GLOB"]    see ``tables.server``
    [wanted] [[landmark]] [update] [rehearse] [[rule]] [news] [checks]                see ``tables.updates``
    [store] [ladder]                                                                  see ``tables.ladder``
    [process] [console] [start] [[service]] [stop]                                    see ``tables.process``
    [[database]] [vendor-sql]                                                         see ``tables.databases``
    [scopes.NAME] [[survives]] [wipe]                                                 see ``tables.wiping``
    [[event]] [calendar] [announce] [[webhook]] [due]                                 see ``tables.schedule``
    [far] [[vault]]                                                                   see ``tables.transfer``

A line that begins with ``# ?`` is a question: what adopt could only guess, until the admin strikes it out.
"""

from __future__ import annotations

import re
import zoneinfo
from collections.abc import Mapping
from dataclasses import dataclass, field
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING

from emberkeep.errors import Refused
from emberkeep.fs import globs
from emberkeep.keep.tables import process
from emberkeep.keep.tables.ladder import Rung, read_ladder, read_store
from emberkeep.keep.tables.process import Running
from emberkeep.keep.tables.server import (
    Launch,
    Log,
    RecordRules,
    VersionSource,
    World,
    read_launch,
    read_log,
    read_player_bound,
    read_records,
    read_roles,
    read_versions,
    read_world,
)
from emberkeep.keep.tables.updates import (
    Landmark,
    News,
    ResolutionRule,
    Updating,
    Wanted,
    read_landmark,
    read_news,
    read_rule,
    read_silenced,
    read_update,
    read_wanted,
)
from emberkeep.keep.toml_reader import Asked, Reader, load, parsed

if TYPE_CHECKING:  # what reads these tables is loaded where keep.toml has them: every command reads keep.toml
    from emberkeep.keep.tables.databases import Databases
    from emberkeep.keep.tables.schedule import Events
    from emberkeep.keep.tables.transfer import RemoteAccess, VaultAt
    from emberkeep.keep.tables.wiping import Wiping


QUESTION = "# ?"


_GUESSED = re.compile(r"is (?!\S+ the version of )[^?]+? (?:the world|(?P<role>[a-z-]+))\? ")


FORMAT = 1


@dataclass(frozen=True)
class Config:
    """The contents of keep.toml, checked."""

    name: str
    folder: str
    zone: str
    versions: tuple[VersionSource, ...] = ()
    roles: tuple[tuple[str, tuple[str, ...]], ...] = ()
    world: World = field(default_factory=World)
    records: tuple[tuple[str, RecordRules], ...] = ()
    launch: Launch = field(default_factory=Launch)
    log: Log = field(default_factory=Log)
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
    remote_table: RemoteAccess | None = None
    databases_table: Databases | None = None
    wiping_table: Wiping | None = None
    events_table: Events | None = None
    """These four are None where keep.toml has none of their tables; ``far`` and so on are there always."""
    shared_store: str = ""
    """The shared store that the snapshots are wanted in, "" for the keep's own."""
    ladder: tuple[Rung, ...] = ()
    rules: tuple[ResolutionRule, ...] = ()
    silenced: tuple[str, ...] = ()
    news: News = field(default_factory=News)
    questions: tuple[str, ...] = ()
    """Lines of keep.toml that begin with ``# ?``: what adopt could only guess, until the admin strikes them out."""

    @property
    def guesses(self) -> tuple[tuple[str, str], ...]:
        """Open questions about which files have a role: the role, and the question."""
        guessed = ((_GUESSED.match(question), question) for question in self.questions)
        return tuple((found["role"] or "world", question) for found, question in guessed if found)

    @property
    def is_remote(self) -> bool:
        """Whether the server folder is reached by file transfer."""
        return self.remote_table is not None and self.remote_table.address is not None

    @cached_property
    def remote(self) -> RemoteAccess:
        """The way to a server folder that is reached by file transfer."""
        from emberkeep.keep.tables.transfer import RemoteAccess

        return self.remote_table or RemoteAccess()

    @cached_property
    def databases(self) -> Databases:
        """The databases."""
        from emberkeep.keep.tables.databases import Databases

        return self.databases_table or Databases()

    @cached_property
    def wiping(self) -> Wiping:
        """What wipes clear; where nothing is told, the scopes that the roles make."""
        from emberkeep.keep.tables.wiping import Wiping, from_roles

        return self.wiping_table or Wiping(from_roles(dict(self.roles), self.player_bound))

    @cached_property
    def calendar(self) -> Events:
        """What comes round."""
        from emberkeep.keep.tables.schedule import Events

        return self.events_table or Events()

    @cached_property
    def tz(self) -> zoneinfo.ZoneInfo:
        """The zone in which times are shown."""
        return zoneinfo.ZoneInfo(self.zone)

    def record_rules(self, path: str) -> RecordRules:
        """The record identities told for the file at ``path``."""
        rules: dict[str, tuple[str, ...]] = {}
        for pattern, keys in self.records:
            if globs.matches(path, [pattern]):
                rules.update(keys)
        return rules


def read_config(path: Path) -> Config:
    """keep.toml read and checked as a whole; UnreadableInput lists every fault with line and dotted path."""
    table, text = load(path)
    return config_of(table, text, path)


def check_text(text: str, path: Path) -> Config:
    """The same for a text that is to be written to ``path``."""
    return config_of(parsed(text, str(path)), text, path)


def config_of(table: Mapping[str, object], text: str, path: Path, asked: Asked | None = None) -> Config:
    """A parsed keep.toml, checked. ``asked``: where it is noted what the readers of the tables ask for."""
    reader = Reader(str(path), text, table, asked=asked)
    number = reader.get("format", int, "a number", None)
    if number is None:
        reader.fault("", f"lacks the key 'format'; this Ember Keep writes format = {FORMAT}")
    elif number > FORMAT:
        raise Refused(f"{path} has format {number}; this Ember Keep reads up to {FORMAT}", hint="update Ember Keep")
    server = reader.sub("server")
    zone, roles, player_bound = (
        _zone(server),
        read_roles(reader.sub("roles")),
        read_player_bound(reader.sub("player-bound")),
    )
    wipes = _wiping(reader, dict(roles), player_bound)
    name, folder, vaults = server.required("name"), server.required("folder"), _vaults(reader, path)
    config = Config(
        name=name,
        folder=folder,
        zone=zone,
        versions=read_versions(reader.sub("versions")),
        roles=roles,
        world=read_world(reader.sub("world")),
        records=read_records(reader.sub("records")),
        launch=read_launch(reader.sub("launch")),
        log=read_log(reader.sub("log")),
        player_bound=player_bound,
        wanted=read_wanted(reader),
        running=process.read(reader),
        user=server.string("user"),
        copy=server.string("copy"),
        vaults=vaults,
        landmarks=tuple(read_landmark(item) for item in reader.subs("landmark")),
        updating=read_update(reader.sub("update"), reader.sub("rehearse")),
        remote_table=_remote(reader, server, folder),
        databases_table=_databases(reader),
        wiping_table=wipes,
        events_table=_events(reader, zone, wipes, dict(roles), player_bound, bool(vaults)),
        shared_store=read_store(reader.sub("store")),
        ladder=read_ladder(reader.sub("ladder")),
        rules=tuple(read_rule(item) for item in reader.subs("rule")),
        silenced=read_silenced(reader.sub("checks")),
        news=read_news(reader.sub("news")),
        questions=tuple(
            line.strip().removeprefix(QUESTION).strip() for line in text.splitlines() if line.startswith(QUESTION)
        ),
    )
    server.no_others()
    reader.no_others()
    reader.raise_if_faulty()
    return config


def _remote(reader: Reader, server: Reader, folder: str) -> RemoteAccess | None:
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
    if not reader.has("event", "calendar", "announce", "webhook", "due"):
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
