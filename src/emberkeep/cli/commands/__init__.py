"""One module per command, with ``add_arguments(parser)`` and ``run(args, screen) -> exit code``."""
