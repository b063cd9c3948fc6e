"""One module per kind of run, and what is found out before one."""
