"""The way to each database of a server, from keep.toml, the environment and the server's own settings."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from emberkeep.errors import Place, Refused, UsageError
from emberkeep.fs.folder_tree import FolderTree
from emberkeep.fs.trees import read
from emberkeep.keep.keep import Keep
from emberkeep.keep.locate import FILE
from emberkeep.keep.secrets import secret
from emberkeep.keep.tables.databases import PORT, Database, Databases

if TYPE_CHECKING:
    from emberkeep.databases.mariadb import Access

ROLE = "databases"
"""The role whose name, alone or before a database's, selects databases on the command line."""


def access(keep: Keep, one: Database) -> Access:
    """The way to a database. Refused where a secret or a settings file is not to be had."""
    from emberkeep.databases.mariadb import Access  # only where there is one: most servers have none

    settings = _from_settings(keep, one)
    password = secret(one.secret_env, one.secret_file, keep.environment, f"the password of database '{one.name}'")
    port = settings.get("port", "")
    if port and not port.isdigit():
        raise Refused(
            f"'{port}' is no port",
            place=Place(one.settings_file),
            hint=f"put it right there, or set port of database '{one.name}' in {FILE}",
        )
    return Access(
        one.name,
        one.schema or settings.get("schema", "") or one.name,
        one.user or settings.get("user", ""),
        password or settings.get("password", ""),
        "" if one.socket else one.host or settings.get("host", "") or "127.0.0.1",
        one.port or int(port or PORT),
        one.socket,
        one.certificate,
        one.client,
        one.plain,
    )


def _from_settings(keep: Keep, one: Database) -> dict[str, str]:
    """What the server's own settings tell of the way to its database."""
    if not one.settings_file:
        return {}
    from emberkeep.documents import edit  # only where settings tell: loading all formats takes its time

    live = FolderTree(keep.require_server())
    if live.now_at(one.settings_file) is None:
        raise Refused(
            f"there is no {one.settings_file}, which tells of the database '{one.name}'",
            place=Place(str(keep.folder / FILE)),
            hint="mend settings.file of this [[database]] in keep.toml",
        )
    data = read(live, one.settings_file)
    found = {what: edit.value(one.settings_file, data, key) for what, key in one.in_settings.items()}
    lacking = [one.in_settings[what] for what, value in found.items() if value is None]
    if lacking:
        raise Refused(
            f"it has no key {', '.join(lacking)}, which keep.toml names for the database '{one.name}'",
            place=Place(one.settings_file),
            hint="mend settings of this [[database]] in keep.toml",
        )
    return {what: value for what, value in found.items() if value is not None}


def meant(only: Sequence[str], databases: Databases) -> tuple[Database, ...]:
    """The databases of servers that selections mean: all where nothing is selected; with ``databases`` all, beside the
    files of that role; with ``databases/NAME`` one of them."""
    return tuple(one for one in databases.served if not only or ROLE in only or f"{ROLE}/{one.name}" in only)


def served(keep: Keep, name: str) -> Database:
    """The database of a server that is called so; UsageError where there is none."""
    one = keep.config.databases.named(name)
    if one is None or not one.served:
        known = ", ".join(database.name for database in keep.config.databases.served) or "none"
        raise UsageError(f"there is no database '{name}' in {FILE}", hint=f"known: {known}")
    return one
