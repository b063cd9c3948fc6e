"""Which files are the economy: records of goods, prices and spawns, and how they are told apart."""

from __future__ import annotations

from collections import Counter, defaultdict
from collections.abc import Iterator, Sequence, Set

from emberkeep.detection.context import InferenceContext, suffix_glob
from emberkeep.detection.findings import (
    RecordFinding,
    Sure,
)
from emberkeep.detection.leads import is_the_servers
from emberkeep.detection.settings import DATA, SEVERAL
from emberkeep.documents import registry
from emberkeep.documents.edit import named_by_attribute
from emberkeep.documents.identity import KeyRules
from emberkeep.documents.model import TOP, VALUE, Document, Node, Role
from emberkeep.documents.values import number
from emberkeep.errors import EmberKeepError
from emberkeep.fs import globs
from emberkeep.fs.trees import Kind, Tree, read

_TABLES = ("xml", "json", "yaml", "toml")


MOST_TABLES = 400
"""Files of repeated records that are read whole."""


def find_economy(scene: InferenceContext, releases: Sequence[Tree]) -> Iterator[RecordFinding]:
    """Files of repeated records with numbers; a folder tree that holds several such files is mission data whole."""
    tables: dict[str, list[str]] = defaultdict(list)
    read = 0
    for family in list(scene.open_families()):
        for path in scene.sampled(family):
            if scene.look.kind(path) in _TABLES and path not in scene.saved_texts and read < MOST_TABLES:
                read += 1
                yield from _table(scene, path, tables, releases)
    looked_into = {path for family in scene.families for path in scene.sampled(family)} if tables else set[str]()
    for top, paths in tables.items():
        _mission(scene, top, paths, looked_into)


def _table(
    scene: InferenceContext, path: str, tables: dict[str, list[str]], releases: Sequence[Tree]
) -> Iterator[RecordFinding]:
    document = scene.document(path)
    if document is None or not document.learns_identity:
        return
    identities = KeyRules(list(_vendors(path, document, releases)), [document])
    repeated = list(_repeated(document.root, (document.root.name,)))
    if not any(count >= SEVERAL or _has_number(node) for _, count in repeated for node in document.root.items[:20]):
        return
    if max(count for _, count in repeated) < SEVERAL and _single_values(document.root):
        return  # settings, a few of which repeat
    if all(_is_named_value(item) for item in document.root.items if item.role is Role.RECORD):
        return  # settings, each by its name in an element of its own
    tables[path.split("/", 1)[0] if "/" in path else ""].append(path)
    for at, count in repeated:
        rule = identities.rule(at).rule
        if not (rule == (".",) or _are_values(document, at)):  # a list of plain words needs no telling
            yield RecordFinding(path, "/".join(at), rule or (), count, Sure.SURE if rule else Sure.LIKELY)


def _is_named_value(item: Node) -> bool:
    return named_by_attribute(item) != "" and len(item.fields) == 2 and not item.items


def _single_values(root: Node) -> int:
    """Plain values that stand by themselves at the top of a document."""
    tops = [item for item in root.items if item.role is Role.RECORD]
    inner = [item for top in tops if top.name == TOP for item in top.items if item.role is Role.RECORD]
    return sum(item.own is not None and not item.items for item in (*tops, *inner))


def _vendors(path: str, mine: Document, releases: Sequence[Tree]) -> Iterator[Document]:
    """The same file as recorded releases ship it, where they do and it is whole."""
    for tree in releases:
        if path not in tree.entries():
            continue
        try:
            document = registry.parse(path, read(tree, path), as_format=mine.format)
        except EmberKeepError:
            continue
        if document is not None:
            yield document


def _are_values(document: Document, at: tuple[str, ...]) -> bool:
    """Whether what repeats here are plain values."""
    nodes = [document.root]
    for name in at[1:]:
        nodes = [item for node in nodes for item in node.items if item.name == name]
    return all(list(node.fields) == [VALUE] and not node.items for node in nodes[:20])


FEW_IN_A_MISSION = 4
"""Files of a folder that one table among them makes mission data."""


def _mission(scene: InferenceContext, top: str, paths: list[str], looked_into: Set[str]) -> None:
    """What the tables below a folder make of it. ``looked_into``: some files of each family, which tell whether there
    are settings of the server among them."""
    kinds = [
        (path, scene.look.kind(path))
        for path in (scene.below(top) if top else [])
        if scene.tree.entries()[path].kind is Kind.FILE and not scene.is_covered(path) and path not in scene.saved_texts
    ]
    if (
        top
        and not any(path.startswith(f"{top}/") for path in scene.saved_texts)
        and (len(paths) > 1 or len(kinds) <= FEW_IN_A_MISSION)
        and all(kind in (*DATA, "text", "script", "empty") for _, kind in kinds)
        and not any(
            is_the_servers(path, scene.pairs(path), ()) for path, kind in kinds if kind in DATA and path in looked_into
        )
    ):
        for path, kind in kinds:
            if kind == "text":
                scene.cover("scripts", suffix_glob(path), "a text among mission files", Sure.LIKELY)
        some = f"{len(paths)} file{'s' if len(paths) > 1 else ''}"
        evidence = f"mission data: {some} of repeated records, and what stands beside"
        scene.cover("economy", f"{globs.escape(top)}/**", evidence, Sure.LIKELY)
        return
    for path in paths:
        if not scene.is_covered(path):
            scene.cover("economy", globs.escape(path), "repeated records", Sure.LIKELY)


def _repeated(node: Node, path: tuple[str, ...], depth: int = 0) -> Iterator[tuple[tuple[str, ...], int]]:
    """Paths of records that repeat within a parent and carry numbers somewhere, with how many there are."""
    counts = Counter(item.name for item in node.items if item.role is Role.RECORD)
    for name, count in counts.items():
        members = [item for item in node.items if item.name == name]
        if count >= 2 and not members[0].named and (depth or any(_has_number(member) for member in members[:20])):
            yield (*path, name), count
        if depth < 6:
            yield from _first_repeated(members[:20], (*path, name), depth + 1)


def _first_repeated(members: list[Node], path: tuple[str, ...], depth: int) -> Iterator[tuple[tuple[str, ...], int]]:
    best: dict[tuple[str, ...], int] = {}
    for member in members:
        for at, count in _repeated(member, path, depth):
            best[at] = max(count, best.get(at, 0))
    yield from best.items()


def _has_number(node: Node) -> bool:
    values = [field.value for field in node.fields.values()]
    values += [item.own for item in node.items if item.own is not None]
    return any(number(value) is not None for value in values) or any(_has_number(item) for item in node.items[:20])
