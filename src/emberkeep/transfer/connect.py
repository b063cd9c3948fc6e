"""A connection to a far host, by the scheme of its address."""

from __future__ import annotations

from emberkeep.transfer.protocol import ConnectionSettings, RemoteFileSystem


def connect(settings: ConnectionSettings) -> RemoteFileSystem:
    """A new connection. ConnectionLost when nobody answers, Refused or UnreadableInput where another try would not
    help."""
    if settings.address.scheme == "sftp":
        from emberkeep.transfer.sftp import SftpFileSystem  # each loads much that only it needs

        return SftpFileSystem(settings)
    from emberkeep.transfer.ftp import FtpFileSystem

    return FtpFileSystem(settings)
