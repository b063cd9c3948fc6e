"""The draft of keep.toml that adopt writes: what was inferred, each with its evidence and how sure it is."""

from __future__ import annotations

import textwrap
from collections import defaultdict
from collections.abc import Iterable

from emberkeep.servers.adopt import ORDER, Adoption, Finding, RecordFinding, Sure
from emberkeep.toml import quote


def draft(adoption: Adoption, folder: str, zone: str) -> str:
    """The text of a new keep.toml. ``folder``: the server folder as it shall stand in it; ``zone``: IANA name."""
    parts = [
        "# What Ember Keep knows of this server. Drafted by 'emberkeep adopt'; yours to edit from now on.\n"
        "# Behind '# sure:', '# likely:' and '# guess:' stands what speaks for an entry.\n\nformat = 1\n",
        f"\n[server]\nname = {quote(adoption.name)}\nfolder = {quote(folder)}\n"
        f"zone = {quote(zone)}    # IANA name; all times are shown in it\n",
        *_versions(adoption),
        _roles(adoption),
        _world(adoption),
        *_records(adoption.records),
    ]
    return "".join(parts)


def _versions(adoption: Adoption) -> Iterable[str]:
    for found in adoption.versions:
        yield f"\n[versions.{found.name}]\n" + _comment(found.sure, found.evidence)
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
        for glob, told in by_glob.items():
            evidence = told[0].evidence if len(told) == 1 else f"{told[0].evidence}, and {len(told) - 1} more like it"
            lines.append(f"    {quote(glob)},    # {told[0].sure}: {_plain(evidence)}\n")
        lines.append("]\n")
    if adoption.unsorted:
        lines.append(f"# unsorted: {_plain(', '.join(adoption.unsorted[:12]))}")
        lines.append(f" and {len(adoption.unsorted) - 12} more\n" if len(adoption.unsorted) > 12 else "\n")
    return "".join(lines)


def _world(adoption: Adoption) -> str:
    world = adoption.world
    if not world.folder:
        return "\n# no world was recognised: no tile files, no settings key that names a folder\n"
    lines = [f"\n[world]\n{_comment(Sure.SURE, f'{world.folder} holds {world.evidence}')}"]
    if world.pointer_file:
        lines.append(f"pointer = {{ file = {quote(world.pointer_file)}, key = {quote(world.pointer_key)} }}\n")
    if world.tiles:
        sector = f", sector = {world.sector}" if world.sector else ""
        lines.append(f"tiles = {{ names = {quote(world.tiles)}{sector} }}\n")
    if world.numbered:
        lines.append(f"numbered = {{ names = {quote(world.numbered)} }}\n")
    return "".join(lines)


def _records(records: Iterable[RecordFinding]) -> Iterable[str]:
    by_file: dict[str, list[RecordFinding]] = defaultdict(list)
    for record in records:
        by_file[record.file].append(record)
    for path, found in by_file.items():
        yield f"\n[records.{quote(path)}]    # what identifies a record among its siblings; [] = what it holds\n"
        for record in found:
            rule = ", ".join(quote(name) for name in record.rule)
            if rule:
                yield f"{quote(record.path)} = [{rule}]    # sure: unique in {record.count}\n"
            else:  # left to be learned again beside the vendor's files, which may show more
                yield f"# {quote(record.path)} = []    # likely: nothing is unique in {record.count}\n"


def _comment(sure: Sure, evidence: str) -> str:
    return "".join(f"# {line}\n" for line in textwrap.wrap(f"{sure}: {_plain(evidence)}", 100))


def _plain(text: str) -> str:
    """Text fit for a comment: no control characters, no line ends."""
    return "".join(char if char.isprintable() else "?" for char in text)


def _literal(pattern: str) -> str:
    return f"'{pattern}'" if "'" not in pattern and pattern.isprintable() else quote(pattern)
