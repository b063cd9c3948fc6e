"""A keep made for a server folder that has none: looked over, drafted, written."""

from __future__ import annotations

import os
from pathlib import Path

from emberkeep.detection.adopt import adopt
from emberkeep.detection.draft import draft
from emberkeep.detection.findings import Adoption
from emberkeep.errors import Refused, UsageError
from emberkeep.fs import writing
from emberkeep.keep.config import check_text
from emberkeep.keep.locate import FILE, SCHEMA, keep_meant, likely_server
from emberkeep.keep.reference import shipped_schema


def adopt_server(server: Path, keep: Path, zone: str) -> Adoption:
    """Look ``server`` over and write what was found into a new keep; the server folder is only read. Refused where it
    is a part of a server that is looked after already, or the keep is there, or would lie inside it."""
    if not server.is_dir():
        raise UsageError(f"{server} is not a folder", hint="name the folder that holds the game server")
    refuse_part_of_a_server(server)
    if keep == server or server in keep.parents:
        raise Refused(f"the keep {keep} would lie inside the server folder", hint="name one beside it with --keep")
    if (keep / FILE).exists():
        raise Refused(
            f"{keep / FILE} is there already", hint="'emberkeep adopt --refresh' looks again and proposes changes"
        )
    found = adopt(server)
    write_keep(keep, draft(found, os.path.relpath(server, keep) if keep.parent == server.parent else str(server), zone))
    return found


def refuse_part_of_a_server(server: Path) -> None:
    """Refused where a folder above is looked after already: a keep for a part of it would lie inside that server."""
    for above in server.parents:
        keep = keep_meant("", {}, str(above))
        if keep and (whole := likely_server(keep)) and Path(whole) in server.parents:
            raise Refused(
                f"{server} is part of the server folder {whole}, which {keep} looks after",
                hint="name the whole server folder; 'emberkeep survey' shows what is known of it",
            )


def write_keep(keep: Path, text: str) -> None:
    """Write a draft as keep.toml of a new keep. UnreadableInput where our own check does not take it."""
    check_text(text, keep / FILE)
    writing.make_folder(keep, private=True)
    write_schema(keep)
    writing.write_whole(keep / FILE, [text.encode("utf-8", "backslashreplace")])


def write_schema(keep: Path) -> None:
    """Write what keep.toml may hold beside it, for editors."""
    writing.write_whole(keep / SCHEMA, [shipped_schema()])
