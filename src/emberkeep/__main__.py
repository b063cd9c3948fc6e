"""``python -m emberkeep`` is the same as the ``emberkeep`` command."""

from emberkeep.cli.main import entry

if __name__ == "__main__":
    entry()
