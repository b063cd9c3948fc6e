"""The draft of keep.toml that adopt writes: what was inferred, each with its evidence and how sure it is."""

from __future__ import annotations

import re
import textwrap
import tomllib
from collections import defaultdict
from collections.abc import Iterable, Mapping, Sequence
from typing import Any

from emberkeep.detection.findings import ORDER, Adoption, Finding, RecordFinding, Sure, TableFinding
from emberkeep.errors import first_of
from emberkeep.fs import globs
from emberkeep.fs.globs import escape
from emberkeep.keep.config import QUESTION
from emberkeep.keep.locate import SCHEMA_LINE
from emberkeep.keep.toml_reader import quote


def draft(adoption: Adoption, folder: str, zone: str) -> str:
    """The text of a new keep.toml. ``folder``: the server folder as it shall stand in it; ``zone``: IANA name."""
    parts = [
        f"{SCHEMA_LINE}\n"
        "# What Ember Keep knows of this server. Drafted by 'emberkeep adopt'; yours to edit from now on.\n"
        "# 'emberkeep keep-toml' tells all that may stand here.\n"
        "# Behind '# sure:', '# likely:' and '# guess:' stands what speaks for an entry.\n\nformat = 1\n",
        f"\n[server]\nname = {quote(adoption.name)}    # {plain(adoption.name_evidence)}\nfolder = {quote(folder)}\n"
        f"zone = {quote(zone)}    # IANA name; all times are shown in it\n",
        *_versions(adoption),
        _roles(adoption),
        _world(adoption),
        _launch(adoption),
        _overlay(adoption),
        _log(adoption),
        _player_bound(adoption),
        _scopes(adoption),
        *_records(adoption.records),
        _LADDER,
        _questions(adoption),
    ]
    return "".join(parts)


_LADDER = """
[ladder]    # which snapshots 'emberkeep thin' keeps: the first line that covers a snapshot's age decides
"2 days" = "all"
"2 weeks" = "one a day"
"3 months" = "one a week"
"2 years" = "one a month"
"""


def _versions(adoption: Adoption) -> Iterable[str]:
    for found in adoption.versions:
        yield f"\n[versions.{_key(found.name)}]\n" + _comment(found.sure, found.evidence)
        yield f"pattern = {_literal(found.pattern)}\nin = [{', '.join(map(quote, found.within))}]\n"


def _roles(adoption: Adoption) -> str:
    lines = ["\n[roles]    # the first match wins; what matches nothing is unsorted: never wiped, always carried\n"]
    for role in ORDER:
        findings = [found for found in adoption.roles if found.role == role]
        if not findings:
            continue
        by_glob: dict[str, list[Finding]] = defaultdict(list)
        for found in findings:
            by_glob[found.glob].append(found)
        lines.append(f"{role} = [\n")
        for glob, of_glob in by_glob.items():
            more = f", and {len(of_glob) - 1} more like it" if len(of_glob) > 1 else ""
            evidence = of_glob[0].evidence + more
            lines.append(f"    {quote(glob)},    # {of_glob[0].sure}: {plain(evidence)}\n")
        lines.append("]\n")
    if adoption.unsorted:
        lines.append(f"# unsorted: {plain(first_of(adoption.unsorted, 12))}\n")
    return "".join(lines)


def _world(adoption: Adoption) -> str:
    world = adoption.world
    if not world.evidence:
        return "\n# no world was recognised: no tile files, no large save, no settings key that names a folder\n"
    evidence = f"{world.folder or 'the server folder'} holds {world.evidence}" if world.tiles else world.evidence
    lines = [f"\n[world]\n{_comment(world.sure, evidence)}"]
    if world.pointer_file:
        lines.append(_comment(world.pointer_sure, world.pointer_evidence))
        kept = "" if world.pointer_kept else "# "  # what is not found again by its key would be missed by every survey
        lines.append(f"{kept}pointer = {{ file = {quote(world.pointer_file)}, key = {quote(world.pointer_key)} }}\n")
    if world.tiles:
        sector = f", sector = {world.sector}" if world.sector else ""
        lines.append(f"tiles = {{ names = {quote(world.tiles)}{sector} }}\n")
    if world.numbered:
        lines.append(_comment(Sure.LIKELY, "no setting gives the number in the save's name, so it is the format's"))
        names = f"names = {quote(world.numbered)}"
        if world.number_in:
            lines.append(
                _comment(Sure.LIKELY, f"{world.number_in} names the same number, so the engine tells it there")
            )
            names += f", engine-file = {quote(world.number_in)}, engine-pattern = {_literal(world.number_pattern)}"
        lines.append(f"numbered = {{ {names} }}\n")
    if world.dimensions:
        lines.append(_comment(Sure.LIKELY, "tiles named alike stand there"))
        lines.append(f"dimensions = [{', '.join(map(quote, world.dimensions))}]\n")
    return "".join(lines)


def _launch(adoption: Adoption) -> str:
    launch = adoption.launch
    if launch is None:
        return "\n# no launch script was recognised\n"
    lines = [f"\n[launch]\n{_comment(launch.sure, launch.evidence)}"]
    lines.append(f"script = {quote(launch.script)}\n")
    lines += [f"program = {quote(launch.program)}\n"] if launch.program else []
    for item in launch.arguments:
        lines.append(
            f"{item.purpose} = {quote(item.key)}    # {item.sure}: now {plain(item.value)}; {plain(item.evidence)}\n"
        )
    stays = "" if launch.program else "; it has to stay as long as the containers run: 'up' without -d"
    comment = f"    # likely: the launch script{stays}; which line says that it is ready stands in [log]"
    lines.append(f"\n[start]{comment}\ncommand = [{quote('./' + launch.script)}]\n")
    return "".join(lines)


def _overlay(adoption: Adoption) -> str:
    laid = next((found for found in adoption.roles if found.evidence.startswith("an overlay")), None)
    if laid is None:
        return ""
    return f"\n[update]\noverlay = {quote(laid.glob)}    # {laid.sure}: {plain(laid.evidence)}\n"


def _log(adoption: Adoption) -> str:
    log = adoption.log
    if log is None:
        return ""
    lines = [f"\n[log]\nin = [{quote(log.glob)}]    # sure: the newest log\n"]
    for line in log.lines:
        example = f", as in: {line.example}" if line.example else ""
        lines.append(_comment(line.sure, f"{line.evidence}{example}"))
        lines.append(f"{line.kind} = {_literal(line.pattern)}\n")
    return "".join(lines)


def _player_bound(adoption: Adoption) -> str:
    if not adoption.player_bound:
        return ""
    lines = ["\n[player-bound]    # extension data of single players: what a wipe of it clears\nfiles = [\n"]
    lines += [f"    {quote(item.glob)},    # {item.sure}: {plain(item.evidence)}\n" for item in adoption.player_bound]
    return "".join([*lines, "]\n"])


def drafted_scopes(adoption: Adoption) -> Mapping[str, Mapping[str, Any]]:
    """The scopes of a draft, as keep.toml holds them."""
    found: Mapping[str, Mapping[str, Any]] = tomllib.loads(_scopes(adoption)).get("scopes", {})
    return found


def _scopes(adoption: Adoption) -> str:
    """What a wipe of each scope clears, by the roles; of files in which the admin's own stands beside what belongs to
    players, only the records of those."""
    roles = {found.role for found in adoption.roles}
    lines = []
    of_world = [table for table in adoption.tables if table.database == adoption.world.folder]
    by_rows = bool(of_world or adoption.world.tables)
    if by_rows:
        lines.append(_world_tables(adoption, of_world))
    for scope, role in (("map", "world"), ("players", "players"), ("progress", "progress")):
        if role not in roles or (by_rows and scope == "map") or (of_world and scope == "players"):
            continue
        wanted, why = [role], "what a wipe of this scope clears"
        if scope == "map" and adoption.world.others:
            wanted = [f"world/{escape(folder)}/**" for folder in (adoption.world.folder, *adoption.world.dimensions)]
            why = f"what is played; not {', '.join(adoption.world.others)}"
        mixed = [table for table in adoption.tables if table.others and scope == "progress" and table not in of_world]
        if mixed:
            lines.append(_mixed_progress(adoption, mixed))
            continue
        lines.append(f"\n[scopes.{scope}]    # {plain(why)}\nfiles = [{', '.join(map(quote, wanted))}]\n")
    whole = [item for item in adoption.player_bound if not item.records]
    parts = [(item, at) for item in adoption.player_bound for at in item.records]
    if whole or parts:
        lines.append("\n[scopes.extension-data]\n")
    if whole:
        lines.append(f"files = [{', '.join(quote(item.glob) for item in whole)}]\n")
    if parts:
        listed = (
            f"    {{ file = {quote(item.glob)}, at = {quote(at)} }},    # likely: beside them stands what has no"
            " player's id in it\n"
            for item, at in parts
        )
        lines.append(f"records = [\n{''.join(listed)}]\n")
    return "".join(lines)


def _world_tables(adoption: Adoption, tables: Sequence[TableFinding]) -> str:
    """Of a database that holds the world and more, each scope names its tables."""
    database = quote(escape(adoption.world.folder))
    beside = [found.glob for found in adoption.roles if found.role == "world"]
    files = [f"world/{glob}" for glob in beside if not globs.compiled(glob).fullmatch(adoption.world.folder)]
    players = ["players"] if any(found.role == "players" for found in adoption.roles) else []
    theirs = [table.table for table in tables]
    mine = [name for name in adoption.world.tables or tables[0].of_world if name not in theirs]
    scopes = {
        "map": (files, mine, "bytes that an engine writes"),
        "players": (players, theirs, "players' ids"),
    }
    lines = []
    for scope, (wanted, names, why) in scopes.items():
        if not names:
            continue
        lines.append(f"\n[scopes.{scope}]    # the database of the world holds more than the world\n")
        if wanted:
            lines.append(f"files = [{', '.join(map(quote, wanted))}]\n")
        rows = "".join(
            f"    {{ database = {database}, table = {quote(name)} }},    # likely: {why} stand in it\n"
            for name in names
        )
        lines.append(f"rows = [\n{rows}]\n")
    return "".join(lines)


def _mixed_progress(adoption: Adoption, mixed: Sequence[TableFinding]) -> str:
    """Databases in which players' tables stand beside others are not cleared whole: their tables are named."""
    held = {table.database for table in mixed}
    whole = [
        f"progress/{found.glob}"
        for found in adoption.roles
        if found.role == "progress" and not any(globs.compiled(found.glob).fullmatch(path) for path in held)
    ]
    lines = ["\n[scopes.progress]    # what a wipe of this scope clears\n"]
    if whole:
        lines.append(f"files = [{', '.join(map(quote, whole))}]\n")
    lines.append("rows = [\n")
    for table in mixed:
        comment = f"{table.sure}: {table.evidence}, not in {', '.join(table.others)}"
        database = next(
            (
                f.glob
                for f in adoption.roles
                if f.role == "progress" and globs.compiled(f.glob).fullmatch(table.database)
            ),
            escape(table.database),
        )
        lines.append(f"    {{ database = {quote(database)}, table = {quote(table.table)} }},    # {plain(comment)}\n")
    return "".join([*lines, "]\n"])


def _questions(adoption: Adoption) -> str:
    if not adoption.questions:
        return ""
    asked = "".join(f"{QUESTION} {plain(question)}\n" for question in adoption.questions)
    return "\n# Questions. For each: correct the entry above if it is wrong, then delete the question.\n" + asked


def _records(records: Iterable[RecordFinding]) -> Iterable[str]:
    by_file: dict[str, list[RecordFinding]] = defaultdict(list)
    for record in records:
        by_file[record.file].append(record)
    for path, found in by_file.items():
        yield f"\n[records.{quote(path)}]    # what identifies a record among its siblings; [] = what it holds\n"
        for record in found:
            rule = ", ".join(quote(name) for name in record.rule)
            if rule:
                yield f"{quote(record.path)} = [{rule}]    # {record.sure}: unique in {record.count}\n"
            else:  # left to be learned again beside the vendor's files, which may show more
                yield f"# {quote(record.path)} = []    # likely: nothing is unique in {record.count}\n"


def _comment(sure: Sure, evidence: str) -> str:
    return "".join(f"# {line}\n" for line in textwrap.wrap(f"{sure}: {plain(evidence)}", 100))


def plain(text: str) -> str:
    """Text fit for a comment: no control characters, no line ends."""
    return "".join(char if char.isprintable() else "?" for char in text)


def _literal(pattern: str) -> str:
    return f"'{pattern}'" if "'" not in pattern and pattern.isprintable() else quote(pattern)


def _key(name: str) -> str:
    return name if re.fullmatch(r"[A-Za-z0-9_-]+", name) else quote(name)
