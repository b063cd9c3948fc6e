"""A far host that speaks FTP (RFC 959) and what it can of RFC 3659 (MLSD, REST), with or without TLS (RFC 4217)."""

from __future__ import annotations

import ftplib
import socket
import ssl
from collections.abc import Iterable, Iterator, Sequence
from contextlib import contextmanager, nullcontext, suppress
from datetime import UTC, datetime
from typing import Any, NoReturn

from emberkeep.errors import Place, Refused, UnreadableInput
from emberkeep.fs.trees import Kind, fitting
from emberkeep.transfer import listing
from emberkeep.transfer.protocol import (
    CHUNK,
    ConnectionLost,
    ConnectionSettings,
    ReadEvent,
    ReadRequest,
    RemoteEntry,
    RemoteError,
    SkippedEntry,
    joined,
    one_by_one,
    unsafe_name_reason,
)

MOST_NAMES = 500_000
"""Names of one folder: a list that is longer is broken off."""
_HASHES = {"XSHA256": "sha256", "XSHA512": "sha512", "XSHA1": "sha1", "XMD5": "md5"}
_KINDS = {"file": Kind.FILE, "dir": Kind.FOLDER}


class _Tls(ftplib.FTP_TLS):
    """With the session of the first connection used again for the data, as many hosts insist on."""

    def ntransfercmd(self, cmd: str, rest: int | str | None = None) -> tuple[socket.socket, int | None]:
        conn, size = ftplib.FTP.ntransfercmd(self, cmd, rest)
        if self._prot_p:  # type: ignore[attr-defined]
            session = self.sock.session  # type: ignore[union-attr]
            conn = self.context.wrap_socket(conn, server_hostname=self.host, session=session)
        return conn, size


class FtpFileSystem:
    """One control connection. Names go over it as bytes, whatever they are: Latin-1 stands for each byte."""

    def __init__(self, settings: ConnectionSettings) -> None:
        self._settings = settings
        address = settings.address
        self._ftp = self._made(settings)
        place = Place(str(address))
        try:
            with _speaking():
                self._ftp.connect(address.host, address.port)
        except ssl.SSLError as error:
            raise _untrusted(place, error) from None
        try:
            with _speaking():
                self._ftp.login(_wire(address.user or "anonymous"), _wire(settings.secret))
                if isinstance(self._ftp, ftplib.FTP_TLS):
                    self._ftp.prot_p()
                self._features = self._feat()
                self._top = _text(self._ftp.pwd()) if not address.folder.startswith("/") else ""
        except ssl.SSLError as error:
            raise _untrusted(place, error) from None
        except RemoteError as error:
            raise Refused(
                f"the host lets nobody in: {error}", place=place, hint="see user and [far] secret in keep.toml"
            ) from None
        if not address.folder.startswith("/"):
            self._top = f"{self._top.rstrip('/')}/{address.folder}".rstrip("/")
        else:
            self._top = address.folder.rstrip("/")

    @staticmethod
    def _made(settings: ConnectionSettings) -> ftplib.FTP:
        if settings.address.scheme == "ftp":
            return ftplib.FTP(timeout=settings.limit, encoding="latin-1")
        try:
            context = ssl.create_default_context(cafile=settings.remote.certificate or None)
        except (OSError, ssl.SSLError) as error:
            raise UnreadableInput(
                f"no certificate can be read: {error}", place=Place(settings.remote.certificate)
            ) from None
        return _Tls(timeout=settings.limit, encoding="latin-1", context=context)

    def _feat(self) -> str:
        with suppress(ftplib.Error):
            return self._ftp.sendcmd("FEAT").upper()
        return ""

    def _at(self, path: str) -> str:
        return _wire(joined(self._top or "/", path).replace("//", "/")) if path else _wire(self._top or "/")

    # --- looking -------------------------------------------------------------

    def listing(self, folder: str) -> Iterator[RemoteEntry | SkippedEntry]:
        """MLSD, else LIST."""
        lines: list[str] = []

        def take(line: str) -> None:
            lines.append(line)
            if len(lines) > MOST_NAMES:
                raise Refused(
                    f"the list of {folder or 'the folder'} seems to have no end",
                    place=Place(str(self._settings.address)),
                    hint="see the folder there with another program; a link may lead into itself",
                )

        with _speaking():
            self._ftp.cwd(self._at(folder))
            self._ftp.retrlines("MLSD" if "MLST" in self._features else "LIST", take)
        now = datetime.now(UTC)
        for line in lines:
            if "MLST" in self._features:
                found = _fact_line(_text(line), folder)
            else:
                found = listing.parse(_text(line), folder, now)
            if found is not None:
                yield found

    def size(self, path: str) -> int | None:
        """SIZE; None where the host does not know it."""
        with _speaking():
            try:
                self._ftp.voidcmd("TYPE I")  # many hosts count lines otherwise
                return self._ftp.size(self._at(path))
            except ftplib.error_perm as error:
                if str(error)[:3] in ("500", "502", "504"):
                    return None
                raise

    @property
    def _hash_command(self) -> str:
        return next((command for command in _HASHES if f" {command}" in self._features), "")

    @property
    def hash_name(self) -> str:
        """Of the hash command that the host tells in FEAT."""
        return _HASHES.get(self._hash_command, "")

    def digest(self, path: str) -> str:
        """The hash by the command that the host knows (HASH, XMD5 …), in hex."""
        with _speaking():
            return self._ftp.sendcmd(f"{self._hash_command} {self._at(path)}").split()[-1].lower()

    # --- contents ------------------------------------------------------------

    def read(self, path: str, start: int, size: int) -> Iterator[bytes]:
        """RETR, from REST where it does not begin at 0; broken off where it goes on behind what is wanted."""
        with _speaking():
            self._ftp.voidcmd("TYPE I")
            conn = self._ftp.transfercmd(f"RETR {self._at(path)}", rest=start or None)
            at = start
            try:
                while data := conn.recv(CHUNK):
                    if 0 <= size <= at:
                        break
                    data = data[: size - at] if size >= 0 else data
                    yield data
                    at += len(data)
                else:
                    _unwrapped(conn)
            finally:
                conn.close()
            with suppress(ftplib.error_temp) if data else nullcontext():  # which it answers to what is broken off
                self._ftp.voidresp()

    def write(self, path: str, chunks: Iterable[bytes]) -> None:
        """STOR in passive mode."""
        with _speaking():
            self._ftp.voidcmd("TYPE I")
            conn = self._ftp.transfercmd(f"STOR {self._at(path)}")
            try:
                for chunk in chunks:
                    conn.sendall(chunk)
                _unwrapped(conn)
            except OSError as error:
                conn.close()
                with suppress(OSError, EOFError):
                    self._ftp.voidresp()  # a host that cannot write says so here, and only breaks off there
                raise ConnectionLost(str(error)) from error
            finally:
                conn.close()
            self._ftp.voidresp()

    # --- changes -------------------------------------------------------------

    def rename(self, path: str, target: str) -> None:
        """RNFR and RNTO."""
        with _speaking():
            self._ftp.rename(self._at(path), self._at(target))

    def remove(self, path: str) -> None:
        """DELE."""
        with _speaking():
            self._ftp.delete(self._at(path))

    def make_folder(self, path: str) -> None:
        """MKD."""
        with _speaking():
            self._ftp.mkd(self._at(path))

    def remove_folder(self, path: str) -> None:
        """RMD."""
        with _speaking():
            self._ftp.rmd(self._at(path))

    def set_metadata(self, path: str, mtime_ns: int, mode: int | None) -> None:
        """MFMT for the time and SITE CHMOD for the mode, where the host takes them."""
        at = datetime.fromtimestamp(mtime_ns // 1_000_000_000, UTC)
        with _speaking():
            if "MFMT" in self._features:
                with suppress(ftplib.error_perm):
                    self._ftp.sendcmd(f"MFMT {at:%Y%m%d%H%M%S} {self._at(path)}")
            if mode is not None:
                with suppress(ftplib.error_perm):  # a word of few hosts, and never needed
                    self._ftp.sendcmd(f"SITE CHMOD {mode:o} {self._at(path)}")

    answers_in = 0.0

    reads_many = False

    def read_many(self, wants: Sequence[ReadRequest]) -> Iterator[ReadEvent]:
        """The bytes of files, one transfer after another."""
        return one_by_one(self, wants)

    def another(self) -> NoReturn:
        """RemoteError: a control connection carries one transfer."""
        raise RemoteError("an FTP connection takes one question at a time")

    def close(self) -> None:
        """QUIT; whatever fails, the connection is let go."""
        with suppress(Exception):
            self._ftp.sock.settimeout(2)  # type: ignore[union-attr]
            self._ftp.quit()
        with suppress(Exception):
            self._ftp.close()


def _fact_line(line: str, folder: str) -> RemoteEntry | SkippedEntry | None:
    """A line of MLSD: facts, a space, the name (RFC 3659, 7.2)."""
    given, _, name = line.partition(" ")
    facts: dict[str, str] = {}
    for fact in given.rstrip(";").split(";"):
        key, _, value = fact.partition("=")
        facts[key.lower()] = value
    kind = facts.get("type", "").lower()
    if kind in ("cdir", "pdir") or name in (".", ".."):
        return None
    if why := unsafe_name_reason(name):
        return SkippedEntry(joined(folder, name), why)
    if kind not in _KINDS:
        return SkippedEntry(joined(folder, name), "neither a file nor a folder")
    size = listing.sized(facts.get("size", ""))
    mode = facts.get("unix.mode", "")
    bits = int(mode, 8) & 0o777 if mode and set(mode) <= set("01234567") else None
    found = _KINDS[kind]
    at = _moment(facts.get("modify", ""))
    return RemoteEntry(joined(folder, name), found, size if found is Kind.FILE else 0, at, 1.0, bits)


def _moment(text: str) -> int | None:
    try:
        at = datetime.strptime(text[:14], "%Y%m%d%H%M%S").replace(tzinfo=UTC)
        return fitting(int(at.timestamp()) * 1_000_000_000)
    except ValueError:
        return None


def _wire(text: str) -> str:
    if "\r" in text or "\n" in text:
        raise RemoteError("a name with a line end cannot be said over FTP")
    return text.encode("utf-8", "surrogateescape").decode("latin-1")


def _text(wire: str) -> str:
    return wire.encode("latin-1").decode("utf-8", "surrogateescape")


def _unwrapped(conn: Any) -> None:
    if isinstance(conn, ssl.SSLSocket):
        with suppress(OSError):  # not every host says good-bye
            conn.unwrap()


def _untrusted(place: Place, error: ssl.SSLError) -> Refused:
    why = getattr(error, "verify_message", "") or error.reason or str(error)
    return Refused(
        f"the host's certificate is not to be trusted: {why}",
        place=place,
        hint="if it is the host's own, name it in keep.toml: [far] certificate = FILE; see that it came from the host",
    )


@contextmanager
def _speaking() -> Iterator[None]:
    try:
        yield
    except ssl.SSLCertVerificationError:
        raise
    except ftplib.error_perm as error:
        raise RemoteError(_clean(error), full=str(error)[:3] == "552") from error
    except ftplib.error_temp as error:
        if str(error)[:3] in ("450", "452"):
            raise RemoteError(_clean(error), full=str(error)[:3] == "452") from error
        raise ConnectionLost(_clean(error)) from error
    except (ftplib.Error, EOFError, OSError) as error:
        raise ConnectionLost(_clean(error) or "the connection was cut") from error


def _clean(error: BaseException) -> str:
    return str(getattr(error, "strerror", None) or error).strip().splitlines()[0] if str(error).strip() else ""
