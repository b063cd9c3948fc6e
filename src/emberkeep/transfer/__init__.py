"""Far servers: their folders behind FTP, FTPS and SFTP, through one small interface."""
