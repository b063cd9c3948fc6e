"""The command line: finds the command, runs it, turns what it raises into exit codes."""
