"""Announcements: in the game, posted to webhooks, and as lines of JSON in a file that other programs read.

Each way is tried by itself and what came of it is told; none of them ever stops what is announced. The address of a
webhook is a secret: no message names it.
"""

from __future__ import annotations

import json
import threading
import time
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from typing import Any

from emberkeep.errors import EmberKeepError, reason
from emberkeep.fs import writing
from emberkeep.keep.keep import Keep
from emberkeep.keep.secrets import secret
from emberkeep.keep.tables.schedule import Announcing, Webhook
from emberkeep.process import console
from emberkeep.process.lifecycle import in_words, is_running

AGAIN = (429, 500, 502, 503, 504)
"""Statuses after which a post is tried again (RFC 9110, section 15; RFC 6585, section 4)."""
PAUSE = 0.5
LONGEST_PAUSE = 8.0


@dataclass(frozen=True)
class Told:
    """What came of telling it one way. ``way``: "in the game", "file", or "webhook NAME"; ``why``: "" when it went
    well."""

    way: str
    why: str = ""

    @property
    def words(self) -> str:
        """It, in words."""
        return f"{self.way}: {self.why or 'told'}"


@dataclass(frozen=True)
class Message:
    """What is announced. ``moment``: when it comes to pass."""

    event: str
    scopes: str
    moment: datetime
    number: int = 0

    def placeholders(self, keep: Keep, now: datetime) -> dict[str, str]:
        """What templates use."""
        local = self.moment.astimezone(keep.config.tz)
        return {
            "event": self.event,
            "server": keep.config.name,
            "scopes": self.scopes,
            "time": time_left(self.moment - now),
            "when": f"{local:%A} {local.day} {local:%B %H:%M} ({keep.config.zone})",
            "utc": f"{self.moment.astimezone(UTC):%Y-%m-%d %H:%M} UTC",
            "number": str(self.number),
        }


def time_left(left: timedelta) -> str:
    """The time that is left, in words, rounded to what one says: ``1 day``, ``55 minutes``; ``a moment``."""
    seconds = left.total_seconds()
    for length in (86400, 3600, 60):
        if seconds >= length * 0.98:
            whole = max(1, round(seconds / length))
            if length == 86400 and seconds < 1.75 * 86400 and abs(seconds - 86400) > 3600:
                return in_words(timedelta(hours=round(seconds / 3600)))
            if length == 3600 and abs(seconds - whole * 3600) > 150 and seconds < 6 * 3600:
                return f"{in_words(timedelta(minutes=round(seconds / 60)))}"
            return in_words(timedelta(seconds=whole * length))
    return in_words(timedelta(seconds=round(seconds))) if seconds >= 1 else "a moment"


def announce(
    keep: Keep, environment: Mapping[str, str], message: Message, template: str, now: datetime
) -> tuple[Told, ...]:
    """Tell it every way that keep.toml knows."""
    announcing: Announcing = keep.config.calendar.announcing
    names = message.placeholders(keep, now)
    text = template.format_map(names)
    found: list[Told] = []
    console = keep.config.running.console
    if announcing.in_game and console is not None and console.phrases.get("say"):
        found += _in_game(keep, environment, text)
    if announcing.file:
        found.append(_in_file(keep, announcing.file, text, message, now))
    return (*found, *_posted(announcing.webhooks, environment, {**names, "text": text}))


def _in_game(keep: Keep, environment: Mapping[str, str], text: str) -> list[Told]:
    if not is_running(keep):
        return []
    assert keep.config.running.console is not None
    try:
        console.say(keep.config.running.console, environment, text)
    except EmberKeepError as error:
        return [Told("in the game", error.faults[0].what)]
    return [Told("in the game")]


def _in_file(keep: Keep, name: str, text: str, message: Message, now: datetime) -> Told:
    line = {
        "at": now.astimezone(UTC).isoformat(timespec="seconds"),
        "event": message.event,
        "moment": message.moment.astimezone(UTC).isoformat(timespec="seconds"),
        "scopes": message.scopes,
        "text": text,
    }
    try:
        with writing.appending(keep.folder / name) as handle:
            handle.write((json.dumps(line, ensure_ascii=False) + "\n").encode())
    except OSError as error:
        return Told(f"file {name}", f"cannot be written: {reason(error)}")
    return Told(f"file {name}")


# --- webhooks ---------------------------------------------------------------------------


def _posted(hooks: tuple[Webhook, ...], environment: Mapping[str, str], names: Mapping[str, str]) -> list[Told]:
    """All at once, each in a thread of its own, so that one that hangs holds up nobody but itself."""
    results: dict[str, Told] = {}
    threads = []
    for hook in hooks:
        way = f"webhook {hook.name}"
        try:
            address = secret(hook.address_env, hook.address_file, environment, "its address")
        except EmberKeepError as error:
            results[hook.name] = Told(way, error.faults[0].what)
            continue

        def run(hook: Webhook = hook, address: str = address, way: str = way) -> None:
            results[hook.name] = Told(way, post(hook, address, filled(hook.body, names)))

        thread = threading.Thread(target=run, daemon=True)
        thread.start()
        threads.append((thread, hook))
    end = time.monotonic()
    for thread, hook in threads:
        longest = hook.tries * (hook.limit.total_seconds() + LONGEST_PAUSE)
        thread.join(max(0.0, end + longest - time.monotonic()))
    late = "no answer in time"
    return [results.get(hook.name, Told(f"webhook {hook.name}", late)) for hook in hooks]


def filled(body: Any, names: Mapping[str, str]) -> Any:
    """A body with every text in it filled in."""
    if isinstance(body, Mapping):
        return {key: filled(value, names) for key, value in body.items()}
    if isinstance(body, list):
        return [filled(value, names) for value in body]
    return body.format_map(names) if isinstance(body, str) else body


def post(hook: Webhook, address: str, body: Any) -> str:
    """Post JSON; "" when it was taken, else why not. Tried again while that may help."""
    why = ""
    for turn in range(hook.tries):
        if turn:
            time.sleep(min(PAUSE * 2 ** (turn - 1), LONGEST_PAUSE))
        status, why = _within(hook.limit.total_seconds(), lambda: _once(hook, address, body))
        if not why:
            return ""
        if status is not None and status not in AGAIN:
            return why
    return f"{why} ({hook.tries} tries)" if hook.tries > 1 else why


def _within(limit: float, act: Callable[[], tuple[int | None, str]]) -> tuple[int | None, str]:
    """What ``act`` returns, if it does so in time; one that answers byte by byte would go on for ever otherwise."""
    done: list[tuple[int | None, str]] = []
    thread = threading.Thread(target=lambda: done.append(act()), daemon=True)
    thread.start()
    thread.join(limit)
    return done[0] if done else (None, f"no answer within {in_words(timedelta(seconds=limit))}")


def _once(hook: Webhook, address: str, body: Any) -> tuple[int | None, str]:
    import httpx  # only where something is posted

    try:
        answer = httpx.post(address, json=body, timeout=hook.limit.total_seconds(), follow_redirects=False)
    except (httpx.InvalidURL, httpx.UnsupportedProtocol, UnicodeError):
        return 0, "its address is none that can be posted to (https://… is wanted)"
    except httpx.TimeoutException:
        return None, f"no answer within {in_words(hook.limit)}"
    except httpx.HTTPError as error:
        return None, f"it cannot be reached ({type(error).__name__})"
    return answer.status_code, "" if answer.is_success else f"it answered {answer.status_code}"
