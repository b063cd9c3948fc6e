"""What a merge tells: the HTML report, the paragraph for the players."""

from __future__ import annotations

import re
import shutil
from html.parser import HTMLParser
from pathlib import Path
from typing import Any

import prometheus_client.openmetrics.parser as openmetrics
import prometheus_client.parser as prometheus
import pytest

from emberkeep.comparing.beside import Row, beside
from emberkeep.comparing.files import Comparison, compare_trees
from emberkeep.comparing.records import Kind
from emberkeep.comparing.totals import Totals
from emberkeep.errors import EmberKeepError
from emberkeep.fs.folder_tree import FolderTree
from emberkeep.fs.trees import NoTree
from emberkeep.keep.config import check_text
from emberkeep.keep.tables.updates import News
from emberkeep.merging.economy import Economy, economy
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
    words = " ".join(_Page(html(merged(OLD, OLD), Economy(), "title", "news")).words)
    assert "Nothing that the vendor's releases keep to is broken" in words
    assert "None was applied" in words


def test_what_strangers_wrote_stays_text() -> None:
    evil = "<script>alert(1)</script>"
    new = OLD.replace("rope", "x&lt;script&gt;").replace(">7<", f"><![CDATA[{evil}]]><")
    page = _Page(
        html(
            merged(OLD.replace(">7<", ">8<"), new),
            Economy((Totals("m/<b>", "r", "<i>", (), ()),)),
            f"title {evil}",
            "news",
        )
    )
    assert "script" not in page.tags
    assert "b" not in page.tags[page.tags.index("h2") :]
    assert evil in " ".join(page.words)


def test_the_paragraph_names_what_is_new_gone_and_changed_without_lines() -> None:
    new = OLD.replace("</r>", ' <good id="pie"><worth>3</worth></good>\n</r>').replace(">5<", ">6<")
    new = new.replace(' <good id="net"><worth>7</worth></good>\n', "")
    text = summary(merged(OLD, new))
    assert text == ("New in this update on our server: 1 new good (pie); 1 good gone (net); 1 good changed (rope).")
    mine = OLD.replace(">5<", ">9<")
    text = summary(merged(mine, OLD.replace(">5<", ">6<").replace(">7<", ">8<")))
    assert "1 good changed (net)" in text
    assert "1 thing is still to be decided" in text
    assert "stays as it was" in summary(merged(mine, OLD.replace(">7<", ">8<")))
    assert summary(merged(OLD, OLD)) == "This update changes nothing you see."


def test_the_paragraph_is_in_the_players_words_where_they_are_told() -> None:
    words = {"worth": ("worth more", "worth less")}
    new = OLD.replace(">5<", ">6<").replace(">7<", ">4<")
    told = summary(merged(OLD, new), News("{server}! {news} {open}", words), "Gannet Rock")
    assert told == "Gannet Rock! 1 good is worth more (rope); 1 good is worth less (net)."
    assert summary(merged(OLD, OLD), News("Tide. {news}", words)) == "Tide. This update changes nothing you see."
    many = "".join(f' <good id="g{at}"><worth>1</worth></good>\n' for at in range(9))
    told = summary(merged(OLD, OLD.replace("</r>", f"{many}</r>")))
    assert told == "New in this update on our server: 9 new goods, among them g0, g1 and g2."
    places = '<r>\n <reach at="1"><most>5</most></reach>\n <reach at="2"><most>5</most></reach>\n</r>\n'
    told = summary(merged(places, places.replace(">5<", ">6<"), places))
    assert told == "New in this update on our server: 2 reaches changed."


@pytest.mark.parametrize(
    ("told", "what"),
    [
        ('text = "{gone}"', "there is no placeholder {gone}"),
        ('words = { worth = ["more"] }', "should be two texts"),
        ('words = { worth = "more" }', "should be a list of texts"),
    ],
)
def test_what_cannot_be_meant_of_the_paragraph(told: str, what: str) -> None:
    text = f'format = 1\n[server]\nname = "x"\nfolder = "../x"\n[news]\n{told}\n'
    with pytest.raises(EmberKeepError) as caught:
        check_text(text, Path("x.keep/keep.toml"))
    assert what in str(caught.value.faults[0])


def test_the_command_gives_only_the_paragraph(recorded: Program) -> None:
    done = recorded("merge", "--summary")
    assert done.out.count("\n") == 1
    assert done.out.startswith("New in this update on Gannet Rock: ")
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


# --- sides beside each other, and pages of what a terminal shows -------------------------------------


THREE = {
    "old": '<r>\n <good id="rope"><worth>5</worth></good>\n <good id="net"><worth>7</worth></good>\n'
    ' <good id="oar"><worth>2</worth></good>\n</r>\n',
    "mine": '<r>\n <good id="rope"><worth>6</worth></good>\n <good id="net"><worth>9</worth></good>\n'
    ' <good id="oar"><worth>3</worth></good>\n</r>\n',
    "new": '<r>\n <good id="rope"><worth>8</worth></good>\n <good id="net"><worth>9</worth></good>\n'
    ' <good id="lamp"><worth>4</worth></good>\n</r>\n',
}


def three_sides(place: Path) -> dict[str, Path]:
    found = {}
    for name, text in THREE.items():
        (place / name).mkdir()
        (place / name / "stores.xml").write_text(text)
        found[name] = place / name
    return found


def rows_of(place: Path) -> dict[tuple[str, str], Row]:
    sides = three_sides(place)
    trees = {name: FolderTree(path, name) for name, path in sides.items()}
    mine, new = (compare_trees(trees["old"], trees[name], Comparison()) for name in ("mine", "new"))
    (file,) = beside(mine, new)
    return {(row.record, row.field): row for row in file.rows}


def test_three_sides_are_joined_by_record_and_what_both_changed_needs_me(tmp_path: Path) -> None:
    rows = rows_of(tmp_path)
    told = {key: (row.old, row.mine, row.new, row.needs_me) for key, row in rows.items() if key[1] == "worth"}
    assert told == {
        ("good[id=rope]", "worth"): ("5", "6", "8", True),
        ("good[id=net]", "worth"): ("7", "9", "9", False),  # both alike
        ("good[id=oar]", "worth"): ("2", "3", "2", True),  # the vendor removed the record
    }
    gone, come = rows["good[id=oar]", "(record)"], rows["good[id=lamp]", "(record)"]
    assert (gone.how_mine, gone.how_new, gone.needs_me) == (None, Kind.REMOVED, True)
    assert (come.how_mine, come.how_new, come.needs_me) == (None, Kind.ADDED, False)


def test_what_needs_me_beside_is_what_the_merge_asks(recorded: Program, place: Path) -> None:
    """Two ways to the same: sides that are only compared, and merged."""
    recorded("snapshot")
    asked = recorded("merge", "--from", "4.2", "--to", "4.3", "--json").json["questions"]
    done = recorded("diff", "defaults:4.2", "1", "--new", "defaults:4.3", "--report", "page.html", "--json")
    assert done.code == 1
    page = (place / "page.html").read_text()
    needs = re.search(r"<b>(\d+)</b>need you", page)
    assert needs
    fields = {(one["file"], one["record"], one["field"].lstrip("@")) for one in asked}
    assert len(fields) <= int(needs[1])
    for _, record, _ in fields:
        assert record in page


def test_the_page_is_whole_in_itself_and_shows_no_secret(tmp_path: Path) -> None:
    for name, word in (("old", "a"), ("mine", "hunter2")):
        (tmp_path / name).mkdir()
        (tmp_path / name / "server.ini").write_text(f"[x]\nrcon-password={word}\nport=1{word}\n<b>=1{word}\n")
    done = run_program("diff", "old/", "mine/", "--report", "page.html", cwd=tmp_path)
    assert done.code == 1, done
    text = (tmp_path / "page.html").read_text()
    page = _Page(text)
    assert "script" not in page.tags
    assert [link for link in page.links if "//" in link] == []
    assert "hunter2" not in re.sub("1hunter2", "", text)
    assert "1hunter2" in text
    assert "<b>=" not in text
    assert run_program("diff", "old/", "mine/", "--new", "mine/", cwd=tmp_path).code == 2


def test_surveys_and_wipes_are_pages_of_the_same_words(recorded: Program, place: Path) -> None:
    for command in (("survey",), ("wipe", "map", "players")):
        shown = recorded(*command)
        told = recorded(*command, "--report", "page.html")
        assert "Wrote page.html." in told.out
        page = _Page((place / "page.html").read_text())
        assert "script" not in page.tags
        said = re.sub(r"\W+", " ", " ".join(page.words))
        for line in shown.out.splitlines():
            for word in re.findall(r"\w{4,}", re.sub(r"\d+ \w+ ago|just now", "", line)):
                assert word in said, (command, line)


def test_metrics_are_read_back_by_the_collectors_own_parsers(recorded: Program, place: Path) -> None:
    recorded("survey", "--metrics", "before.prom")
    recorded("snapshot")
    recorded("verify")
    recorded("survey", "--metrics", "{keep}.prom")
    first, then = ((place / name).read_text() for name in ("before.prom", "gannet-rock.keep.prom"))
    for parse in (openmetrics.text_string_to_metric_families, prometheus.text_string_to_metric_families):
        before = figures(parse(first))
        after = figures(parse(then))
        assert before["emberkeep_snapshots"] == 0
        assert after["emberkeep_snapshots"] == 1
        assert after["emberkeep_store_bytes"] > before["emberkeep_store_bytes"]
        assert after["emberkeep_running"] == 0
        now = after["emberkeep_survey_timestamp_seconds"]
        assert 0 <= now - after["emberkeep_last_snapshot_timestamp_seconds"] < 60
        assert 0 <= now - after["emberkeep_last_verify_timestamp_seconds"] < 60
        assert "emberkeep_last_verify_timestamp_seconds" not in before
    assert '{server="Gannet Rock",version="4.2.0"}' in then


def figures(families: Any) -> dict[str, float]:
    return {sample.name: sample.value for family in families for sample in family.samples}


def test_the_economy_is_told_beside_what_the_old_defaults_came_to(tmp_path: Path) -> None:
    def goods(*worths: int) -> bytes:
        listed = "".join(f' <good id="g{at}" worth="{worth}" kind="food"/>\n' for at, worth in enumerate(worths))
        return f"<r>\n{listed}</r>\n".encode()

    old, mine, new = goods(1, 2, 3, 4), goods(2, 2, 3, 4), goods(1, 2, 3, 9)
    for name, data in (("old", old), ("mine", mine)):
        (tmp_path / name).mkdir()
        (tmp_path / name / "g.xml").write_bytes(data)
    merge = Merge("1", "2", (merge_file("g.xml", old, mine, new),))
    found = economy(merge, FolderTree(tmp_path / "mine"), FolderTree(tmp_path / "old"))
    ((each),) = found.sums
    (total,) = each.changed
    assert (total.left, total.right) == (11, 16)
    assert found.defaults[each.path, each.records, total.kind, "@worth" if "@" in total.field else "worth"] == 10
    assert economy(merge, FolderTree(tmp_path / "mine"), NoTree()).defaults == {}


@pytest.mark.long
def test_the_report_is_the_same_whether_the_old_release_is_a_folder_or_an_archive(place: Path) -> None:
    """With what the old defaults came to, which are looked for where they line up with the admin's files."""
    shutil.make_archive(str(place / "old"), "zip", place / "releases", "skerrylight-4.2")
    pages = []
    for old in ("releases/skerrylight-4.2", "old.zip"):
        words = ("--old-defaults", old, "--new-defaults", "releases/skerrylight-4.3.zip", "--mine", "gannet-rock")
        assert run_program("merge", *words, "--report", "page.html", cwd=place).code == 1
        pages.append((place / "page.html").read_text())
    assert pages[0] == pages[1]
