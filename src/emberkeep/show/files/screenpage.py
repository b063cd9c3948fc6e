"""What a command says on a terminal, as an HTML file: the same views write it, onto a screen that keeps it as a page.

No scripts, nothing from elsewhere, readable on a phone.
"""

from __future__ import annotations

from collections.abc import Iterator
from html import escape
from typing import TYPE_CHECKING

from emberkeep.show.console import ASKS, BAD, GOOD, HEAD, QUIET, Screen
from emberkeep.show.files.report import page
from emberkeep.show.words import escape_control

if TYPE_CHECKING:
    from rich.console import RenderableType
    from rich.table import Table

_CLASSES = {ASKS: "asks", BAD: "gone", GOOD: "new", QUIET: "quiet"}


class PageScreen(Screen):
    """Keeps what it is told. The first heading is the page's title."""

    def __init__(self) -> None:
        super().__init__()
        self._title = ""
        self._parts: list[str] = []

    def html(self) -> str:
        """The page."""
        return page("screen.html", {}).render(title=self._title, body="\n".join(self._parts))

    def line(self, text: str = "", style: str = "") -> None:
        """A paragraph; a heading where it is one."""
        self.parts((text, style))

    def parts(self, *parts: tuple[str, str]) -> None:
        """The same in several styles."""
        whole = "".join(text for text, _ in parts)
        if not whole.strip():
            return
        if not self._title and parts[0][1] == HEAD:
            self._title = escape_control(whole)
            return
        if all(style == HEAD for text, style in parts if text.strip()):
            self._parts.append(f"<h2>{_shown(whole.strip().removesuffix(':'))}</h2>")
            return
        depth = (len(whole) - len(whole.lstrip(" "))) // 2
        inner = "".join(_styled(text, style) for text, style in parts)
        self._parts.append(f'<p class="in{min(depth, 3)}">{inner}</p>')

    def show(self, item: RenderableType, indent: int = 0) -> None:
        """A table."""
        from rich.table import Table

        if isinstance(item, Table):
            self._parts.append(f'<div class="wide"><table>{"".join(_rows(item))}</table></div>')
        else:
            self.line(str(item))

    def beside(self, left: Table, right: Table | None) -> None:
        """Two tables, below each other."""
        self.show(left)
        if right is not None:
            self.show(right)

    def next(self, text: str) -> None:
        """What to do next."""
        self.line(f"Next: {text}", QUIET)

    def note(self, text: str) -> None:
        """A message beside the result."""
        self.line(text, QUIET)


def _shown(text: str) -> str:
    return escape(escape_control(text))


def _styled(text: str, style: str) -> str:
    if not style:
        return _shown(text)
    return (
        f"<b>{_shown(text)}</b>" if style == HEAD else f'<span class="{_CLASSES.get(style, "")}">{_shown(text)}</span>'
    )


def _rows(item: Table) -> Iterator[str]:
    right = [column.justify == "right" for column in item.columns]
    heads = [str(column.header) for column in item.columns]
    if any(heads):
        yield f"<tr>{''.join(_cell('th', text, number) for text, number in zip(heads, right, strict=True))}</tr>"
    for cells in zip(*(list(column.cells) for column in item.columns), strict=True):
        yield f"<tr>{''.join(_cell('td', one, number) for one, number in zip(cells, right, strict=True))}</tr>"


def _cell(tag: str, item: object, number: bool) -> str:
    style = getattr(item, "style", "")
    kind = "count" if number else _CLASSES.get(style, "") if isinstance(style, str) else ""
    return f'<{tag} class="{kind}">{_shown(str(item))}</{tag}>'
