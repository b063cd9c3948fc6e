"""A connection to a far host, by the scheme of its address."""

from __future__ import annotations

from emberkeep.transfer.protocol import Door, Host


def connect(door: Door) -> Host:
    """A new connection. Lost when nobody answers, Refused or UnreadableInput where another try would not help."""
    if door.address.scheme == "sftp":
        from emberkeep.transfer.sftp import SftpHost  # each loads much that only it needs

        return SftpHost(door)
    from emberkeep.transfer.ftp import FtpHost

    return FtpHost(door)
