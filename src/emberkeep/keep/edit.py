"""keep.toml changed by a command: made like another one, or told an answer to remember."""

from __future__ import annotations

import os
from collections.abc import Mapping
from pathlib import Path
from typing import Any

from emberkeep.fs import writing
from emberkeep.keep.config import check_text
from emberkeep.keep.keep import Keep
from emberkeep.keep.locate import FILE


def make_like(keep: Keep, folder: Path, server: Path) -> Keep:
    """A keep in ``folder`` for another server folder, that knows what ``keep`` knows: keep.toml, answers, orders and
    recipes; snapshots, defaults and journal stay where they are."""
    import tomlkit  # only where keep.toml is written

    document = tomlkit.parse((keep.folder / FILE).read_text(encoding="utf-8"))
    document["server"]["folder"] = Path(os.path.relpath(server, folder)).as_posix()
    for table, key in ((document["server"], "copy"), (document, "far")):  # what it is made for lies here
        table.pop(key, None)
    document.pop("store", None)  # and so do its snapshots
    _without_vaults(document)
    writing.make_folder(folder, private=True)
    others = [keep.answers_file, keep.orders_file, *keep.recipes.rglob("*")]
    for path in (path for path in others if path.is_file()):
        target = folder / path.relative_to(keep.folder)
        writing.make_folder(target.parent, private=True)
        writing.write_whole(target, [path.read_bytes()])
    writing.write_whole(folder / FILE, [tomlkit.dumps(document).encode()])
    return Keep(folder, keep.environment)


def _without_vaults(document: Any) -> None:
    """Take the vaults out of a keep.toml that is to be another keep's: they are the first one's."""
    document.pop("vault", None)
    events = document.get("event", [])
    for at in reversed([at for at, event in enumerate(events) if event.get("kind") == "vault"]):
        del events[at]
    if not events:
        document.pop("event", None)


def remember(keep: Keep, table: tuple[str, ...], entries: Mapping[str, str]) -> None:
    """Write entries into a table of keep.toml, the admin's own writing left as it is. UnreadableInput, nothing written,
    for what would not be a good keep.toml."""
    import tomlkit  # only where keep.toml is written

    path = keep.folder / FILE
    document = tomlkit.parse(path.read_text(encoding="utf-8"))
    at: Any = document
    for name in table:
        at = at.setdefault(name, tomlkit.table())
    for name, value in entries.items():
        at[name] = value
    text = tomlkit.dumps(document)
    check_text(text, path)
    writing.write_whole(path, [text.encode()])


def set_shared_store(keep: Keep, folder: str) -> None:
    """Have keep.toml name the store that the keep shares; none for ""."""
    path = keep.folder / FILE
    text = with_shared_store(path.read_text(encoding="utf-8"), folder)
    check_text(text, path)
    writing.write_whole(path, [text.encode()])


def with_shared_store(text: str, folder: str) -> str:
    """A keep.toml that names the store which the keep shares; none for ""."""
    import tomlkit  # only where keep.toml is written

    document = tomlkit.parse(text)
    if folder:
        document.setdefault("store", tomlkit.table())["shared"] = folder
    else:
        document.pop("store", None)
    return tomlkit.dumps(document)
