"""A year of an admin's edits, made to a release's text at places that ``reference`` found: seeded, and of every class.

Each class is a function ``(Draft) -> text``; a draft knows the release the admin began from and the one that comes, so that
edits can fall on what the vendor changed, or beside it.
"""

from __future__ import annotations

import io
import json
import random
import re
from collections import Counter
from collections.abc import Callable
from dataclasses import dataclass
from functools import cached_property

import reference
import yaml
from reference import MEMBER, Fact, Keys

_NUMBER = re.compile(r"-?\d+(?:\.\d+)?")


@dataclass
class Draft:
    """What an admin sits before."""

    text: str
    new: str
    form: str
    keys: Keys
    rng: random.Random

    @cached_property
    def old_facts(self) -> Fact:
        return reference.read(self.text, self.form)

    @cached_property
    def new_facts(self) -> Fact:
        return reference.read(self.new, self.form)

    @cached_property
    def key_fields(self) -> set[str]:
        """The names of fields that tell records apart somewhere."""
        return {name.split("/")[0] for names in self.keys.values() for name in names.split()} - {"."}

    @cached_property
    def values(self) -> list[tuple[tuple[str, ...], Fact, Fact]]:
        """Plain values that may be edited with the path to them and what they stand in."""
        return [
            (path, fact, parent)
            for path, fact, parent in self.old_facts.walk()
            if fact.kind == "value"
            and fact.at
            and fact.name not in self.key_fields
            and (fact.name != MEMBER or _NUMBER.fullmatch(fact.value))
            and not (fact.name == "." and path[-2] in self.key_fields)
            and not self._is_key(path)
            and _editable(self.text[slice(*fact.at)])
        ]

    def _is_key(self, path: tuple[str, ...]) -> bool:
        """Whether a value is the text of records that are known by it."""
        return path[-1] == "." and (reference._declared("/".join(path[:-1]), self.keys) or "").split() == ["."]

    @cached_property
    def records(self) -> list[tuple[Fact, Fact]]:
        """What stands in the fullest containers, with these."""
        counts = Counter()
        inside: dict[tuple[str, ...], list[tuple[Fact, Fact]]] = {}
        for path, fact, parent in self.old_facts.walk():
            whole = fact.kind in ("element", "list", "map") or self.form in ("ini", "properties")
            if self.form == "toml" and any(child.kind == "map" for child in fact.children):
                continue
            if fact.span and whole and parent.kind != "value" and len(parent.children) > 3:
                inside.setdefault(path if parent.kind != "map" else (*path[:-1], "*"), []).append((fact, parent))
                counts[path if parent.kind != "map" else (*path[:-1], "*")] += 1
        return [pair for path, _ in counts.most_common(3) for pair in inside[path]]

    @cached_property
    def changed(self) -> list[tuple[Fact, Fact | None]]:
        """The admin's values that the vendor changed, with what they became."""
        found: list[tuple[Fact, Fact | None]] = []
        _changed(self.old_facts, self.new_facts, (), self.keys, found)
        mine = {id(fact) for _, fact, _ in self.values}
        return [(fact, other) for fact, other in found if id(fact) in mine]

    @cached_property
    def gone(self) -> set[int]:
        """The admin's records, by id, that the vendor removed."""
        found: set[int] = set()
        _gone(self.old_facts, self.new_facts, (), self.keys, found)
        return found

    @cached_property
    def changed_records(self) -> list[Fact]:
        """Records in which the vendor changed something."""
        ids = {id(fact) for fact, _ in self.changed}
        return [fact for fact, _ in self.records if any(id(inner) in ids for _, inner, _ in fact.walk())]

    def some(self, items: list, count: int) -> list:  # type: ignore[type-arg]
        return self.rng.sample(items, min(count, len(items)))


def _editable(raw: str) -> bool:
    bare = raw.strip()
    return bool(bare) and "\n" not in raw and len(raw) < 200 and not bare.startswith(("&", "*", "!", "|", ">", "<"))


def _changed(old: Fact, new: Fact, path: tuple[str, ...], keys: Keys, found: list[tuple[Fact, Fact | None]]) -> None:
    if old.said == new.said:
        return
    if old.kind == "value" or new.kind != old.kind:
        if old.kind == new.kind == "value":
            found.append((old, new))
        return
    sides = reference.named_alike((old, new), path, keys)
    for key, one in sides[0].items():
        if key in sides[1]:
            _changed(one, sides[1][key], (*path, one.name), keys, found)


def _gone(old: Fact, new: Fact, path: tuple[str, ...], keys: Keys, found: set[int]) -> None:
    if old.said == new.said or old.kind == "value":
        return
    sides = reference.named_alike((old, new), path, keys)
    for key, one in sides[0].items():
        if key in sides[1]:
            _gone(one, sides[1][key], (*path, one.name), keys, found)
        else:
            found |= {id(one), *(id(inner) for _, inner, _ in one.walk())}


def _splice(text: str, edits: list[tuple[int, int, str]]) -> str:
    done = []
    at = 0
    for start, end, put in sorted(edits):
        if start < at:
            continue
        done += [text[at:start], put]
        at = end
    return "".join([*done, text[at:]])


def other_value(raw: str, rng: random.Random) -> str:
    """Another value, spelled as that one is."""
    quote = raw[0] if raw[0] in "\"'" and raw[-1] == raw[0] and len(raw) > 1 else ""
    bare = raw[len(quote) : len(raw) - len(quote)] if quote else raw.strip()
    if bare in ("true", "false"):
        put = "false" if bare == "true" else "true"
    elif not quote and re.fullmatch(r"0|-?[1-9]\d{0,12}", bare):
        put = str(int(bare) + rng.randint(2, 90))
    elif re.fullmatch(r"-?\d+\.\d+", bare):
        put = bare + str(rng.randint(1, 9))
    elif bare == "null":
        put = "null"
    else:
        put = f"{bare} kept" if " " in bare else f"{bare}kept"
    lead = raw[: len(raw) - len(raw.lstrip())]
    tail = raw[len(raw.rstrip()) :]
    return f"{quote}{put}{quote}" if quote else lead + put + tail


def _edit_values(draft: Draft, facts: list[Fact]) -> list[tuple[int, int, str]]:
    return [(*fact.at, other_value(draft.text[slice(*fact.at)], draft.rng)) for fact in facts if fact.at]


def _line_span(text: str, start: int, end: int) -> tuple[int, int]:
    """The whole lines that a span stands on, where it stands on them alone."""
    first = text.rfind("\n", 0, start) + 1
    last = text.find("\n", end)
    last = len(text) if last < 0 else last + 1
    return (first, last) if not text[first:start].strip() and not text[end:last].strip(" \t\r\n,") else (start, end)


def _removal(draft: Draft, fact: Fact) -> tuple[int, int, str]:
    """What goes when a record is deleted by hand."""
    assert fact.span is not None
    text, (start, end) = draft.text, fact.span
    if draft.form == "yaml":
        first = text.rfind("\n", 0, start) + 1
        last = len(text[:end].rstrip(" \n\r")) if end else end
        stop = text.find("\n", last)
        lead = text[first:start]
        if lead.strip() in ("", "-") and not text[last : stop if stop >= 0 else None].strip():
            return first, stop + 1, ""
        return start, start, ""
    if draft.form == "json":
        after = re.compile(r"\s*,").match(text, end)
        if after:
            whole = _line_span(text, start, after.end())
            if whole != (start, after.end()):
                return *whole, ""
            space = re.compile(r"[ \t]*").match(text, after.end())
            return start, space.end() if space else after.end(), ""
        before = re.compile(r",\s*$").search(text, 0, start)
        return (before.start() if before else start), end, ""
    whole = _line_span(text, start, end)
    if draft.form == "toml" and text[whole[1] : whole[1] + 1] in ("\n", "\r"):
        whole = (whole[0], text.index("\n", whole[1]) + 1)
    return *whole, ""


# --- the classes of edits -----------------------------------------------------


def untouched_values(draft: Draft) -> list[Fact]:
    changed = {id(fact) for fact, _ in draft.changed}
    return [fact for _, fact, _ in draft.values if id(fact) not in changed]


def scattered(draft: Draft) -> str:
    """Values here and there."""
    return _splice(draft.text, _edit_values(draft, draft.some(untouched_values(draft), 12)))


def column(draft: Draft) -> str:
    """A number doubled wherever it stands."""
    names = Counter(path for path, fact, _ in draft.values if re.fullmatch(r"[1-9]\d{0,8}", fact.value))
    if not names:
        return scattered(draft)
    chosen = draft.rng.choice(names.most_common(3))[0]
    edits = []
    for path, fact, _ in draft.values:
        if path == chosen and fact.at and re.fullmatch(r"[1-9]\d{0,8}", fact.value):
            raw = draft.text[slice(*fact.at)]
            edits.append((*fact.at, raw.replace(fact.value, str(int(fact.value) * 2), 1)))
    return _splice(draft.text, edits)


def deletions(draft: Draft) -> str:
    """Records deleted, those that the vendor left alone."""
    changed = {id(fact) for fact in draft.changed_records}
    calm = [fact for fact, _ in draft.records if id(fact) not in changed]
    return _splice(draft.text, [_removal(draft, fact) for fact in draft.some(calm, 6)])


def deleted_changed(draft: Draft) -> str:
    """Records deleted, those that the vendor changed."""
    return _splice(draft.text, [_removal(draft, fact) for fact in draft.some(draft.changed_records, 4)])


def additions(draft: Draft) -> str:
    """Records of the admin's own, beside those that the vendor changed."""
    beside = draft.some(draft.changed_records, 4) or draft.some([fact for fact, _ in draft.records], 4)
    edits = []
    for fact in beside:
        assert fact.span is not None
        start, end, _ = _removal(draft, fact)
        block = draft.text[start:end]
        own = _as_own(draft, fact, block, start)
        if own is not None and (draft.form != "json" or block.rstrip().endswith(",")):
            edits.append((start, start, own))
    return _splice(draft.text, edits)


def _as_own(draft: Draft, fact: Fact, block: str, start: int) -> str | None:
    """A record's text with another identity; None where it has none to change."""
    if draft.form in ("ini", "properties", "toml") and fact.kind == "value":
        return "own-" + block
    inner = [
        (path, found)
        for path, found, _ in fact.walk()
        if found.at and found.kind == "value" and _editable(draft.text[slice(*found.at)])
    ]
    wanted = [found for path, found in inner if len(path) <= 2 and (path[0] in draft.key_fields)]
    edits = [
        (found.at[0] - start, found.at[1] - start, _other_name(draft.text[slice(*found.at)]))
        for found in wanted
        if found.at
    ]
    if fact.name != MEMBER and draft.form in ("json", "yaml"):
        name = re.compile(re.escape(fact.name)).search(block)
        edits += [(name.start(), name.end(), "own-" + fact.name)] if name else []
    return _splice(block, edits) if edits else None


def _other_name(raw: str) -> str:
    found = re.fullmatch(r"""(\s*["']?)(.*?)(["']?\s*)""", raw, re.DOTALL)
    assert found is not None
    if re.fullmatch(r"\d+", found[2]):
        return f"{found[1]}7{found[2]}7{found[3]}"
    return f"{found[1]}own-{found[2]}{found[3]}"


def alike(draft: Draft) -> str:
    """The vendor's own change, made by hand before."""
    edits = []
    for fact, other in draft.some(draft.changed, 12):
        if other is not None and other.at and fact.at:
            edits.append((*fact.at, draft.new[slice(*other.at)]))
    return _splice(draft.text, edits)


def overlaps(draft: Draft) -> str:
    """Values that the vendor changes too, to something else."""
    return _splice(draft.text, _edit_values(draft, draft.some([fact for fact, _ in draft.changed], 8)))


def comments(draft: Draft) -> str:
    """Comments above records."""
    marks = {"xml": ("<!-- ", " -->"), "json": ("// ", "")}
    lead, tail = marks.get(draft.form, ("# ", ""))
    if draft.form == "json":
        return scattered(draft)
    edits = []
    kept = [fact for fact, _ in draft.records if id(fact) not in draft.gone]
    for number, fact in enumerate(draft.some(kept, 5)):
        assert fact.span is not None
        first = draft.text.rfind("\n", 0, fact.span[0]) + 1
        before = draft.text[first : fact.span[0]]
        if before.strip() in ("", "-"):
            indent = before[: len(before) - len(before.lstrip())]
            edits.append((first, first, f"{indent}{lead}ours, see note {number}{tail}{_newline(draft.text)}"))
    return _splice(draft.text, [*edits, *_edit_values(draft, draft.some(untouched_values(draft), 4))])


def _newline(text: str) -> str:
    return "\r\n" if "\r\n" in text else "\n"


def reordered(draft: Draft) -> str:
    """A record carried some places up."""
    text = draft.text
    order = [fact for fact, _ in draft.records]
    for _ in range(8):
        if len(order) < 8:
            break
        at = draft.rng.randrange(5, len(order) - 1)
        fact, target = order[at], order[at - draft.rng.randint(2, 5)]
        parents = {id(child): parent for _, child, parent in draft.old_facts.walk()}
        if parents[id(fact)] is not parents[id(target)] or fact.span is None or target.span is None:
            continue
        start, end, _ = _removal(draft, fact)
        first = _removal(draft, target)[0]
        block = text[start:end]
        if start <= first or (draft.form == "json" and not block.rstrip().endswith(",")):
            continue
        return text[:first] + block + text[first:start] + text[end:]
    return scattered(draft)


def saved_by_windows(draft: Draft) -> str:
    """Saved by an editor that writes CRLF and a byte-order mark."""
    return "\ufeff" + re.sub(r"\r?\n", "\r\n", scattered(draft).removeprefix("\ufeff"))


def indented(draft: Draft) -> str:
    """Another depth of indentation."""
    text = scattered(draft)
    if draft.form == "json" and not draft.text.lstrip().startswith("/") and "\n\t// " not in draft.text:
        return json.dumps(json.loads(text), indent=3, ensure_ascii=False) + "\n"
    if draft.form == "xml":
        return re.sub(r"^[ \t]+(?=<)", lambda found: found[0] * 2, text, flags=re.MULTILINE)
    return text


def saved_by_a_program(draft: Draft) -> str:
    """Read and written by another program."""
    text = scattered(draft).removeprefix("\ufeff")
    if draft.form == "json" and not draft.text.lstrip().startswith("/") and "\n\t// " not in draft.text:
        return json.dumps(json.loads(text), indent="\t")
    if draft.form == "yaml":
        out = io.StringIO()
        documents = list(yaml.load_all(text, Loader=_AsWritten))
        yaml.dump_all(documents, out, Dumper=_Writer, sort_keys=False, allow_unicode=True)
        return out.getvalue()
    return text


class _AsWritten(yaml.CSafeLoader):
    """Every plain value as the text that it is."""


class _Writer(yaml.CSafeDumper):
    """Writes such texts back unquoted."""

    def ignore_aliases(self, data: object) -> bool:
        return True


class _Plain(str):
    pass


def _construct_plain(loader: _AsWritten, node: yaml.ScalarNode) -> str:
    return str(node.value) if node.style in ("'", '"', "|", ">") else _Plain(node.value)


for _tag in ("int", "float", "bool", "null", "timestamp", "str", "value"):
    _AsWritten.add_constructor(f"tag:yaml.org,2002:{_tag}", _construct_plain)  # type: ignore[arg-type]


def _represent_plain(dumper: _Writer, data: _Plain) -> yaml.ScalarNode:
    tag = dumper.resolve(yaml.ScalarNode, str(data), (True, False))
    return dumper.represent_scalar(tag, str(data))


_Writer.add_representer(_Plain, _represent_plain)


def year(draft: Draft) -> str:
    """All of it, as a year brings it."""
    changed = {id(fact) for fact in draft.changed_records}
    calm = [fact for fact, _ in draft.records if id(fact) not in changed]
    edits = _edit_values(draft, draft.some(untouched_values(draft), 20))
    edits += _edit_values(draft, draft.some([fact for fact, _ in draft.changed], 3))
    edits += [_removal(draft, fact) for fact in draft.some(calm, 3)]
    return _splice(draft.text, edits)


CLASSES: dict[str, Callable[[Draft], str]] = {
    "scattered": scattered,
    "column": column,
    "deleted": deletions,
    "deleted-changed": deleted_changed,
    "added": additions,
    "alike": alike,
    "overlap": overlaps,
    "comments": comments,
    "reordered": reordered,
    "windows": saved_by_windows,
    "indented": indented,
    "resaved": saved_by_a_program,
    "year": year,
}
