"""The stand-in receiver of announcements: a small HTTP server on loopback that keeps what is posted to it.

It is run as ``python -m emberkeep.demo.webhook_receiver FOLDER``; writes its address to ``FOLDER/address`` (a secret
path is part of it, and the file is private) and each body, as one line, to ``FOLDER/posted.jsonl``.
``RECEIVER_FAULTS`` are words out of

    fail=N    answers 503 to the first N posts
    refuse    answers 403
    hang      takes the post and never answers
    drip      answers byte by byte, for ever
"""

from __future__ import annotations

import json
import os
import secrets
import sys
import threading
import time
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path

LARGEST = 1 << 20


class Receiver(ThreadingHTTPServer):
    """Keeps what is posted to ``path``; ``faults`` by their words."""

    daemon_threads = True

    def __init__(self, folder: Path, faults: str = "") -> None:
        super().__init__(("127.0.0.1", 0), _Post)
        self.folder = folder
        self.path = f"/{secrets.token_urlsafe(12)}"
        self.faults = {word.partition("=")[0]: word.partition("=")[2] for word in faults.split()}
        self.count = 0
        self.lock = threading.Lock()

    @property
    def address(self) -> str:
        """Where to post."""
        return f"http://127.0.0.1:{self.server_address[1]}{self.path}"


class _Post(BaseHTTPRequestHandler):
    server: Receiver

    def do_POST(self) -> None:
        length = min(int(self.headers.get("Content-Length", "0")), LARGEST)
        body = self.rfile.read(length)
        receiver = self.server
        with receiver.lock:
            receiver.count += 1
            number = receiver.count
        if "hang" in receiver.faults:
            time.sleep(3600)
        if "drip" in receiver.faults:
            self._drip()
            return
        if self.path != receiver.path or "refuse" in receiver.faults:
            self._answer(403)
        elif number <= int(receiver.faults.get("fail", "0")):
            self._answer(503)
        else:
            self._keep(body)

    def _keep(self, body: bytes) -> None:
        try:
            message = json.loads(body)
        except ValueError:
            self._answer(400)
            return
        with self.server.lock, (self.server.folder / "posted.jsonl").open("a", encoding="utf-8") as kept:
            kept.write(json.dumps(message, ensure_ascii=False) + "\n")
        self._answer(204)

    def _drip(self) -> None:
        self.wfile.write(b"HTTP/1.1 200 ")
        while True:
            time.sleep(0.2)
            self.wfile.write(b"x")
            self.wfile.flush()

    def _answer(self, status: int) -> None:
        self.send_response(status)
        self.send_header("Content-Length", "0")
        self.end_headers()

    def log_message(self, format: str, *args: object) -> None:
        """Says nothing: the path is a secret."""


def main() -> None:
    """Serve until ended."""
    folder = Path(sys.argv[1])
    folder.mkdir(parents=True, exist_ok=True)
    receiver = Receiver(folder, os.environ.get("RECEIVER_FAULTS", ""))
    descriptor = os.open(folder / "address", os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600)
    with os.fdopen(descriptor, "w") as file:
        file.write(receiver.address + "\n")
    receiver.serve_forever()


if __name__ == "__main__":
    main()
