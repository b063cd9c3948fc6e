"""The walk through an update day and a wipe: the real commands, one after the other, each printed before it runs."""

from __future__ import annotations

import hashlib
import json
import os
import random
import secrets
import shutil
import signal
import socket
import subprocess
import sys
import time
from collections.abc import Callable, Mapping, Sequence
from contextlib import redirect_stderr, redirect_stdout, suppress
from dataclasses import dataclass
from pathlib import Path

from emberkeep.callbacks import Say, no_op
from emberkeep.demo import mission
from emberkeep.demo.excerpt import Excerpt
from emberkeep.demo.sample import SERVER

ANSWERS = {
    ("good[id=lamp-oil]", "afloat"): "= 55",
    ("good[id=hardtack]", "afloat"): "mine",
    ("good[id=storm-lantern]", "worth"): "mine",
    ("good[id=bitter-root]", "(record)"): "mine",
}
"""What the keepers of Gannet Rock answer; every other question gets ``new``."""
INTERRUPTED = 130
"""How a command ends that Ctrl-C stopped."""
RECEIVER_WAKES = 20.0
"""Seconds that the stand-in receiver is given to start."""


class WalkFailed(Exception):
    """A step did not end as it must; the demo stops there."""


Run = Callable[[Sequence[str], Mapping[str, str], Path], int]
"""Runs a command with an environment, in a folder; its exit code."""
OUTPUT = "output"
"""The folder, beside the sample, in which the whole output of each command stands."""


@dataclass(frozen=True)
class Telling:
    """How much of it is shown. ``whole``: all that commands print, instead of the lines that matter; ``more``: also the
    rehearsal, one player put back, the calendar and the wipe; ``pause``: called after each command."""

    whole: bool = False
    more: bool = False
    pause: Callable[[], None] = no_op


class Walk:
    """Runs the steps in ``folder``, where the sample stands. ``say`` prints a line of narration."""

    def __init__(self, folder: Path, say: Say, run: Run, telling: Telling = Telling()) -> None:
        self.folder = folder
        self.server = folder / SERVER
        self.say = say
        self.run_command, self.telling = run, telling
        self.commands = 0
        self.titled = False
        self.keep = ""
        self.word = secrets.token_hex(8)
        self.receiver: subprocess.Popen[bytes] | None = None
        self.hook = ""
        self.variables: dict[str, str] = {}
        """What the environment of the commands holds besides."""
        self.starts = os.name != "nt"
        """Whether the launch script, which is one for sh, can be run here."""

    def run(self) -> None:
        """The whole day. WalkFailed when a command ends otherwise than it must."""
        try:
            self._look()
            self._tell()
            self._record()
            self._orders()
            self._questions()
            self._update()
            self._break_and_restore()
            if self.telling.more:
                self._put_back_a_player()
                self._season()
                self._wipe()
        finally:
            self._end_engine()
            self._end_receiver()

    def _look(self) -> None:
        self._title("What do we have?")
        found = (" files, ", "^engine version", "^launch", "^Wrote")
        self._command("adopt", SERVER, "--zone", "Atlantic/Faroe", lines=found)
        self.keep = f"{SERVER}.keep"
        self.say(f"\n$ {'set' if os.name == 'nt' else 'export'} EMBERKEEP_KEEP={self.keep}")
        if self.telling.more:
            self._command("adopt", "--ask")
        self._command("survey", expected=1, lines=("running", r"^engine +4\.", "^!"))

    def _tell(self) -> None:
        """What adopt cannot see: how the server is spoken to, what must hold after an update, recipes."""
        port, console = self._own_ports()
        keep_toml = self.folder / self.keep / "keep.toml"
        text = mission.operated(keep_toml.read_text(encoding="utf-8"), port, console)
        keep_toml.write_text(text, encoding="utf-8", newline="\n")
        shutil.copytree(self.folder / "releases" / "recipes", self.folder / self.keep / "recipes")
        self.say(
            "\n(the keepers add to keep.toml how the server is spoken to, when players are warned and what must still"
        )
        self.say(" stand after an update, and put the vendor's recipes for the saves into the keep)")
        self._title("The server runs, and people play. Back up first, always: the console has it hold its writes")
        if self.starts:
            self._command("start", "--go", lines=("^Ready", "^  version"))
        self._command("check", lines=("^all right",))
        self._command("snapshot", "--note", "before 4.3", lines=("^Snapshot",))
        if self.starts:
            self._title("Is that snapshot good for anything? Start the server on a copy of it, and look")
            self._command("drill", lines=("^Drill", "^Ready", "^Proven"))

    def _own_ports(self) -> tuple[int, int]:
        """Ports that nobody uses, written into the server's settings as its keepers would."""
        port, console = free_ports(2)
        path = self.server / "keeper.properties"
        when = path.stat().st_mtime_ns
        text = path.read_text(encoding="utf-8").replace("port=27800", f"port={port}")
        path.write_text(text.replace("console-port=27900", f"console-port={console}"), encoding="utf-8")
        os.utime(path, ns=(when, when))
        return port, console

    def _end_engine(self) -> None:
        """Nothing stays behind when a command ended otherwise than it must."""
        with suppress(OSError, ValueError):
            os.kill(int((self.server / "log" / "skerrylight.pid").read_text()), signal.SIGTERM)

    def _record(self) -> None:
        self._title("The vendor's untouched files, of the release we run and of the new one")
        self._command("defaults", "record", "4.2", "releases/skerrylight-4.2", lines=("^Recorded",))
        self._command("defaults", "record", "4.3", "releases/skerrylight-4.3.zip", lines=("^Recorded",))
        self._title("What did we change by hand in a year?")
        edits = ("^From", "hardtack", "wire-grapnel", "storm-lantern", "^food +afloat")
        self._command("diff", "defaults:4.2", "live", "--only", "economy", expected=1, lines=edits)

    def _orders(self) -> None:
        self._title("Why did we? Most of it was one idea, which the new release shall get as well")
        self._command("orders", "propose", "--go", expected=1, lines=("^(food|5 of)", "^Written"))
        self._command("orders", "accept", "--all", lines=("^food",))

    def _questions(self) -> None:
        self._title("What would the merge ask us? Better now than at midnight")
        asked = ("^Merging", "^5 questions", "    line ")
        line = ("merge", "--to", "4.3", "--questions", "questions.toml", "--report", "merge.html")
        self._command(*line, expected=1, lines=asked)
        self._answer(self.folder / "questions.toml")
        self.say("(questions.toml is now filled in, as an admin would do it in an editor)")

    def _update(self) -> None:
        line: tuple[str, ...] = (
            "update",
            "releases/skerrylight-4.3.zip",
            "--to",
            "4.3",
            "--extensions",
            "releases/extensions-4.3",
        )
        line += ("--answers", "questions.toml") if self.starts else ("--answers", "questions.toml", "--no-start")
        self._title("Update day: first all that it would do")
        self._command(*line, lines=("^Update", r"^ ?\d+\. (tell|merge|migrate.*shape|start)", "^In all"))
        if self.starts and self.telling.more:
            self._title("A rehearsal on a copy, with other ports, while people play on")
            self._command(*line, "--rehearse", "rehearsal")
        self._title("Now for real: warned, saved, stopped, replaced, merged, migrated, started, looked at")
        done = ("^  (told|take|merge|start)", "^Every", "^Ready", "^  version", "^Done", "^Next")
        self._command(*line, "--report", "update.html", "--go", lines=done)
        self._command("survey", lines=(r"^engine +4\.", "^default data ", "^last snapshot"))
        if self.telling.more:
            self._command("history", "--run", "1")
        if self.starts:
            self._command("stop", "--now", "--go", lines=("^Stopped",))
        self._title("The same merge again finds nothing left to do")
        self._command("merge", "--from", "4.2", "--to", "4.3", lines=("^Merging", "stores.xml"))

    def _break_and_restore(self) -> None:
        self._title("Is everything kept? Then break it on purpose")
        self._command("snapshot", "--note", "after 4.3")
        self._command("verify")
        before = fingerprint(self.server)
        self._break()
        self._command("diff", "after 4.3", "live", expected=1, lines=("^From", "^[-+] ", "^~ (cast|mission)"))
        if self.telling.more:
            self._command("restore", "after 4.3")
        self._command("restore", "after 4.3", "--go", lines=("^Restored", "^  (wrote|removed)"))
        self._title("Proof that every byte is back")
        self._command("diff", "after 4.3", "live")
        after = fingerprint(self.server)
        self.say(f"  before the damage: sha256 {before}")
        self.say(f"  after the restore: sha256 {after}")
        if before != after:
            raise WalkFailed("the restored folder differs from what it was")
        self.say("  the same, over every name, content, mode, time and link")

    def _put_back_a_player(self) -> None:
        self._title("One player was robbed, and the others have played on: only that one is put back")
        robbed = self._rob()
        self._command("restore", "after 4.3", "--player", robbed)
        self._command("diff", "after 4.3", "--player", robbed, expected=1)
        self._command("restore", "after 4.3", "--player", robbed, "--go")
        self._command("history")

    def _rob(self) -> str:
        """Take a player's belongings, and let others earn something meanwhile; what they are called."""
        names = json.loads((self.server / "roll.json").read_text(encoding="utf-8"))
        first, second = names[0], names[1]
        path = self.server / "outer-skerries" / "keepers" / f"{first['id']}.json"
        player = json.loads(path.read_text(encoding="utf-8"))
        path.write_text(json.dumps({**player, "satchel": {}}), encoding="utf-8")
        path = self.server / "extensions" / "tarline" / "tallies.json"
        sums = json.loads(path.read_text(encoding="utf-8"))
        path.write_text(json.dumps({**sums, first["id"]: 0, second["id"]: 4000}), encoding="utf-8")
        return str(first["name"])

    def _season(self) -> None:
        """What the keepers write down for the next wipe, and half a year of logs."""
        with (self.folder / self.keep / "keep.toml").open("a", encoding="utf-8") as file:
            file.write(mission.season())
        for path, text in mission.season_logs().items():
            (self.server / path).write_text(text, encoding="utf-8")
        self._begin_receiver()
        self._title("Some weeks later: when is the next wipe, and does the rhythm fit?")
        self.say(
            "\n(the keepers have written into keep.toml what a wipe sets and spares, when things happen, and whom to"
        )
        self.say(" tell; a stand-in on this machine receives what is posted)")
        self._command("calendar", "--days", "70")
        self._command("calendar", "--explain", "our wipe", "--days", "40")
        self._command("calendar", "--attendance", "attendance.png")
        self._command("calendar", "--png", "coming.png", "--ics", "coming.ics", "--months", "0")

    def _wipe(self) -> None:
        scopes = ("map", "players", "extension-data")
        again = () if self.starts else ("--no-start",)
        self._plant()
        self._title("The wipe: what goes, what stays, and what would be forgotten")
        self._command("wipe", *scopes, expected=1)
        self._title("The lockers go too; that is said once, and remembered")
        self._command("wipe", *scopes, "--unsorted", "attic/*=clear", *again)
        before = fingerprint(self.server)
        self._title("The wipe itself")
        self._command("wipe", *scopes, *again, "--go")
        self.say(f"  posted: {self._posted()}")
        self._command("calendar", "--days", "40", "--months", "1")
        if self.starts:
            self._command("stop", "--now", "--go")
        self._title("And if it was the wrong evening: all of it back")
        self._command("undo", "--go")
        after = fingerprint(self.server)
        if before != after:
            raise WalkFailed("undoing the wipe did not bring back what was there")
        self.say("  the same as before the wipe, over every name, content, mode, time and link")

    def _plant(self) -> None:
        """What an extension that nobody remembers keeps for a player."""
        keeper = sorted((self.server / "outer-skerries" / "keepers").iterdir())[0].stem
        (self.server / "attic").mkdir()
        lockers = {"lockers": {keeper.replace("-", ""): {"lens": 2, "storm-lantern": 1}}}
        (self.server / "attic" / "lockers.json").write_text(json.dumps(lockers, indent=1) + "\n", encoding="utf-8")

    def _begin_receiver(self) -> None:
        folder = self.folder / "harbour-chat"
        line = [sys.executable, "-m", "emberkeep.demo.webhook_receiver", str(folder)]
        self.receiver = subprocess.Popen(line)
        end = time.monotonic() + RECEIVER_WAKES
        while not (folder / "address").exists() or not (folder / "address").read_text().endswith("\n"):
            if time.monotonic() > end or self.receiver.poll() is not None:
                raise WalkFailed("the stand-in receiver did not start")
            time.sleep(0.05)
        self.hook = (folder / "address").read_text().strip()

    def _posted(self) -> str:
        posted = self.folder / "harbour-chat" / "posted.jsonl"
        lines = posted.read_text(encoding="utf-8").splitlines() if posted.exists() else []
        if not lines:
            raise WalkFailed("nothing was posted to the stand-in receiver")
        return lines[-1]

    def _end_receiver(self) -> None:
        if self.receiver is not None:
            self.receiver.terminate()
            self.receiver.wait(10)

    def _command(self, *words: str, expected: int = 0, lines: Sequence[str] = ()) -> None:
        """Run a command, and show the ``lines`` of its output that fit these patterns."""
        shown = " ".join(f"'{word}'" if " " in word else word for word in words)
        self.say(f"{'' if self.titled else chr(10)}$ emberkeep {shown}")
        self.titled = False
        environment = {name: value for name, value in os.environ.items() if name != "EMBERKEEP_KEEP"}
        environment["ROCK_CONSOLE"] = self.word
        environment["ROCK_HOOK"] = self.hook
        environment.update(self.variables)
        if self.keep:
            environment["EMBERKEEP_KEEP"] = self.keep
        code = self._carried_out(words, environment, lines)
        if code == INTERRUPTED:
            raise KeyboardInterrupt
        if code != expected:
            raise WalkFailed(f"'emberkeep {shown}' ended with {code} instead of {expected}")
        self.telling.pause()

    def _carried_out(self, words: Sequence[str], environment: Mapping[str, str], lines: Sequence[str]) -> int:
        if self.telling.whole:
            return self.run_command(words, environment, self.folder)
        self.commands += 1
        path = self.folder / OUTPUT / f"{self.commands:02}-{words[0]}.txt"
        path.parent.mkdir(exist_ok=True)
        terminal = sys.stdout

        def say(line: str) -> None:
            with redirect_stdout(terminal):
                self.say(line)

        output = Excerpt(lines, say)
        try:
            with redirect_stdout(output), redirect_stderr(output):
                return self.run_command(words, environment, self.folder)
        finally:
            path.write_text(output.getvalue(), encoding="utf-8", newline="\n")

    def _title(self, text: str) -> None:
        self.say(f"\n=== {text} ===")
        self.titled = True

    def _answer(self, path: Path) -> None:
        """Fill in the questions file line by line, as an editor would."""
        record = field = ""
        lines = []
        for line in path.read_text(encoding="utf-8").splitlines():
            key, _, value = line.partition(" = ")
            if key == "record":
                record = value.strip('"')
            elif key == "field":
                field = value.strip('"')
            filled = f'answer = "{ANSWERS.get((record, field), "new")}"' if key == "answer" else line
            lines.append(filled)
        path.write_text("\n".join(lines) + "\n", encoding="utf-8")

    def _break(self) -> None:
        self.say("\n(a tile is cut short, a player and the start script vanish, the goods table is")
        self.say(" emptied, a stray file lands in the world, permissions change: a bad night)")
        chart = self.server / "outer-skerries" / "chart"
        with (chart / "strip.0.0.sea").open("r+b") as tile:
            tile.truncate(5000)
        sorted((self.server / "outer-skerries" / "keepers").iterdir())[0].unlink()
        (self.server / "mission" / "first-light.rig").unlink()
        (self.server / "mission" / "economy" / "stores.xml").write_text("<stores></stores>\n")
        (chart / "strip.9.9.sea.tmp").write_bytes(b"stray")
        (self.server / "cast-off.sh").chmod(0o600)
        (self.server / "inbox").rmdir()


def free_ports(count: int) -> list[int]:
    """Ports that nobody listens on. They lie below those that systems give to outgoing connections (49152 and more by
    RFC 6335, 32768 and more on Linux), one of which may be taken before it is used here."""
    found: list[int] = []
    for port in random.sample(range(20_000, 32_000), 400):
        with socket.socket() as one, suppress(OSError):
            one.bind(("127.0.0.1", port))
            found.append(port)
        if len(found) == count:
            return found
    raise WalkFailed("no free ports were found on this machine")


def fingerprint(folder: Path) -> str:
    """SHA-256 over names, contents, modes, modification times and links of a folder; written apart from the store's own
    hashing, so that it proves something."""
    total = hashlib.sha256()
    for where, names, files in os.walk(folder):
        names.sort()
        for name in sorted([".", *names, *files]):
            path = os.path.join(where, name)
            facts = os.lstat(path)
            line = f"{os.path.relpath(path, folder)}\0{facts.st_mode:o}\0{facts.st_mtime_ns}\0"
            total.update(line.encode("utf-8", "surrogateescape"))
            if os.path.islink(path):
                total.update(os.fsencode(os.readlink(path)))
            elif os.path.isfile(path):
                total.update(Path(path).read_bytes())
    return total.hexdigest()
