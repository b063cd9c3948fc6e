"""A connection to a far host, by the scheme of its address."""

from __future__ import annotations

from emberkeep.remote.host import Door, Host


def connect(door: Door) -> Host:
    """A new connection. Lost when nobody answers, Refused or UnreadableInput where another try would not help."""
    if door.address.scheme == "sftp":
        from emberkeep.remote.sftp import SftpHost  # each loads much that only it needs

        return SftpHost(door)
    from emberkeep.remote.ftp import FtpHost

    return FtpHost(door)
