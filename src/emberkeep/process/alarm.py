"""Those who look after a server are told what failed; and somebody elsewhere that all goes on.

By webhooks, by mail (SMTP, RFC 5321) and by a command of their own, each tried by itself. A ping is a GET of an address
that expects one: when none comes any more, nothing ran here, and whoever is there tells.
"""

from __future__ import annotations

import smtplib
import subprocess
from collections.abc import Callable, Iterator, Mapping
from datetime import timedelta
from email.message import EmailMessage

from emberkeep.errors import EmberKeepError
from emberkeep.keep.keep import Keep
from emberkeep.keep.secrets import handed_on, secret
from emberkeep.keep.tables.schedule import Alarm, Mail
from emberkeep.process.announce import Told, filled, post

LIMIT = timedelta(seconds=20)
"""How long any of these ways may take."""


def notify(keep: Keep, environment: Mapping[str, str], text: str) -> tuple[Told, ...]:
    """Send ``text`` every way that [due] knows; none stops another."""
    return tuple(_tried(way, act) for way, act in _ways(keep, environment, text))


def ping(keep: Keep, environment: Mapping[str, str]) -> Told | None:
    """Ask the address that waits for it; None where there is none."""
    alarm = keep.config.calendar.alarm
    if not alarm.pings:
        return None
    return _tried("ping", lambda: _ping(alarm, environment))


def _ways(keep: Keep, environment: Mapping[str, str], text: str) -> Iterator[tuple[str, Callable[[], str]]]:
    calendar = keep.config.calendar
    alarm = calendar.alarm
    for hook in calendar.announcing.webhooks:
        if hook.name in alarm.webhooks:
            body = filled(hook.body, _Names(text=text, server=keep.config.name))
            yield (
                f"webhook {hook.name}",
                lambda hook=hook, body=body: post(  # type: ignore[misc]
                    hook, secret(hook.address_env, hook.address_file, environment, "its address"), body
                ),
            )
    if alarm.mail is not None:
        mail = alarm.mail
        yield f"mail to {', '.join(mail.to)}", lambda: _mailed(mail, environment, keep.config.name, text)
    if alarm.command:
        yield "command", lambda: _commanded(keep, environment, text)


class _Names(dict[str, str]):
    """What a body's texts may hold: what only announcements know is empty."""

    def __missing__(self, key: str) -> str:
        return ""


def _tried(way: str, act: Callable[[], str]) -> Told:
    """``act`` returns why it failed, "" when it went well."""
    try:
        return Told(way, act())
    except EmberKeepError as error:
        return Told(way, error.faults[0].what)
    except (OSError, smtplib.SMTPException, subprocess.SubprocessError) as error:
        return Told(way, f"{type(error).__name__}: {getattr(error, 'strerror', None) or error}")


def _mailed(mail: Mail, environment: Mapping[str, str], server: str, text: str) -> str:
    message = EmailMessage()
    message["Subject"] = f"Ember Keep: {server}"
    message["From"] = mail.sender
    message["To"] = ", ".join(mail.to)
    message.set_content(text + "\n")
    word = secret(mail.secret_env, mail.secret_file, environment, "the password of the mail server")
    with smtplib.SMTP(mail.host, mail.port, timeout=LIMIT.total_seconds()) as line:
        if mail.encrypted:
            import ssl

            line.starttls(context=ssl.create_default_context())
        if mail.user:
            line.login(mail.user, word)
        refused = line.send_message(message)
    return f"refused for {', '.join(refused)}" if refused else ""


def _commanded(keep: Keep, environment: Mapping[str, str], text: str) -> str:
    """The text is one argument, whatever it holds: no shell reads it. It runs in the keep."""
    words = [word.replace("{text}", text) for word in keep.config.calendar.alarm.command]
    done = subprocess.run(
        words,
        cwd=keep.folder,
        stdin=subprocess.DEVNULL,
        capture_output=True,
        env=handed_on(environment),
        timeout=LIMIT.total_seconds(),
        check=False,
    )
    return f"it ended with {done.returncode}" if done.returncode else ""


def _ping(alarm: Alarm, environment: Mapping[str, str]) -> str:
    import httpx  # only where something is asked

    address = alarm.ping or secret(alarm.ping_env, alarm.ping_file, environment, "the address of [due] ping")
    try:
        answer = httpx.get(address, timeout=LIMIT.total_seconds(), follow_redirects=True)
    except (httpx.HTTPError, httpx.InvalidURL) as error:
        return f"it cannot be reached ({type(error).__name__})"
    return "" if answer.is_success else f"it answered {answer.status_code}"
