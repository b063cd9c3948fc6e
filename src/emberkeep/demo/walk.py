"""The walk through an update day: the real commands, one after the other, each printed before it runs."""

from __future__ import annotations

import hashlib
import os
import subprocess
import sys
import zipfile
from collections.abc import Callable
from pathlib import Path

from emberkeep.demo.sample import SERVER

Say = Callable[[str], None]

ANSWERS = {
    ("good[id=lamp-oil]", "afloat"): "= 55",
    ("good[id=hardtack]", "afloat"): "mine",
    ("good[id=storm-lantern]", "worth"): "mine",
    ("good[id=bitter-root]", "(record)"): "mine",
}
"""What the keepers of Gannet Rock answer; every other question gets ``new``."""


class WalkFailed(Exception):
    """A step did not end as it must; the demo stops there."""


class Walk:
    """Runs the steps in ``folder``, where the sample stands. ``say`` prints a line of narration."""

    def __init__(self, folder: Path, say: Say) -> None:
        self.folder = folder
        self.server = folder / SERVER
        self.say = say
        self.keep = ""

    def run(self) -> None:
        """The whole day. WalkFailed when a command ends otherwise than it must."""
        self._look()
        self._record()
        self._orders()
        self._lay_engine()
        self._merge()
        self._break_and_restore()

    def _look(self) -> None:
        self._title("What do we have?")
        self._command("adopt", SERVER, "--zone", "Atlantic/Faroe")
        self.keep = f"{SERVER}.keep"
        self.say(f"\n$ {'set' if os.name == 'nt' else 'export'} EMBERKEEP_KEEP={self.keep}")
        self._command("survey", expected=1)
        self._title("Back up first, always")
        self._command("snapshot", "--note", "before 4.3")

    def _record(self) -> None:
        self._title("The vendor's untouched files, of the release we run and of the new one")
        self._command("defaults", "record", "4.2", "releases/skerrylight-4.2")
        self._command("defaults", "record", "4.3", "releases/skerrylight-4.3.zip")
        self._title("What did we change by hand in a year?")
        self._command("diff", "defaults:4.2", "live", "--only", "economy", expected=1)

    def _orders(self) -> None:
        self._title("Why did we? Most of it was one idea, which the new release shall get as well")
        self._command("orders", "propose", "--go", expected=1)
        self._command("orders", "accept", "--all")

    def _lay_engine(self) -> None:
        """By hand, as long as there is no ``update``: the new program files over the old, and the framework over
        them again."""
        self._title("The new engine goes in by hand, and the framework's files over it again")
        names = []
        with zipfile.ZipFile(self.folder / "releases" / "skerrylight-4.3.zip") as release:
            for member in release.namelist():
                name = member.partition("/")[2]
                if name == "RELEASE" or name.endswith((".bin", ".so")):
                    (self.server / name).write_bytes(release.read(member))
                    names.append(name)
        (self.server / "skerrylight-4.3.0.bin").chmod(0o755)
        (self.server / "skerrylight-4.2.0.bin").unlink()
        with zipfile.ZipFile(self.server / "keelson" / "keelson-2.1.0.lay") as overlay:
            for name in overlay.namelist():
                (self.server / name).write_bytes(overlay.read(name))
        self.say(f"(laid in {', '.join(names)}; took out skerrylight-4.2.0.bin)")
        self._command("survey", expected=1)

    def _merge(self) -> None:
        self._title("Bring the new defaults into our files: first a look, with the questions written down")
        self._command("merge", "--to", "4.3", "--questions", "questions.toml", "--report", "merge.html", expected=1)
        self._answer(self.folder / "questions.toml")
        self.say("(questions.toml is now filled in, as an admin would do it in an editor)")
        self._title("Now for real")
        self._command("merge", "--to", "4.3", "--answers", "questions.toml", "--go")
        self._title("The same merge again finds nothing left to do")
        self._command("merge", "--from", "4.2", "--to", "4.3")

    def _break_and_restore(self) -> None:
        self._title("Is everything kept? Then break it on purpose")
        self._command("snapshot", "--note", "after 4.3")
        self._command("verify")
        before = fingerprint(self.server)
        self._break()
        self._command("diff", "after 4.3", "live", expected=1)
        self._command("restore", "after 4.3")
        self._command("restore", "after 4.3", "--go")
        self._title("Proof that every byte is back")
        self._command("diff", "after 4.3", "live")
        after = fingerprint(self.server)
        self.say(f"  before the damage: sha256 {before}")
        self.say(f"  after the restore: sha256 {after}")
        if before != after:
            raise WalkFailed("the restored folder differs from what it was")
        self.say("  the same, over every name, content, mode, time and link")
        self._command("history")

    def _command(self, *words: str, expected: int = 0) -> None:
        shown = " ".join(f"'{word}'" if " " in word else word for word in words)
        self.say(f"\n$ emberkeep {shown}")
        environment = {name: value for name, value in os.environ.items() if name != "EMBERKEEP_KEEP"}
        if self.keep:
            environment["EMBERKEEP_KEEP"] = self.keep
        line = [sys.executable, "-m", "emberkeep", *words]
        done = subprocess.run(line, cwd=self.folder, env=environment, check=False)
        if done.returncode != expected:
            raise WalkFailed(f"'emberkeep {shown}' ended with {done.returncode} instead of {expected}")

    def _title(self, text: str) -> None:
        self.say(f"\n=== {text} ===")

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


def fingerprint(folder: Path) -> str:
    """SHA-256 over names, contents, modes, modification times and links of a folder; written apart from the store's own
    hashing, so that it proves something."""
    total = hashlib.sha256()
    for where, names, files in os.walk(folder):
        names.sort()
        for name in sorted([".", *names, *files]):
            path = os.path.join(where, name)
            facts = os.lstat(path)
            told = f"{os.path.relpath(path, folder)}\0{facts.st_mode:o}\0{facts.st_mtime_ns}\0"
            total.update(told.encode("utf-8", "surrogateescape"))
            if os.path.islink(path):
                total.update(os.fsencode(os.readlink(path)))
            elif os.path.isfile(path):
                total.update(Path(path).read_bytes())
    return total.hexdigest()
