"""A server folder while it is looked over: its files by family, which of them have a role already, what was read."""

from __future__ import annotations

import posixpath
import re
from bisect import bisect_left
from collections import defaultdict
from collections.abc import Iterator
from dataclasses import dataclass, field
from functools import cached_property

from emberkeep.detection.evidence import Hypothesis
from emberkeep.detection.findings import Finding, Sure
from emberkeep.documents import registry
from emberkeep.documents.edit import VALUE_ATTRIBUTE, named_by_attribute, unquoted
from emberkeep.documents.formats import lined
from emberkeep.documents.model import TOP, Document, Node, Role
from emberkeep.errors import EmberKeepError, Fault
from emberkeep.fs import globs
from emberkeep.fs.trees import Kind, Tree
from emberkeep.inventory.extensions import Extension, read_manifest
from emberkeep.inventory.probe import Family, FileProbe, families, is_identifier

A_COPY = 600 * 10**9
"""Nanoseconds that the copying of a folder takes, about."""
AT_ONCE = 120 * 10**9
"""Nanoseconds within which two files are of one save."""
SAVED = ("binary", "packed", "sqlite", "zip")
"""Kinds of content that engines save, mostly."""
MOST_LINKS = 8
DEEPEST_PAIRS = 4
"""Levels of settings that are looked through."""
SAMPLE = 8
"""Members of a large family of which the contents are looked at."""
_LITERAL = re.compile(r"[^*?\[]*")


@dataclass
class InferenceContext:
    """What all inferences share. ``findings``: roles found so far; ``people``: ids of known players; ``names``: what
    they are called; ``programs``: what scripts execute; ``manifests_of_programs``: what tells versions of those that
    are interpreted; ``saved_texts``: texts that an engine saves, with older copies of each; ``opened``: files that
    running programs write."""

    tree: Tree
    look: FileProbe
    findings: list[Finding] = field(default_factory=list)
    people: set[str] = field(default_factory=set)
    names: set[str] = field(default_factory=set)
    programs: list[str] = field(default_factory=list)
    manifests_of_programs: list[str] = field(default_factory=list)
    saved_texts: dict[str, list[str]] = field(default_factory=dict)
    opened: frozenset[str] = frozenset()
    weighed: list[Hypothesis] = field(default_factory=list)
    faults: list[Fault] = field(default_factory=list)
    _covered: set[str] = field(default_factory=set)
    _documents: dict[str, Document | None] = field(default_factory=dict)
    _manifests: dict[str, Extension | None] = field(default_factory=dict)
    _paired: dict[str, frozenset[str]] = field(default_factory=dict)

    @cached_property
    def dirs(self) -> frozenset[str]:
        """Every folder, to ask whether a path is one."""
        return frozenset(self.folders)

    @cached_property
    def times_differ(self) -> bool:
        """Whether files were written at other times than others: those of a copied folder may be all alike."""
        times = [entry.mtime_ns for entry in self.tree.entries().values() if entry.kind is Kind.FILE]
        return bool(times) and max(times) - min(times) > A_COPY

    @cached_property
    def engine_time(self) -> int | None:
        """When the programs that scripts execute were last changed, in ns. None without one, where all times are alike,
        and where the server has not run since: then its own files are as old as the vendor's."""
        times = [self.tree.entries()[path].mtime_ns for path in self.programs]
        came = max(times, default=None)
        if came is None or not self.times_differ:
            return None
        ran = self.of_role("logs") or [path for path in self.paths if path not in self.dirs]
        return came if max(self.tree.entries()[path].mtime_ns for path in ran) > came + A_COPY else None

    def came_with_program(self, path: str) -> bool:
        """Whether nothing of a file, or in a folder, was written since the program came."""
        if self.engine_time is None:
            return False
        files = [inner for inner in self.below(path) if inner not in self.dirs] if path in self.dirs else [path]
        last = max((self.tree.entries()[inner].mtime_ns for inner in files), default=0)
        return last <= self.engine_time + A_COPY

    @property
    def odd_people(self) -> set[str]:
        """Ids of players that do not look like ids."""
        return {ident for ident in self.people if not is_identifier(ident)}

    @cached_property
    def families(self) -> list[Family]:
        """All files by the shape of their names."""
        return families(self.tree.entries().values())

    @cached_property
    def paths(self) -> list[str]:
        """Every path, sorted."""
        return sorted(self.tree.entries())

    @cached_property
    def folders(self) -> list[str]:
        """Every folder, sorted."""
        return [path for path in self.paths if self.tree.entries()[path].kind is Kind.FOLDER]

    def cover(self, role: str, glob: str, evidence: str, sure: Sure = Sure.SURE) -> None:
        """Note that files have a role."""
        if any((found.role, found.glob) == (role, glob) for found in self.findings):
            return
        self.findings.append(Finding(role, glob, evidence, sure))
        self._covered.update(self.matching(glob))

    def is_covered(self, path: str) -> bool:
        """Whether a path has a role by now."""
        return path in self._covered

    def matching(self, glob: str) -> Iterator[str]:
        """The paths that a pattern matches, found by its literal beginning."""
        found = _LITERAL.match(glob)
        start = found[0] if found else ""
        pattern = globs.compiled(glob)
        for at in range(bisect_left(self.paths, start), len(self.paths)):
            if not self.paths[at].startswith(start):
                return
            if pattern.fullmatch(self.paths[at]):
                yield self.paths[at]

    def through_links(self, path: str) -> str:
        """Where a path leads, links on the way followed; as it is where one leads outside."""
        for _ in range(MOST_LINKS):
            parts = path.split("/")
            heads = ["/".join(parts[:count]) for count in range(1, len(parts) + 1)]
            link = next((head for head in heads if head in self.links), None)
            if link is None:
                return path
            below = path.removeprefix(link).lstrip("/")
            path = posixpath.normpath(posixpath.join(posixpath.dirname(link), self.links[link], below))
        return path

    @cached_property
    def links(self) -> dict[str, str]:
        """Every link and what it points at."""
        return {path: entry.points_at for path, entry in self.tree.entries().items() if entry.kind is Kind.LINK}

    def tells_of_a_save(self, path: str) -> bool:
        """Whether a file is called as a saved one beside it, and was written with it, or others in its folder are."""
        folder, _, name = path.rpartition("/")
        return bool(folder) and name.split(".", 1)[0] in self._saves_with_texts(folder)

    def _saves_with_texts(self, folder: str) -> frozenset[str]:
        if folder not in self._paired:
            called: dict[str, list[str]] = defaultdict(list)
            for path in self.below(folder):
                if path.rpartition("/")[0] == folder and path not in self.dirs:
                    called[path.rpartition("/")[2].split(".", 1)[0]].append(path)
            saved = {
                bare: held
                for bare, held in called.items()
                if len(held) > 1 and any(self.look.kind(path) in SAVED and not self.is_covered(path) for path in held)
            }
            entries = self.tree.entries()
            at_once = {
                bare
                for bare, held in saved.items()
                if self.times_differ
                and max(entries[path].mtime_ns for path in held) - min(entries[path].mtime_ns for path in held)
                < AT_ONCE
            }
            self._paired[folder] = frozenset(saved if len(saved) > 1 else at_once)
        return self._paired[folder]

    def open_families(self) -> Iterator[Family]:
        """Families of which no member has a role yet."""
        for family in self.families:
            if family.members[0] not in self._covered:
                yield family

    def sampled(self, family: Family) -> list[str]:
        """The members to look at: all of a small family, some spread over a large one."""
        members = family.members
        return members if len(members) <= SAMPLE else members[:: max(1, len(members) // SAMPLE)][:SAMPLE]

    def below(self, folder: str) -> list[str]:
        """Every path inside a folder."""
        start = bisect_left(self.paths, folder + "/")
        end = bisect_left(self.paths, folder + "0")  # '0' follows '/' in order
        return self.paths[start:end]

    def of_role(self, *roles: str) -> list[str]:
        """Files that have one of these roles so far."""
        entries = self.tree.entries()
        found = {p for item in self.findings if item.role in roles for p in self.matching(item.glob)}
        return sorted(path for path in found if entries[path].kind is Kind.FILE)

    def pairs(self, path: str) -> list[tuple[str, str]]:
        """Keys and plain values of a settings file; ``section.key`` for those inside sections or objects."""
        document = self.document(path)
        text = self.look.text(path)
        if worded := lined.spaced(document, text):
            return [(found.name, unquoted(found.value)) for found in worded]
        if document is None:
            return [(found.name, unquoted(found.value)) for found in lined.settings(text)]
        return list(_pairs_in(document.root, "", 0))

    def leaves(self, path: str) -> Iterator[str]:
        """Every plain value of a file that has a structure."""
        if self.look.kind(path) == "json":
            yield from _leaves_of(self.look.json(path))
            return
        document = self.document(path)
        waiting = [document.root] if document else []
        while waiting:
            node = waiting.pop()
            yield from (field.value for field in node.fields.values())
            waiting += [item for item in node.items if item.role is Role.RECORD]

    def document(self, path: str) -> Document | None:
        """A file's records, None when it has none; what is broken is noted once."""
        if path not in self._documents:
            self._documents[path] = None
            try:
                self._documents[path] = registry.parse(path, self.look.whole(path))
            except EmberKeepError as error:
                self.faults.extend(error.faults)
            except RecursionError:
                self.faults.append(Fault(f"{path}: records are nested too deeply"))
        return self._documents[path]

    def manifest(self, path: str) -> Extension | None:
        """What an archive says of itself, read once."""
        if path not in self._manifests:
            self._manifests[path] = read_manifest(self.look, path)
        return self._manifests[path]


def _leaves_of(value: object) -> Iterator[str]:
    if isinstance(value, dict | list):
        for inner in value.values() if isinstance(value, dict) else value:
            yield from _leaves_of(inner)
    else:
        yield str(value)


def _pairs_in(node: Node, prefix: str, depth: int) -> Iterator[tuple[str, str]]:
    for item in node.items if depth <= DEEPEST_PAIRS else ():
        if item.role is not Role.RECORD:
            continue
        if item.own is not None:
            yield prefix + item.name, item.own.strip('"')
        elif VALUE_ATTRIBUTE in item.fields:
            yield prefix + (named_by_attribute(item) or item.name), item.fields[VALUE_ATTRIBUTE].value
        inner = prefix if item.name == TOP else f"{prefix}{item.name.strip('[]')}."
        yield from _pairs_in(item, inner, depth + 1)


def numbered_glob(path: str) -> str:
    """The path with version numbers in its name left open, as the next release changes them."""
    folder, _, name = path.rpartition("/")
    open_name = re.sub(r"(?<=[.\-_])\d+(?:\.\d+)*(?=[.\-_]|$)", "*", globs.escape(name))
    return f"{globs.escape(folder)}/{open_name}" if folder else open_name


def suffix_glob(path: str) -> str:
    """All files of its folder that end as this one does."""
    folder, _, name = path.rpartition("/")
    suffix = name[name.rindex(".") :] if "." in name else name
    return f"{globs.escape(folder)}/*{globs.escape(suffix)}" if "." in name else globs.escape(path)
