"""The stand-in for a panel host that gives nothing but file transfer: a small FTP server (RFC 959, 3659) on loopback.

It is run as ``python -m emberkeep.demo.ftp_server FOLDER ROOM`` with the user's password in ``HOST_WORD``; it serves
FOLDER to the user ``keeper`` alone and writes its address to ``ROOM/address``. ``HOST_FAULTS`` are words out of

    cut=N     cuts every connection at its N-th command
    list      knows LIST and no MLSD
    full      answers 552 to every STOR
"""

from __future__ import annotations

import calendar
import os
import socket
import socketserver
import stat
import sys
import time
from collections.abc import Callable
from contextlib import suppress
from pathlib import Path

USER = "keeper"
CHUNK = 256 << 10


class Host(socketserver.ThreadingTCPServer):
    """Serves ``root``; ``faults`` by their words."""

    daemon_threads = True
    allow_reuse_address = True

    def __init__(self, root: Path, word: str, faults: str = "", port: int = 0) -> None:
        super().__init__(("127.0.0.1", port), _Session)
        self.root = root.resolve()
        self.word = word
        self.faults = {name.partition("=")[0]: name.partition("=")[2] for name in faults.split()}

    @property
    def address(self) -> str:
        """Where it is reached."""
        return f"ftp://{USER}@127.0.0.1:{self.server_address[1]}/"


class _Refused(Exception):
    """An answer instead of what was asked for."""


class _Session(socketserver.StreamRequestHandler):
    server: Host

    def setup(self) -> None:
        super().setup()
        self._here = "/"
        self._user = self._from = ""
        self._start = 0
        self._known = False
        self._waiting: socket.socket | None = None

    def handle(self) -> None:
        self._say("220 harbour")
        cut = int(self.server.faults.get("cut", 0) or 0)
        for number, line in enumerate(iter(self.rfile.readline, b""), 1):
            if number == cut:
                return
            word, _, rest = line.decode("utf-8", "surrogateescape").rstrip("\r\n").partition(" ")
            if not self._one(word.upper(), rest):
                return

    def finish(self) -> None:
        if self._waiting is not None:
            self._waiting.close()
        super().finish()

    def _one(self, word: str, rest: str) -> bool:
        act: Callable[[str], str] | None = getattr(self, f"_do_{word.lower()}", None)
        try:
            if word == "QUIT":
                self._say("221 fair winds")
                return False
            if act is None or (word == "MLSD" and "list" in self.server.faults):
                raise _Refused("502 not known here")
            if not self._known and word not in ("USER", "PASS", "FEAT"):
                raise _Refused("530 who are you?")
            self._say(act(rest))
        except _Refused as error:
            self._say(str(error))
        except OSError as error:
            self._say(f"550 {error.strerror}")
        if word in ("RETR", "STOR"):
            self._start = 0
        return True

    def _say(self, text: str) -> None:
        self.wfile.write(text.encode("utf-8", "surrogateescape") + b"\r\n")

    def _path(self, text: str) -> Path:
        found: list[str] = []
        for part in (text if text.startswith("/") else f"{self._here}/{text}").split("/"):
            if part == "..":
                found = found[:-1]
            elif part not in ("", "."):
                found.append(part)
        return self.server.root.joinpath(*found)

    # --- who and where -------------------------------------------------------------

    def _do_user(self, text: str) -> str:
        self._user = text
        return "331 and the word?"

    def _do_pass(self, text: str) -> str:
        self._known = (self._user, text) == (USER, self.server.word)
        if not self._known:
            raise _Refused("530 not the word")
        return "230 come aboard"

    def _do_feat(self, _: str) -> str:
        features = ["UTF8", "SIZE", "REST STREAM", "MFMT"]
        features += [] if "list" in self.server.faults else ["MLST type*;size*;modify*;"]
        return "211-what is known here\r\n" + "".join(f" {name}\r\n" for name in features) + "211 that is all"

    def _do_type(self, _: str) -> str:
        return "200 as it is"

    def _do_pwd(self, _: str) -> str:
        return f'257 "{self._here}"'

    def _do_cwd(self, text: str) -> str:
        place = self._path(text)
        if not place.is_dir():
            raise _Refused("550 no such folder")
        self._here = "/" + place.relative_to(self.server.root).as_posix().strip(".")
        return "250 there"

    # --- transfers -------------------------------------------------------------------

    def _do_pasv(self, _: str) -> str:
        self._waiting = socket.create_server(("127.0.0.1", 0))
        port = self._waiting.getsockname()[1]
        return f"227 (127,0,0,1,{port >> 8},{port & 255})"

    def _over(self, move: Callable[[socket.socket], None]) -> str:
        if self._waiting is None:
            raise _Refused("425 PASV first")
        waiting, self._waiting = self._waiting, None
        with waiting:
            self._say("150 here it comes")
            data, _ = waiting.accept()
            with data:
                move(data)
        return "226 done"

    def _do_mlsd(self, _: str) -> str:
        def line(name: str, facts: os.stat_result, folder: bool) -> str:
            when = time.strftime("%Y%m%d%H%M%S", time.gmtime(facts.st_mtime))
            return f"type={'dir' if folder else 'file'};size={facts.st_size};modify={when}; {name}"

        return self._listed(line)

    def _do_list(self, _: str) -> str:
        def line(name: str, facts: os.stat_result, folder: bool) -> str:
            old = time.time() - facts.st_mtime > 180 * 86400
            when = time.strftime("%b %d  %Y" if old else "%b %d %H:%M", time.gmtime(facts.st_mtime))
            return f"{'d' if folder else '-'}rw-r--r-- 1 keeper crew {facts.st_size} {when} {name}"

        return self._listed(line)

    def _listed(self, line: Callable[[str, os.stat_result, bool], str]) -> str:
        rows = []
        for path in sorted(self._path("").iterdir()):
            with suppress(FileNotFoundError):  # another connection may just have renamed it
                facts = path.stat()
                rows.append(line(path.name, facts, stat.S_ISDIR(facts.st_mode)))
        text = "".join(f"{row}\r\n" for row in rows).encode("utf-8", "surrogateescape")
        return self._over(lambda data: data.sendall(text))

    def _do_rest(self, text: str) -> str:
        self._start = int(text)
        return "350 from there"

    def _do_retr(self, text: str) -> str:
        with self._path(text).open("rb") as handle:
            handle.seek(self._start)

            def send(data: socket.socket) -> None:
                while chunk := handle.read(CHUNK):
                    data.sendall(chunk)

            return self._over(send)

    def _do_stor(self, text: str) -> str:
        if "full" in self.server.faults:
            raise _Refused("552 no room left")
        with self._path(text).open("wb") as handle:

            def receive(data: socket.socket) -> None:
                while chunk := data.recv(CHUNK):
                    handle.write(chunk)

            return self._over(receive)

    # --- what stands there -------------------------------------------------------------

    def _do_size(self, text: str) -> str:
        return f"213 {self._path(text).stat().st_size}"

    def _do_mfmt(self, text: str) -> str:
        when, _, path = text.partition(" ")
        at = calendar.timegm(time.strptime(when, "%Y%m%d%H%M%S"))
        os.utime(self._path(path), (at, at))
        return f"213 Modify={when}; {path}"

    def _do_dele(self, text: str) -> str:
        self._path(text).unlink()
        return "250 gone"

    def _do_mkd(self, text: str) -> str:
        self._path(text).mkdir()
        return f'257 "{text}"'

    def _do_rmd(self, text: str) -> str:
        self._path(text).rmdir()
        return "250 gone"

    def _do_rnfr(self, text: str) -> str:
        if not self._path(text).exists():
            raise _Refused("550 no such file")
        self._from = text
        return "350 and to what?"

    def _do_rnto(self, text: str) -> str:
        self._path(self._from).replace(self._path(text))
        return "250 so it is called"


def main() -> int:
    """Serve until it is ended."""
    root, room = Path(sys.argv[1]), Path(sys.argv[2])
    host = Host(root, os.environ["HOST_WORD"], os.environ.get("HOST_FAULTS", ""))
    beside = room / "address.new"
    beside.write_text(host.address + "\n", encoding="utf-8")
    beside.replace(room / "address")
    host.serve_forever()
    return 0


if __name__ == "__main__":
    sys.exit(main())
