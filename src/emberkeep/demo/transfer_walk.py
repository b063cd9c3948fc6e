"""The walk with the server at the far end of a file transfer, which a stand-in on loopback plays."""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
import time
from pathlib import Path

from emberkeep.demo.sample import SERVER
from emberkeep.demo.walk import Walk, WalkFailed

PANEL = "panel-host"
"""The folder that the stand-in serves."""
VAULT = """
[[vault]]
name = "attic"
target = "../attic"
secret = { env = "VAULT_WORDS" }
"""
"""What the keepers add to keep.toml for a second copy."""
HOST_WAKES = 20.0
"""Seconds that it is given to start."""


class TransferWalk(Walk):
    """Brings the sample server here, merges the new defaults, sends what changed, takes that back, and keeps a second
    copy."""

    def run(self) -> None:
        """The whole of it. WalkFailed when a command ends otherwise than it must."""
        remote = self.folder / PANEL / SERVER
        remote.parent.mkdir()
        self.server.rename(remote)
        before = contents(remote)
        host = self._start_host()
        try:
            self._bring()
            self._merge_and_send(remote)
            self._their_side(remote)
            self._back(remote, before)
            self._second_copy()
        finally:
            host.terminate()
            host.wait(10)

    def _start_host(self) -> subprocess.Popen[bytes]:
        self.variables["HOST_WORD"] = self.word
        room = self.folder / PANEL
        host = subprocess.Popen(
            [sys.executable, "-m", "emberkeep.demo.ftp_server", str(room), str(self.folder)],
            env={**os.environ, "HOST_WORD": self.word},
        )
        address_file = self.folder / "address"
        limit = time.monotonic() + HOST_WAKES
        while not address_file.exists():
            if host.poll() is not None or time.monotonic() > limit:
                raise WalkFailed("the stand-in host did not start")
            time.sleep(0.05)
        return host

    def _bring(self) -> None:
        address = (self.folder / "address").read_text().strip() + SERVER
        self._title("The host gives nothing but file transfer. Bring the server here, and look it over")
        self._command("adopt", address, "--into", SERVER, "--secret-env", "HOST_WORD", "--zone", "Atlantic/Faroe")
        self.keep = f"{SERVER}.keep"
        self.say("\n(from now on every command works on the copy here)")
        self._command("survey", expected=1)
        self._command("snapshot", "--note", "as it came")

    def _merge_and_send(self, remote: Path) -> None:
        self._title("The new release's defaults go into the hand-edited files, here")
        self._command("defaults", "record", "4.2", "releases/skerrylight-4.2")
        self._command("defaults", "record", "4.3", "releases/skerrylight-4.3.zip")
        self._command("merge", "--from", "4.2", "--to", "4.3", "--go", expected=1)
        self._title("What changed goes there: first the preview, then the word")
        self._command("mirror", "send", expected=1)
        self._command("mirror", "send", "--go")
        if contents(remote) != contents(self.server):
            raise WalkFailed("the far side is not as the copy is")

    def _their_side(self, remote: Path) -> None:
        self._title("Somebody changes a file there, meanwhile")
        with (remote / "una-notes.txt").open("a", encoding="utf-8") as notes:
            notes.write("the pier wants mending\n")
        self._command("mirror", "fetch")

    def _back(self, remote: Path, before: dict[str, bytes]) -> None:
        self._title("And back: what stood there before is in a snapshot")
        self._command("undo")
        self._command("undo", "--go")
        after = contents(remote)
        before["una-notes.txt"] = after["una-notes.txt"]  # which nobody sent
        if after != before:
            raise WalkFailed("the far side is not as it was")
        self.say("\n(every file that was sent holds again what it held before, byte for byte)")

    def _second_copy(self) -> None:
        self._title("A second copy of all snapshots elsewhere, sealed: told once in keep.toml")
        self.variables["VAULT_WORDS"] = self.word
        with (self.folder / self.keep / "keep.toml").open("a", encoding="utf-8") as file:
            file.write(VAULT)
        self.say(VAULT.rstrip())
        self._command("mirror", "vault")
        self._title("The disk breaks, and the snapshots are gone. The vault lets go of nothing, and gives all back")
        shutil.rmtree(self.folder / self.keep / "store")
        self._command("mirror", "vault", expected=3)
        (self.folder / self.keep).rename(self.folder / "broken.keep")
        back = ("mirror", "vault", "attic", "--bring-back", "--secret-env", "VAULT_WORDS")
        self._command("--keep", self.keep, *back)
        self._command("verify")


def contents(folder: Path) -> dict[str, bytes]:
    """The bytes of all files of a folder, by path; links count as the files they name, as they do over FTP."""
    paths = (path for path in folder.rglob("*") if path.is_file())
    return {path.relative_to(folder).as_posix(): path.read_bytes() for path in paths}
