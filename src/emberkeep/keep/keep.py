"""The keep: the folder where all that is known of one server lies, with its ``keep.toml`` (see ``config``).

::

    KEEP/                    by default SERVER.keep, beside the server folder, never inside it
      keep.toml              what this keep knows of its server; the admin's own file
      keep.schema.json       what keep.toml may hold, for editors
      answers.toml           answers given to questions of merges
      orders.toml            standing orders
      journal.db             which runs changed the server folder
      recipes/               how saves are migrated, one file for each version step
      output/                what started servers print
      due.lock               held by the one process that does what is due
      far.db, far/           what a far server folder held at the last fetch, and files that are half fetched
      vault.json             what went into vaults, and when
      store/                 snapshots and recorded defaults
"""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path
from types import MappingProxyType

from emberkeep.errors import Refused, UsageError
from emberkeep.keep import locate
from emberkeep.keep.config import read_config
from emberkeep.keep.locate import FILE, SUFFIX

ANSWERS, ORDERS, RECIPES = "answers.toml", "orders.toml", "recipes"


class Keep:
    """An opened keep. ``folder``: the keep itself; ``config``: its keep.toml; ``server``: the server folder, or the
    local copy of one that is far; ``environment``: where the secrets of databases are looked for."""

    def __init__(self, folder: Path, environment: Mapping[str, str] = MappingProxyType({})) -> None:
        self.folder = folder
        self.environment = environment
        self.config = read_config(folder / FILE)
        here = self.config.folder
        if self.config.is_remote:
            called = folder.name.removesuffix(SUFFIX)
            here = self.config.copy or (f"../{called}" if called not in ("", folder.name) else "copy")
        self.server = Path(locate.inside(str(folder), here))
        if self.server == folder or self.server in folder.parents:
            raise Refused(
                f"the keep {folder} lies inside its server folder, where a reinstall would take it along",
                hint="move it beside the server folder and set server.folder in keep.toml",
            )

    @property
    def store_folder(self) -> Path:
        """Where snapshots and recorded defaults lie."""
        return self.folder / "store"

    @property
    def orders_file(self) -> Path:
        """Where standing orders are kept."""
        return self.folder / ORDERS

    @property
    def written(self) -> list[Path]:
        """The files in it that the admin writes, or has had written, and may read."""
        return written_in(self.folder)

    @property
    def recipes(self) -> Path:
        """Where recipes are kept."""
        return self.folder / RECIPES

    @property
    def output(self) -> Path:
        """Where what started servers print goes."""
        return self.folder / "output"

    @property
    def answers_file(self) -> Path:
        """Where answers are remembered."""
        return self.folder / ANSWERS

    def require_server(self) -> Path:
        """The server folder; UsageError when it is not there."""
        if not self.server.is_dir():
            if self.config.is_remote:
                raise UsageError(
                    f"there is no copy of {self.config.remote.address} at {self.server} yet",
                    hint="'emberkeep mirror fetch' brings it here",
                )
            raise UsageError(
                f"the server folder {self.server} is not there",
                hint=f"set server.folder in {self.folder / FILE}",
            )
        return self.server


def written_in(folder: Path) -> list[Path]:
    """The files in a keep's folder that the admin writes, or has had written, and may read."""
    recipes = sorted(path for path in (folder / RECIPES).rglob("*") if path.is_file())
    return [*(path for name in (FILE, ANSWERS, ORDERS) if (path := folder / name).is_file()), *recipes]


def beside(server: Path) -> Path:
    """The keep that belongs to a server folder by default."""
    return server.with_name(server.name + SUFFIX)


def find(explicit: str | None, environment: Mapping[str, str], here: Path) -> Keep:
    """The keep meant by ``--keep``, by the variable EMBERKEEP_KEEP, or found from the folder ``here`` upwards."""
    folder = locate.keep_meant(explicit, environment, str(here))
    if not folder:
        raise UsageError(
            f"no keep found from {here} upwards",
            hint=f"say it with --keep DIR, set {locate.VARIABLE}, or make one with 'emberkeep adopt SERVER'",
        )
    if not locate.is_keep(folder):
        raise UsageError(f"{folder} is not a keep: it has no {FILE}", hint="'emberkeep adopt SERVER' makes one")
    return Keep(Path(folder), environment)
