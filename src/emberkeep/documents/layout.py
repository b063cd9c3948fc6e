"""Where inserted and removed nodes go on the page: whole lines where there are lines, in the admin's indentation."""

from __future__ import annotations

import re
from bisect import bisect_left, bisect_right
from collections.abc import Sequence

from emberkeep.documents.encoding import BOM
from emberkeep.documents.model import Document, Edit, Node, Role

_WHITE = re.compile(r"\ufeff?([ \t]*)")
_BREAK = re.compile(r"\r\n|\n|\r")


def line_start(text: str, at: int) -> int:
    """Offset of the first character of the line that ``at`` is on; a line end belongs to the line it ends."""
    if text[at - 1 : at + 1] == "\r\n":
        at -= 1
    low = text.rfind("\n", 0, at)
    return max(low, text.rfind("\r", low + 1, at)) + 1


def line_indent(text: str, at: int) -> str:
    """The white space that the line of ``at`` begins with."""
    found = _WHITE.match(text, line_start(text, at))
    return found[1] if found else ""


def line_end(text: str, at: int) -> int:
    """Offset behind the line end of the line that ``at`` is on, or the end of the text."""
    found = _BREAK.search(text, at)
    return found.end() if found else len(text)


def led_by(items: list[Node], text: str, header: int) -> list[Node]:
    """Take the comments that stand directly above a header out of the section before it."""
    first, below = len(items), header
    while first and items[first - 1].role is Role.COMMENT and not items[first - 1].trailing:
        if text[items[first - 1].end : below].count("\n") > 1:
            break
        first -= 1
        below = items[first].start
    led = items[first:]
    del items[first:]
    return led


def at_end(section: Node, text: str) -> list[Node]:
    """Take the comments at the end of a text out of its last section where a blank line stands before them: they are
    the file's own, as those directly above a header are, so that it may come and go below them."""
    led = led_by(section.items, text, len(text.rstrip()))
    before = section.items[-1].end if section.items else section.end
    if led and text[before : led[0].start].count("\n") > 1:
        return led
    section.items.extend(led)
    return []


def indent_at(text: str, at: int) -> str | None:
    """The white space before ``at`` on its line; None when something else stands there too."""
    start = line_start(text, at)
    before = text[start:at].lstrip(BOM)
    return before if not before.strip(" \t") else None


def ends_its_line(text: str, at: int) -> bool:
    """Whether only white space follows ``at`` on its line."""
    return not text[at : line_end(text, at)].strip()


def remove(document: Document, nodes: Sequence[Node]) -> Edit:
    """Take out neighbouring nodes, with their lines where nothing else stands on them."""
    text = document.text
    start, end = nodes[0].start, document.extent(nodes[-1])[1]
    if indent_at(text, start) is not None and ends_its_line(text, end):
        first, last = line_start(text, start), line_end(text, end)
        if last == len(text) and _blank_line_before(text, first):
            first = line_start(text, first - 1)  # what set the last one apart goes with it
        if last == len(text) and not text.endswith(("\n", "\r")) and first > 0:
            # The file had no final line end: the one before goes instead.
            first -= 2 if text[first - 2 : first] == "\r\n" else 1
        if text.startswith(BOM) and first == 0:
            first = 1
        if _blank_line_before(text, first) and _nothing_at(text, last):
            first = line_start(text, first - 1)  # else two blank lines would meet, or one would end a container
        elif not text[:first].strip(BOM) and last < len(text) and not text[last : line_end(text, last)].strip():
            last = line_end(text, last)  # else a blank line would begin the file
        return Edit(first, last, "")
    if text[start - 1 : start] in (" ", "\t"):
        while text[start - 1 : start] in (" ", "\t"):
            start -= 1
    else:  # the first on its line: the space that set the next one apart goes
        while text[end : end + 1] in (" ", "\t") and not ends_its_line(text, end):
            end += 1
    return Edit(start, end, "")


def removals(document: Document, nodes: Sequence[Node]) -> list[Edit]:
    """Take out nodes wherever they stand; a container that loses all it holds is written as an empty one."""
    gone = {id(node) for node in nodes}
    edits: list[Edit] = []
    found: set[int] = set()
    waiting = [document.root]
    while waiting:
        holder = waiting.pop()
        if here := gone.intersection(map(id, holder.items)):
            edits += removals_from(document, holder, gone)
            found |= here
        waiting += holder.items
    assert found == gone, "nodes of this document"
    return edits


def removals_from(document: Document, parent: Node, gone: set[int], *, filled_again: bool = False) -> list[Edit]:
    """Take items, by their ``id()``, out of one record, neighbours together. One that loses all it holds is written as
    an empty one, unless something comes in their place."""
    edits, run = [], []
    for item in (*parent.items, None):
        if item is not None and id(item) in gone:
            run.append(item)
        elif run:
            edits.append(remove(document, run))
            run = []
    is_empty = bool(gone) and all(id(item) in gone for item in parent.items)
    return [*edits, *(document.emptied(parent) if is_empty and not filled_again else ())]


def reconciled(text: str, edits: Sequence[Edit]) -> list[Edit]:
    """Removals and insertions at the very end of a text without final line end, made to fit each other.

    Such a removal also takes the line end before it; an insertion that needs this line end takes the removal's place.
    """
    edits = _united(text, edits)
    ends = text.endswith(("\n", "\r"))
    at_end = [edit for edit in edits if not ends and edit.end == len(text) > edit.start and not edit.text]
    result = list(edits)
    for removal in at_end:
        start = line_end(text, removal.start)
        behind = [edit for edit in edits if edit.start == edit.end and removal.start < edit.start < removal.end]
        if behind and text[removal.start : removal.start + 1] in ("\r", "\n"):
            joined = "".join(edit.text for edit in behind).rstrip("\r\n")
            result = [edit for edit in result if edit is not removal and edit not in behind]
            result.append(Edit(start, removal.end, joined))
    return _yielding(text, result)


def _yielding(text: str, edits: Sequence[Edit]) -> list[Edit]:
    """Removals that leave the blank lines they would take where something is put between these and what goes."""
    places = sorted(edit.start for edit in edits if edit.start == edit.end)
    found = []
    for edit in edits:
        start, end = edit.start, edit.end
        for place in () if edit.text else places[bisect_right(places, start) : bisect_left(places, end)]:
            if not text[place:end].strip():
                end = place
            elif not text[start:place].strip():
                start = place
        found.append(edit if (start, end) == (edit.start, edit.end) else Edit(start, end, edit.text))
    return found


def finished(document: Document, edits: Sequence[Edit]) -> str:
    """A document's text with edits made. Collision where two of them want the same place."""
    return document.finish(reconciled(document.text, edits)) if edits else document.text


def _united(text: str, edits: Sequence[Edit]) -> list[Edit]:
    """Removals that reach into each other made one: of a record's last line, and of what follows it."""
    removals = sorted(edit for edit in edits if not edit.text and edit.end > edit.start)
    found = [edit for edit in edits if edit.text or edit.end == edit.start]
    for edit in removals:
        last = found[-1] if found and not found[-1].text and found[-1].end > found[-1].start else None
        if last is None or edit.start >= last.end:
            found.append(edit)
            continue
        start, end = last.start, max(last.end, edit.end)
        if end == len(text) and not text.endswith(("\n", "\r")) and 0 < start == line_start(text, start):
            start -= 2 if text[start - 2 : start] == "\r\n" else 1
        found[-1] = Edit(start, end, "")
    return found


def _blank_line_before(text: str, at: int) -> bool:
    return at > 0 and not text[line_start(text, at - 1) : at].strip()


def _nothing_at(text: str, at: int) -> bool:
    """Whether a blank line or a closing tag stands at ``at``."""
    line = text[at : line_end(text, at)].strip()
    return at < len(text) and (not line or line.startswith("</"))


def insert_after(document: Document, node: Node, source: Document, run: Sequence[Node]) -> Edit:
    """Put ``run``, neighbours in ``source``, behind ``node`` and the comments on its line."""
    text = document.text
    at = document.extent(node)[1]
    if node.start == node.end and text[line_start(text, at) : at] in ("", BOM):
        # nothing is written of it, as of a table without a header
        at = max(at, len(BOM)) if text.startswith(BOM) else at
        apart = _blank_lines(source, run, before=False) if text[at:].strip() else 0
        block = moved_block(document, source, run, line_indent(text, at))
        return Edit(at, at, block + (1 + apart) * document.source.newline)
    if not ends_its_line(text, at):
        return Edit(at, at, _inline(document, source, run, before=False))
    indent = document.block_indent(node)
    indent = line_indent(text, node.start) if indent is None else indent
    newline = document.source.newline
    block = moved_block(document, source, run, indent)
    end = line_end(text, at)
    apart = _blank_lines(source, run, before=True)
    if stands_apart(source, run) and (behind := _behind_blank_lines(text, end)) is not None:
        return Edit(behind, behind, block + newline)  # what sets it apart is there
    block = apart * newline + block
    if end == len(text) and not text.endswith(("\n", "\r")):
        return Edit(end, end, newline + block)
    return Edit(end, end, block + newline)


def _behind_blank_lines(text: str, at: int) -> int | None:
    """Behind the blank lines at ``at``, where there are such and something follows them."""
    behind = at
    while behind < len(text) and not text[behind : line_end(text, behind)].strip():
        behind = line_end(text, behind)
    return behind if at < behind < len(text) else None


def insert_before(document: Document, node: Node, source: Document, run: Sequence[Node]) -> Edit:
    """Put ``run``, neighbours in ``source``, before ``node``."""
    text = document.text
    newline = document.source.newline
    indent = indent_at(text, node.start)
    if indent is None:
        indent = document.block_indent(node)
        if indent is None:
            return Edit(node.start, node.start, _inline(document, source, run, before=True))
        block = moved_block(document, source, run, indent)
        return Edit(node.start, node.start, f"{block.removeprefix(indent)}{newline}{indent}")
    at = node.start - len(indent)
    block = moved_block(document, source, run, indent)
    return Edit(at, at, block + newline + _blank_lines(source, run, before=False) * newline)


def _inline(document: Document, source: Document, run: Sequence[Node], *, before: bool) -> str:
    return document.inline([document.adopt_raw(source.raw(node), None) for node in run], before=before)


def _space_before(text: str, at: int) -> str:
    start = at
    while start > 0 and text[start - 1].isspace():
        start -= 1
    return text[start:at]


def _space_after(text: str, at: int) -> str:
    end = at
    while end < len(text) and text[end].isspace():
        end += 1
    return text[at:end]


def stands_apart(source: Document, run: Sequence[Node]) -> bool:
    """Whether blank lines stand in its own file before a run and none behind it."""
    return bool(_blank_lines(source, run, before=True)) and not _blank_lines(source, run, before=False)


def _blank_lines(source: Document, run: Sequence[Node], *, before: bool) -> int:
    """Blank lines that stand before (or behind) the run in its own file."""
    text, start, end = source.text, run[0].start, run[-1].end
    gap = _space_before(text, start) if before else _space_after(text, end)
    breaks = len(_BREAK.findall(gap))
    return max(0, min(breaks - 1, 2))


def moved_block(document: Document, source: Document, run: Sequence[Node], indent: str) -> str:
    """The text of ``run`` in the indentation, line ends and steps of ``document``; no line end behind it."""
    start, end = run[0].start, run[-1].end
    old_indent = indent_at(source.text, start)
    if old_indent is None:
        old_indent = source.block_indent(run[0]) or ""
    old_unit = source.indent_unit
    new_unit = document.indent_unit if document.indents_freely else old_unit
    fixed = list(source.fixed_spans(start, end))
    if document.keeps_indents:
        indent = old_indent
    parts = [indent]
    at = start
    while at < end:
        stop = min(line_end(source.text, at), end)
        parts.append(source.text[at:stop])
        at = stop
        if at >= end or any(low < at <= high for low, high in fixed):
            continue
        white = line_indent(source.text, at)
        blank = source.text[at + len(white) : at + len(white) + 1] in ("\n", "\r")
        parts.append("" if blank else _converted(white, old_indent, indent, old_unit, new_unit))
        at += len(white)
    return document.adopt_raw("".join(parts), None)


def _converted(white: str, old_indent: str, new_indent: str, old_unit: str, new_unit: str) -> str:
    if not white.startswith(old_indent):
        return white
    rest = white[len(old_indent) :]
    steps, remainder = divmod(len(rest), len(old_unit))
    if remainder or rest != old_unit * steps:
        return new_indent + rest
    return new_indent + new_unit * steps


def with_newlines(text: str, newline: str) -> str:
    """``text`` with every line end spelled ``newline``."""
    return _BREAK.sub(newline, text)
