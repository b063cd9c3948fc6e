"""What a merge tells: the HTML report, the paragraph for the players."""

from __future__ import annotations

import re
from html.parser import HTMLParser
from pathlib import Path

import pytest

from emberkeep.comparing.totals import Totals
from emberkeep.merging.merge import merge_file
from emberkeep.merging.results import Merge
from emberkeep.show.files.report import html
from emberkeep.show.summary import summary
from tests.conftest import tree_state
from tests.program import Program, run_program

OLD = '<r>\n <good id="rope"><worth>5</worth></good>\n <good id="net"><worth>7</worth></good>\n</r>\n'


def merged(mine: str, new: str, old: str = OLD) -> Merge:
    return Merge("4.2", "4.3", (merge_file("m/stores.xml", old.encode(), mine.encode(), new.encode()),))


class _Page(HTMLParser):
    """Tags, the addresses they name, and the text."""

    def __init__(self, text: str) -> None:
        super().__init__()
        self.tags: list[str] = []
        self.links: list[str] = []
        self.words: list[str] = []
        self.feed(text)

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        self.tags.append(tag)
        self.links += [value or "" for name, value in attrs if name in ("src", "href")]

    def handle_data(self, data: str) -> None:
        self.words.append(data)


def test_the_report_is_one_page_of_its_own_with_everything_in_it(recorded: Program, place: Path, server: Path) -> None:
    before = tree_state(server)
    done = recorded("merge", "--report", "report.html")
    assert done.code == 1
    assert tree_state(server) == before
    text = (place / "report.html").read_text()
    page = _Page(text)
    assert "script" not in page.tags
    assert all(link.startswith(("#", "data:image/png;base64,")) for link in page.links)
    assert 'name="viewport"' in text
    words = " ".join(page.words)
    for part in (
        "Gannet Rock", "samphire-pie", "good[id=lamp-oil] afloat", "the vendor removed it", "line 360",
        "For your players", "good[id=great-lens] worth", "afloat", "before", "most-keepers",
    ):  # fmt: skip
        assert part in words, part
    assert any(link.startswith("data:image/png") for link in page.links)


@pytest.mark.long
def test_the_report_of_a_merge_that_is_written_tells_the_economy_before_it(recorded: Program, place: Path) -> None:
    recorded("merge", "--report", "preview.html")
    recorded("merge", "--report", "written.html", "--go")
    pages = [_Page((place / name).read_text()) for name in ("preview.html", "written.html")]
    assert pages[0].words == pages[1].words
    assert any(link.startswith("data:image/png") for link in pages[1].links)


def test_a_report_of_nothing_says_so() -> None:
    words = " ".join(_Page(html(merged(OLD, OLD), [], "title")).words)
    assert "Nothing that the vendor's releases keep to is broken" in words
    assert "None was applied" in words


def test_what_strangers_wrote_stays_text() -> None:
    evil = "<script>alert(1)</script>"
    new = OLD.replace("rope", "x&lt;script&gt;").replace(">7<", f"><![CDATA[{evil}]]><")
    page = _Page(html(merged(OLD.replace(">7<", ">8<"), new), [Totals("m/<b>", "r", "<i>", (), ())], f"title {evil}"))
    assert "script" not in page.tags
    assert "b" not in page.tags[page.tags.index("h2") :]
    assert evil in " ".join(page.words)


def test_the_paragraph_names_what_is_new_gone_and_changed_without_lines() -> None:
    new = OLD.replace("</r>", ' <good id="pie"><worth>3</worth></good>\n</r>').replace(">5<", ">6<")
    new = new.replace(' <good id="net"><worth>7</worth></good>\n', "")
    text = summary(merged(OLD, new))
    assert text == ("New in this update on our server: 1 new good (pie); 1 good gone (net); worth of rope is now 6.")
    mine = OLD.replace(">5<", ">9<")
    text = summary(merged(mine, OLD.replace(">5<", ">6<").replace(">7<", ">8<")))
    assert "worth of net is now 8" in text
    assert "1 thing is still to be decided" in text
    assert "stays as it was" in summary(merged(mine, OLD.replace(">7<", ">8<")))
    assert summary(merged(OLD, OLD)) == "This update changes nothing you see."


def test_the_command_gives_only_the_paragraph(recorded: Program) -> None:
    done = recorded("merge", "--summary")
    assert done.out.count("\n") == 1
    assert done.out.startswith("New in this update on our server: ")
    assert "14 new goods" in done.out
    assert not re.search(r"\bline \d", done.out)
    assert recorded("merge", "--json").json["summary"] == done.out.strip()


def test_passwords_are_shown_reported_and_given_to_nobody(tmp_path: Path) -> None:
    for name, value in (("old", "first1"), ("mine", "hunter2"), ("new", "third3")):
        (tmp_path / f"{name}.ini").write_text(
            f"[console]\nconsole-password = {value}\nport = {len(name)}\ntokens = {value}\n"
        )
    words = ("merge", "--old-defaults", "old.ini", "--new-defaults", "new.ini", "--mine", "mine.ini", "--details")
    done = run_program(*words, "--report", "r.html", cwd=tmp_path)
    asked = run_program(*words, "--json", cwd=tmp_path)
    differ = run_program("diff", "old.ini", "mine.ini", cwd=tmp_path)
    for text in (done.out, (tmp_path / "r.html").read_text(), asked.out, differ.out):
        assert "console-password" in text
        assert "port" in text
        assert not re.search("hunter2|first1|third3", text)
