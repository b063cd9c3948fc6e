"""What keep.toml says of the calendar: events that come round, and how they are announced.

::

    [[event]]     name, kind (wipe, update, snapshot, verify, drill, thin, vault, announce)
                  whose ("ours" or "vendor": only shown)
                  when (plain words) or rrule (RFC 5545), start, zone (IANA name, else the server's); or
                  after or before = { event, by = "1 hour" }; see ``recurrence`` for the words
                  skip = [dates], move = { "2026-12-25" = "2026-12-26 19:00" },
                  skip-when = { event, within = "day", "week", "month" or a length of time },
                  quiet-days ("skip", "next" or "run")
                  scopes, set, seed (as in [wipe]) · source, to (an update's release) · share (how much is verified) ·
                  which (of a drill: "newest" snapshot or "any" by chance)
                  tell (times before), text · missed ("late", "skip" or "ask"), within (how late at most),
                  only-if ("running" or "stopped"), players-at-most
    [calendar]    quiet = days on which nothing is wiped or updated: "2026-12-24", "12-25" (every year), "A..B"
    [announce]    text, done (said after it), in-game (true or false), file (lines of JSON for other programs)
    [[webhook]]   name, address = { env } or { file }, body (a table of texts), tries, limit
    [due]         who is told of what failed: webhook (names), mail = { to, from, host, port, user, secret, encrypted },
                  command; ping (an address, or { env } or { file }), asked each time that due has run

Texts may hold ``{event} {server} {scopes} {time} {when} {utc} {number}``.
"""

from __future__ import annotations

import zoneinfo
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from datetime import date, datetime, timedelta
from typing import Any

from emberkeep.errors import did_you_mean
from emberkeep.keep.recurrence import NotUnderstood, Recurrence, Shift, from_rule, from_words, placed
from emberkeep.keep.tables.wiping import SEEDS, SetText, day_of, read_sets
from emberkeep.keep.toml_reader import Reader, duration, faulty_template

KINDS = ("wipe", "update", "snapshot", "verify", "drill", "thin", "vault", "announce")
NEWEST, ANY = "newest", "any"
LATE, SKIP, ASK = "late", "skip", "ask"
NEXT, RUN = "next", "run"
PERIODS = ("day", "week", "month")
PLACEHOLDERS = ("event", "server", "scopes", "time", "when", "utc", "number")
TEXT = "{event} in {time} ({when})."
DONE = "{event}: done."


@dataclass(frozen=True)
class Beside:
    """An event's relation to another one: ``by`` after it (before it where negative)."""

    event: str
    by: timedelta


@dataclass(frozen=True)
class SkipWhen:
    """Skipped when another event falls ``within`` the same day, week or month, or less than a time away."""

    event: str
    period: str = ""
    apart: timedelta = timedelta()


@dataclass(frozen=True)
class Event:
    """Something that comes round. ``tell``: lead times, longest first; ``within``: how late it may still be run."""

    name: str
    kind: str
    zone: zoneinfo.ZoneInfo
    vendors: bool = False
    recurrence: Recurrence | None = None
    beside: Beside | None = None
    skip: tuple[date, ...] = ()
    move: Mapping[date, datetime] = field(default_factory=dict)
    skip_when: SkipWhen | None = None
    quiet_days: str = RUN
    scopes: tuple[str, ...] = ()
    sets: tuple[SetText, ...] = ()
    seed: str = ""
    source: str = ""
    to: str = ""
    share: float = 1.0
    which: str = NEWEST
    tell: tuple[timedelta, ...] = ()
    text: str = ""
    missed: str = LATE
    within: timedelta = timedelta(hours=2)
    only_if: str = ""
    players_at_most: int | None = None


@dataclass(frozen=True)
class Quiet:
    """Days from ``first`` to ``last``, as (month, day) of every year or as dates."""

    first: tuple[int, ...]
    last: tuple[int, ...]

    def covers(self, day: date) -> bool:
        """Whether a day is one of them."""
        there = (day.year, day.month, day.day) if len(self.first) == 3 else (day.month, day.day)
        if self.first <= self.last:
            return self.first <= there <= self.last
        return there >= self.first or there <= self.last  # over the turn of the year


@dataclass(frozen=True)
class Webhook:
    """Where announcements are posted. The address is a secret: only where it stands is known here.

    ``body``: JSON with templates for its texts; ``limit``: how long one try may take.
    """

    name: str
    address_env: str = ""
    address_file: str = ""
    body: Mapping[str, Any] = field(default_factory=dict)
    tries: int = 3
    limit: timedelta = timedelta(seconds=10)


@dataclass(frozen=True)
class Announcing:
    """How things are announced. ``file``: in the keep, or an absolute path."""

    text: str = TEXT
    done: str = DONE
    in_game: bool = True
    file: str = ""
    webhooks: tuple[Webhook, ...] = ()


@dataclass(frozen=True)
class Mail:
    """How a mail is sent. ``encrypted``: by STARTTLS (RFC 3207), without which no password is sent."""

    to: tuple[str, ...]
    sender: str
    host: str = "localhost"
    port: int = 25
    user: str = ""
    secret_env: str = ""
    secret_file: str = ""
    encrypted: bool = False


@dataclass(frozen=True)
class Alarm:
    """Who is told of what failed, and who waits for a ping. ``webhooks``: their names."""

    webhooks: tuple[str, ...] = ()
    mail: Mail | None = None
    command: tuple[str, ...] = ()
    ping: str = ""
    ping_env: str = ""
    ping_file: str = ""

    @property
    def pings(self) -> bool:
        """Whether anybody waits for one."""
        return bool(self.ping or self.ping_env or self.ping_file)


@dataclass(frozen=True)
class Events:
    """All of it."""

    events: tuple[Event, ...] = ()
    quiet: tuple[Quiet, ...] = ()
    announcing: Announcing = field(default_factory=Announcing)
    alarm: Alarm = field(default_factory=Alarm)

    def of(self, name: str) -> Event | None:
        """The event of a name."""
        return next((event for event in self.events if event.name == name), None)


def read(reader: Reader, zone: zoneinfo.ZoneInfo, scopes: tuple[str, ...], vaults: bool = False) -> Events:
    """The tables of keep.toml, checked. ``scopes``: those that there are; ``vaults``: whether there are any."""
    tables = reader.subs("event")
    events = tuple(_event(table, zone, scopes) for table in tables)
    for event, table in zip(events, tables, strict=True):
        _check_relations(event, table, events)
        if event.kind == "vault" and not vaults:
            table.fault("kind", "there is no [[vault]]", 'as [[vault]] name = "attic", target = "/mnt/other-disk/rock"')
    announcing = _announcing(reader)
    return Events(events, _quiet(reader.sub("calendar")), announcing, _alarm(reader.sub("due"), announcing.webhooks))


def _event(reader: Reader, zone: zoneinfo.ZoneInfo, scopes: tuple[str, ...]) -> Event:
    reader.required("kind")
    kind = reader.choice("kind", KINDS, "")
    zone = _zone(reader, zone)
    wiping = kind in ("wipe", "update")
    found = Event(
        reader.required("name"),
        kind,
        zone,
        reader.choice("whose", ("ours", "vendor"), "ours") == "vendor",
        _recurrence(reader, zone),
        _beside(reader),
        _dates(reader, "skip"),
        dict(_moves(reader, zone)),
        _skip_when(reader),
        reader.choice("quiet-days", (SKIP, NEXT, RUN), SKIP if wiping else RUN),
        _scopes(reader, kind, scopes),
        read_sets(reader.sub("set")),
        reader.choice("seed", SEEDS, ""),
        reader.string("source"),
        reader.string("to"),
        _share(reader),
        reader.choice("which", (NEWEST, ANY), NEWEST),
        tuple(time for time in reader.times("tell") if time),
        reader.template("text", PLACEHOLDERS),
        reader.choice("missed", (LATE, SKIP, ASK), LATE),
        reader.time("within", Event.within),
        reader.choice("only-if", ("running", "stopped"), ""),
        reader.get("players-at-most", int, "a number", None),
    )
    _check_rhythm(reader, found)
    reader.no_others()
    return found


def _zone(reader: Reader, zone: zoneinfo.ZoneInfo) -> zoneinfo.ZoneInfo:
    name = reader.string("zone")
    if not name:
        return zone
    try:
        return zoneinfo.ZoneInfo(name)
    except (zoneinfo.ZoneInfoNotFoundError, ValueError, OSError):
        reader.fault("zone", f"'{name}' is no time zone", "an IANA name is wanted, as Atlantic/Faroe or UTC")
        return zone


def _recurrence(reader: Reader, zone: zoneinfo.ZoneInfo) -> Recurrence | None:
    words, rule = reader.string("when"), reader.string("rrule")
    start = reader.get("start", (date, str), "a date, as 2026-09-04", None)
    if isinstance(start, str):
        text = start
        start = _moment(text) or day_of(text)
        if start is None:
            reader.fault("start", f"'{text}' is no date", "as 2026-09-04")
    relation = "after" in reader.table or "before" in reader.table
    if sum(map(bool, (words, rule, relation))) != 1:
        reader.fault(
            "", "tells not when, or twice", 'one of when, rrule, after, before; as when = "second Friday 19:00"'
        )
        return None
    if relation:
        return None
    try:
        return from_words(words, start, zone) if words else from_rule(rule, start, zone)
    except NotUnderstood as error:
        reader.fault("when" if words else "rrule", str(error), error.hint)
        return None


def _check_rhythm(reader: Reader, event: Event) -> None:
    """A wipe or an update every hour is a slip of the pen."""
    if event.recurrence is None or event.kind not in ("wipe", "update"):
        return
    rule = event.recurrence.rule
    if "FREQ=HOURLY" in rule or any(part.startswith("BYHOUR=") and "," in part for part in rule.split(";")):
        reader.fault("when" if event.recurrence.words else "rrule", f"a {event.kind} more than once a day")


def _beside(reader: Reader) -> Beside | None:
    for key, sign in (("after", 1), ("before", -1)):
        table = reader.sub(key)
        if table.table:
            found = Beside(table.required("event"), sign * table.time("by", timedelta()))
            table.no_others()
            return found
    return None


def _skip_when(reader: Reader) -> SkipWhen | None:
    table = reader.sub("skip-when")
    if not table.table:
        return None
    event, within = table.required("event"), table.required("within")
    table.no_others()
    if within in PERIODS:
        return SkipWhen(event, within)
    apart = duration(within)
    if within and apart is None:
        table.fault("within", f"'{within}' is no length of time", f'{", ".join(PERIODS)}, or as "3 days"')
    return SkipWhen(event, "", apart or timedelta())


def _check_relations(event: Event, reader: Reader, events: tuple[Event, ...]) -> None:
    names = [other.name for other in events]
    if names.count(event.name) > 1:
        reader.fault("name", f"there are several events called '{event.name}'")
    for key, other in _others(event):
        if other not in names or other == event.name:
            others = [name for name in names if name != event.name]
            reader.fault(key, f"there is no other event '{other}'", did_you_mean(other, others))
    seen, at = {event.name}, event
    while at.beside is not None:
        at = next((one for one in events if at.beside and one.name == at.beside.event), Event("", "", event.zone))
        if at.name in seen:
            reader.fault("after", f"'{event.name}' would come after itself")
            return
        seen.add(at.name)


def _others(event: Event) -> Iterator[tuple[str, str]]:
    if event.beside is not None:
        yield "after", event.beside.event
    if event.skip_when is not None:
        yield "skip-when", event.skip_when.event


def _dates(reader: Reader, key: str) -> tuple[date, ...]:
    value = reader.get(key, list, "a list of dates", [])
    found = tuple(day for item in value if (day := day_of(item)) is not None)
    if len(found) != len(value):
        reader.fault(key, "should hold dates", "as [2026-12-11]")
    return found


def _moment(text: str) -> datetime | None:
    try:
        found = datetime.fromisoformat(text)
    except ValueError:
        return None
    return found if found.tzinfo is None and len(text) > 10 else None


def _moves(reader: Reader, zone: zoneinfo.ZoneInfo) -> Iterator[tuple[date, datetime]]:
    table = reader.sub("move")
    for text in table.names():
        value = table.get(text, (str, datetime), 'a date and a time, as "2026-12-26 19:00"', "")
        moment = _moment(value) if isinstance(value, str) else value
        day = day_of(text)
        if day is None:
            table.fault(text, f"'{text}' is no date", "the date that is moved, as 2026-12-25")
        elif not isinstance(moment, datetime) or moment.tzinfo is not None:
            table.fault(text, "should be a date and a time", 'as "2026-12-26 19:00", in the zone of the event')
        elif placed(moment, zone)[1] is Shift.LEFT_OUT:
            there = placed(moment, zone)[0]
            table.fault(
                text,
                f"{moment:%Y-%m-%d %H:%M} does not exist in {zone}: clocks are put forward then",
                f"the same moment is {there:%H:%M} there",
            )
        else:
            yield day, moment


def _scopes(reader: Reader, kind: str, known: tuple[str, ...]) -> tuple[str, ...]:
    found = reader.strings("scopes")
    for name in found:
        if name not in known:
            reader.fault("scopes", f"there is no scope '{name}'", did_you_mean(name, known))
    if kind == "wipe" and not found and reader.string("whose", "ours") != "vendor":
        reader.fault(
            "scopes",
            "a wipe of which scopes?",
            f"of {', '.join(known) or 'none'}; 'emberkeep keep-toml scopes' tells how to add one",
        )
    return found


def _share(reader: Reader) -> float:
    text = reader.string("share", "100%")
    try:
        share = float(text.removesuffix("%")) / 100
    except ValueError:
        share = 0.0
    if not 0 < share <= 1:
        reader.fault("share", f"'{text}' is no share", 'as "5%"')
    return share


def _quiet(reader: Reader) -> tuple[Quiet, ...]:
    found = []
    for text in reader.strings("quiet"):
        first, _, last = text.partition("..")
        ends = [_day_parts(first), _day_parts(last or first)]
        if None in ends or len({len(end) for end in ends if end}) != 1:
            reader.fault("quiet", f"'{text}' is no day", 'as "2026-12-24", "12-25" (every year) or "12-24..01-01"')
        else:
            found.append(Quiet(*(end for end in ends if end)))
    reader.no_others()
    return tuple(found)


def _day_parts(text: str) -> tuple[int, ...] | None:
    whole = text if text.count("-") == 2 else f"2024-{text}"
    day = day_of(whole)
    if day is None:
        return None
    return (day.year, day.month, day.day) if whole is text else (day.month, day.day)


def _announcing(reader: Reader) -> Announcing:
    table = reader.sub("announce")
    found = Announcing(
        table.template("text", PLACEHOLDERS) or TEXT,
        table.template("done", PLACEHOLDERS) or DONE,
        table.get("in-game", bool, "true or false", True),
        table.string("file"),
        tuple(_webhook(item) for item in reader.subs("webhook")),
    )
    table.no_others()
    return found


def _alarm(reader: Reader, webhooks: tuple[Webhook, ...]) -> Alarm:
    named = reader.strings("webhook")
    known = [hook.name for hook in webhooks]
    for name in named:
        if name not in known:
            reader.fault("webhook", f"there is no [[webhook]] '{name}'", did_you_mean(name, known))
    address = reader.sub("ping") if isinstance(reader.table.get("ping"), dict) else None
    text = reader.string("ping") if address is None else ""
    if text and not text.startswith(("https://", "http://")):
        reader.fault("ping", f"'{text}' is no address", "as https://HOST/…, or { env = NAME } where it stands")
    mail, command = _mail(reader.sub("mail")), reader.strings("command")
    if command and not any("{text}" in word for word in command):
        reader.fault("command", "should hold {text} in one of its arguments", 'as ["./page-me.sh", "{text}"]')
    stands = (address.string("env"), address.string("file")) if address is not None else ("", "")
    for part in (address, reader) if address is not None else (reader,):
        part.no_others()
    return Alarm(named, mail, command, text, *stands)


def _mail(reader: Reader) -> Mail | None:
    secret = reader.sub("secret")
    if not reader.table:
        return None
    found = Mail(
        reader.strings("to"),
        reader.required("from"),
        reader.string("host", Mail.host),
        reader.get("port", int, "a number", Mail.port),
        reader.string("user"),
        secret.string("env"),
        secret.string("file"),
        reader.get("encrypted", bool, "true or false", Mail.encrypted),
    )
    if not found.to:
        reader.fault("to", "whom to?", 'as to = ["keeper@rock.example"]')
    if any(sign in address for address in (*found.to, found.sender) for sign in "\r\n,"):
        reader.fault("to", "should hold one address each")
    if found.user and not found.encrypted:
        reader.fault("user", "a password is only sent encrypted", "set encrypted = true")
    for part in (secret, reader):
        part.no_others()
    return found


def _webhook(reader: Reader) -> Webhook:
    address, body = reader.sub("address"), reader.sub("body")
    found = Webhook(
        reader.required("name"),
        address.string("env"),
        address.string("file"),
        body.table or {"text": "{text}"},
        reader.get("tries", int, "a number", Webhook.tries),
        reader.time("limit", Webhook.limit),
    )
    if bool(found.address_env) == bool(found.address_file):
        reader.fault("address", "should tell where the address stands", 'as { env = "ROCK_HOOK" } or { file = "…" }')
    for key in body.table:
        _check_body(body, key, body.table[key])
    if not 1 <= found.tries <= 10:
        reader.fault("tries", "should be from 1 to 10")
    address.no_others()
    reader.no_others()
    return found


def _check_body(reader: Reader, key: str, value: Any) -> None:
    """Every text within a webhook's body is a template; ``{text}`` is the announcement itself."""
    if isinstance(value, dict):
        for inner in value.values():
            _check_body(reader, key, inner)
    elif isinstance(value, list):
        for inner in value:
            _check_body(reader, key, inner)
    elif isinstance(value, str):
        wrong = faulty_template(value, (*PLACEHOLDERS, "text"))
        if wrong:
            reader.fault(key, wrong, "known: " + " ".join(f"{{{name}}}" for name in (*PLACEHOLDERS, "text")))
