"""That work goes on is told on a terminal whenever a second has passed without a word."""

from __future__ import annotations

import contextlib
import sys
import threading
import time
from collections.abc import Iterator
from typing import Any, TextIO, cast

QUIET_FOR = 0.6
"""Seconds without a word, at most."""


class Pulse:
    """Writes a line of its own to standard error while nobody else writes, and takes it away before anybody does.
    ``what``: the command that is at work."""

    def __init__(self, what: str) -> None:
        self._what = what
        self._guard = threading.RLock()
        self._began = self._last = time.monotonic()
        self._shown = 0
        self._held = 0
        self._over = threading.Event()
        self._thread = threading.Thread(target=self._beat, name="pulse", daemon=True)
        self._out, self._err = sys.stdout, sys.stderr

    def start(self) -> None:
        """Begin to watch what is written."""
        sys.stdout, sys.stderr = (cast(TextIO, _Watched(stream, self)) for stream in (self._out, self._err))
        self._thread.start()

    def stop(self) -> None:
        """Take the line away, and have all be as before."""
        self._over.set()
        self._thread.join()
        self._clear()
        sys.stdout, sys.stderr = self._out, self._err

    @contextlib.contextmanager
    def held(self) -> Iterator[None]:
        """While somebody else has the terminal."""
        with self._guard:
            self._clear()
            self._held += 1
        streams = sys.stdout, sys.stderr
        sys.stdout, sys.stderr = self._out, self._err  # what is typed is edited as ever
        try:
            yield
        finally:
            sys.stdout, sys.stderr = streams
            with self._guard:
                self._held -= 1
                self._last = time.monotonic()

    def write(self, stream: TextIO, text: str) -> int:
        """Write what somebody else has to say."""
        with self._guard:
            self._clear()
            self._last = time.monotonic()
            return stream.write(text)

    def _beat(self) -> None:
        while not self._over.wait(QUIET_FOR / 4):
            with self._guard, contextlib.suppress(OSError, ValueError):  # nobody reads any more
                if not self._held and time.monotonic() - self._last >= QUIET_FOR:
                    words = f"{self._what}: at work for {time.monotonic() - self._began:.0f} s "
                    self._clear()
                    self._shown = len(words)
                    self._err.write(words)
                    self._err.flush()
                    self._last = time.monotonic()

    def _clear(self) -> None:
        if self._shown:
            with contextlib.suppress(OSError, ValueError):
                self._err.write(f"\r{' ' * self._shown}\r")
                self._err.flush()
            self._shown = 0


class _Watched:
    """A stream that tells the pulse before anything is written to it; otherwise as the stream."""

    def __init__(self, stream: TextIO, pulse: Pulse) -> None:
        self._stream, self._pulse = stream, pulse

    def write(self, text: str) -> int:
        return self._pulse.write(self._stream, text)

    def writelines(self, lines: Iterator[str]) -> None:
        self.write("".join(lines))

    def __getattr__(self, name: str) -> Any:
        return getattr(self._stream, name)


_pulses: list[Pulse] = []


@contextlib.contextmanager
def heartbeat(what: str) -> Iterator[None]:
    """Have a line say, on a terminal, that the block is still at work."""
    if not sys.stderr.isatty():
        yield
        return
    pulse = Pulse(what)
    _pulses.append(pulse)
    pulse.start()
    try:
        yield
    finally:
        _pulses.remove(pulse)
        pulse.stop()


@contextlib.contextmanager
def terminal_taken() -> Iterator[None]:
    """While somebody types, or another program writes to the terminal, nothing is told."""
    with contextlib.ExitStack() as stack:
        for pulse in _pulses:
            stack.enter_context(pulse.held())
        yield


def typed(prompt: str = "") -> str:
    """The line that somebody types. EOFError at the end of what there is."""
    with terminal_taken():
        return input(prompt)


def answered_yes(prompt: str = "") -> bool:
    """Whether somebody says yes; whoever says nothing does not."""
    try:
        return typed(prompt).strip().lower() in ("y", "yes")
    except EOFError:
        return False
