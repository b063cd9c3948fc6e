"""The server as a process: whether it runs, its console, starting, watching and stopping it."""
