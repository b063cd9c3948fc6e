"""Learned checks: what always holds in the vendor's releases, where merged files break it, and who brought it."""

from __future__ import annotations

import json
import random
from collections.abc import Sequence
from contextvars import Context
from pathlib import Path

import pytest

from emberkeep.documents import registry
from emberkeep.documents.encoding import Text
from emberkeep.documents.model import Document
from emberkeep.fs.folder_tree import FolderTree
from emberkeep.merging import checks, paths
from emberkeep.merging.answers import Answers
from emberkeep.merging.checks import Record
from emberkeep.merging.inspection import inspect
from emberkeep.merging.merge import merge_trees, no_rules
from emberkeep.merging.results import MERGED, VENDORS, YOURS, Breach
from tests.program import Program

KINDS = ("food", "tackle", "lamp")


def goods(count: int = 40) -> list[dict[str, str]]:
    chance = random.Random("goods")
    return [
        {"id": f"g{at}", "kind": KINDS[at % 3], "least": str(least := chance.randrange(5)), "most": str(least + chance.randrange(9))}
        for at in range(count)
    ]  # fmt: skip


def shops(count: int = 40) -> list[dict[str, str]]:
    return [{"id": f"s{at}", "sells": f"g{at % 11}", "rate": f"{at}.5"} for at in range(count)]


def xml(name: str, rows: Sequence[dict[str, str]]) -> str:
    lines = "".join(
        f"  <{name} {' '.join(f'{key}={json.dumps(value)}' for key, value in row.items())}/>\n" for row in rows
    )
    return f"<all>\n{lines}</all>\n"


def as_json(name: str, rows: Sequence[dict[str, str]]) -> str:
    """The same with numbers, in one array: a file of which one large record holds all others."""
    records = [
        {key: int(value) if value.lstrip("-").isdigit() else value for key, value in row.items()} for row in rows
    ]
    return json.dumps({"release": "9", name: records}, indent=1) + "\n"


SPELLINGS = {"xml": xml, "json": as_json}


class World:
    """Old, mine and new as folders with two files that speak of each other."""

    def __init__(self, place: Path, ending: str = "xml") -> None:
        self.place = place
        self.ending = ending
        self.sides = {side: (goods(), shops()) for side in ("old", "mine", "new")}

    def breaches(self, silenced: Sequence[str] = ()) -> list[Breach]:
        trees = {}
        for side, (first, second) in self.sides.items():
            folder = self.place / side
            folder.mkdir(parents=True)
            for name, rows in (("good", first), ("shop", second)):
                (folder / f"{name}s.{self.ending}").write_text(SPELLINGS[self.ending](name, rows))
            trees[side] = FolderTree(folder)
        merge = merge_trees(trees["old"], trees["new"], trees["mine"])
        assert not merge.open
        return list(inspect(merge, [trees["old"], trees["new"]], trees["mine"], trees["new"], no_rules, silenced))


@pytest.fixture
def world(tmp_path: Path) -> World:
    return World(tmp_path)


def test_where_nothing_is_broken_nothing_is_said(world: World) -> None:
    world.sides["mine"][0][3]["most"] = "77"
    world.sides["new"][0][4]["most"] = "78"
    assert world.breaches() == []


@pytest.mark.parametrize("ending", ["xml", "json"])
def test_a_merge_and_its_checks_read_each_text_once(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, ending: str
) -> None:
    world = World(tmp_path, ending)
    world.sides["mine"][0][3]["least"] = "500"
    world.sides["new"][0][4]["most"] = "78"
    found = world.breaches()
    read: list[str] = []
    real = registry.parse_text

    def parse_text(path: str, source: Text, chosen: str) -> Document | None:
        read.append(source.text)
        return real(path, source, chosen)

    monkeypatch.setattr(registry, "parse_text", parse_text)
    sides = [tmp_path / name for name in ("old", "new", "mine")]
    merged = Context().run(paths.merge, *sides, Answers({}))  # where nothing was read before
    assert len(read) == len(set(read)) == 5  # of one file the three sides and the result, of the other one for all
    assert list(merged.breaches) == found != []


@pytest.mark.parametrize(
    ("field", "value", "words"),
    [
        ("least", "500", "least 500 is above most"),
        ("most", "-1", "below zero"),
        ("most", "lots", "is no whole number"),
        ("most", "7.5", "is no whole number"),
        ("kind", "fod", "is none of food, lamp, tackle"),
    ],
)
def test_a_hand_edit_that_breaks_a_rule_is_named_as_yours(world: World, field: str, value: str, words: str) -> None:
    world.sides["mine"][0][5][field] = value
    world.sides["new"][0][9]["most"] = "30"
    found = [breach for breach in world.breaches() if words in breach.what]
    (breach,) = found
    assert (breach.record, breach.side, breach.check.file, breach.line) == ("good[id=g5]", YOURS, "goods.xml", 7)
    assert breach.check.support == 40


def test_a_missing_field_is_named(world: World) -> None:
    del world.sides["mine"][0][5]["kind"]
    assert [(breach.record, breach.what) for breach in world.breaches()] == [("good[id=g5]", "lacks kind")]


def test_two_innocent_changes_that_break_a_rule_together_are_the_merges(world: World) -> None:
    for side in world.sides.values():
        side[0][5].update(least="3", most="10")
    world.sides["mine"][0][5]["least"] = "9"
    world.sides["new"][0][5]["most"] = "4"
    (breach,) = world.breaches()
    assert (breach.what, breach.side) == ("least 9 is above most 4", MERGED)


def test_a_goods_name_that_no_longer_stands_anywhere_is_named(world: World) -> None:
    world.sides["new"] = (goods()[:4] + goods()[5:], [shop for shop in shops() if shop["sells"] != "g4"])
    world.sides["mine"][1].append({"id": "own", "sells": "g4", "rate": "1.0"})
    (breach,) = world.breaches()
    assert breach.record == "shop[id=own]"
    assert "sells is g4, which does not stand in goods.xml" in breach.what


def test_records_that_stand_twice_are_named(world: World) -> None:
    world.sides["mine"][0].append(dict(world.sides["mine"][0][2]))
    assert [breach.what for breach in world.breaches()] == ["stands there twice"]


def test_what_the_vendor_breaks_itself_is_no_rule(world: World) -> None:
    world.sides["new"][0][5].update(least="500", most="3", kind="odd")
    world.sides["mine"][0][7].update(least="600", most="3")
    assert [breach for breach in world.breaches() if "above" in breach.what] == []
    assert VENDORS not in {breach.side for breach in World(world.place / "again").breaches()}


def test_little_support_makes_no_rule(world: World) -> None:
    for side in world.sides.values():
        del side[0][11:], side[1][11:]
    world.sides["mine"][0][5].update(least="500", kind="fod")
    assert world.breaches() == []


def test_a_check_is_silenced_by_its_name(world: World) -> None:
    world.sides["mine"][0][5]["least"] = "500"
    assert world.breaches(["goods.xml: good least <= most"]) == []


@pytest.mark.long
def test_the_sample_server_has_no_false_alarm_and_a_real_one_is_told(recorded: Program, server: Path) -> None:
    assert recorded("merge", "--json").json["breaches"] == []
    path = server / "mission/economy/stores.xml"
    path.write_text(path.read_text().replace("<least>12</least>", "<least>9999</least>", 1))
    done = recorded("merge")
    assert "least 9999 is above afloat" in done.out
    assert "good least <= afloat" in done.out
    assert recorded("merge", "--no-checks", "--json").json["breaches"] == []
    with (server.with_name("gannet-rock.keep") / "keep.toml").open("a") as file:
        file.write('\n[checks]\nsilence = ["* good least <= afloat"]\n')
    assert recorded("merge", "--json").json["breaches"] == []


def large(tmp_path: Path, ending: str) -> tuple[World, list[dict[str, str]]]:
    """Files so large that not all of them is read, and the goods in them."""
    big = World(tmp_path / "big", ending)
    many = [{**good, "says": "a line that makes the file long " * 6} for good in goods(2000)]
    for side in big.sides:
        big.sides[side] = ([dict(good) for good in many], shops())
    return big, many


@pytest.mark.long
@pytest.mark.parametrize("ending", SPELLINGS)
def test_a_large_file_is_looked_at_as_a_small_one_is(tmp_path: Path, ending: str) -> None:
    """Only what is not spelled as the vendor's is read; what is wrong there, or refers to what goes, is found."""
    big, many = large(tmp_path, ending)
    big.sides["mine"][0][1500]["most"] = "-4"
    big.sides["mine"][0][700]["least"] = "400"
    big.sides["new"] = (
        [good for good in big.sides["new"][0] if good["id"] != "g4"],
        [shop for shop in shops() if shop["sells"] != "g4"],
    )
    big.sides["mine"][1].append({"id": "own", "sells": "g4", "rate": "1.0"})
    found = {(breach.record.replace("/", ""), breach.what.partition(",")[0]) for breach in big.breaches()}
    assert {(record, what.replace('"', "")) for record, what in found} == {
        ("good[id=g1500]", "most is -4"),
        ("good[id=g1500]", f"least {many[1500]['least']} is above most -4"),
        ("good[id=g700]", f"least 400 is above most {many[700]['most']}"),
        ("shop[id=own]", "sells is g4"),
    }


@pytest.mark.long
@pytest.mark.parametrize("ending", SPELLINGS)
def test_a_large_file_without_a_fault_gives_no_alarm(tmp_path: Path, ending: str) -> None:
    big, many = large(tmp_path, ending)
    big.sides["mine"][0][1500]["most"] = "40"
    big.sides["mine"][0].append({**many[0], "id": "own", "says": "words of our own"})
    assert big.breaches() == []


def test_a_record_copied_into_a_list_where_other_rules_hold_is_named(tmp_path: Path) -> None:
    """It is spelled as the vendor spells it, but not there."""
    lists = {"goods": [{"id": f"g{at}", "worth": at} for at in range(200)], "stops": [{"id": f"s{at}", "at": "pier"} for at in range(200)]}  # fmt: skip
    trees = {}
    for side in ("old", "mine", "new"):
        told = {name: list(rows) for name, rows in lists.items()}
        told["stops"] += [lists["goods"][7]] if side == "mine" else []
        (tmp_path / side).mkdir()
        (tmp_path / side / "all.json").write_text(json.dumps(told, indent=1))
        trees[side] = FolderTree(tmp_path / side)
    merge = merge_trees(trees["old"], trees["new"], trees["mine"])
    found = inspect(merge, [trees["old"], trees["new"]], trees["mine"], trees["new"], no_rules)
    assert {(breach.record, breach.what) for breach in found} == {("stops/[id=g7]", "lacks at")}


# --- each rule and its limits: what is learned of one list ---------------------------------------


def learned(*columns: tuple[str, Sequence[str | None]]) -> set[str]:
    """The names of what is learned of a list of records by its columns, without the file's and the list's own."""
    count = len(columns[0][1])
    rows = [{name: value for name, told in columns if (value := told[at]) is not None} for at in range(count)]
    records = [Record(f"r[{at}]", f"r{at}", "", row) for at, row in enumerate(rows)]
    found = checks.learn([{"x": {"r": records}}])
    names = [check.name for check, _ in found.checks] + [check.name for check in found.unique]
    return {name.removeprefix("x: r ") for name in names} - {"is unique"}


def numbers(count: int, *firsts: str) -> list[str]:
    return [*firsts, *(str(at) for at in range(count - len(firsts)))]


@pytest.mark.parametrize(("count", "rule"), [(11, False), (12, True)])
def test_a_rule_of_any_list_has_twelve_records_behind_it(count: int, rule: bool) -> None:
    assert ("has a" in learned(("a", numbers(count)))) is rule
    assert ("a is a whole number" in learned(("a", numbers(count)))) is rule
    records = [Record(f"r[{at}]", f"r{at}", "", {}) for at in range(count)]
    assert bool(checks.learn([{"x": {"r": records}}]).unique) is rule


def test_a_field_that_one_record_lacks_is_not_required_of_the_others() -> None:
    assert "has a" not in learned(("a", [None, *numbers(39)]), ("b", numbers(40)))
    assert "has b" in learned(("a", [None, *numbers(39)]), ("b", numbers(40)))
    assert "a is a whole number" in learned(("a", [None, *numbers(12)]), ("b", numbers(13)))
    assert "a is a whole number" not in learned(("a", [None, *numbers(11)]), ("b", numbers(12)))


def test_what_kind_of_number_a_field_holds() -> None:
    assert "a is a number" in learned(("a", numbers(40, "1.5")))
    assert "a is a whole number" not in learned(("a", numbers(40, "1.5")))
    assert not {"a is a number", "a is a whole number"} & learned(("a", numbers(40, "lots")))
    assert "a >= 0" in learned(("a", numbers(30, "0")))
    assert "a >= 0" not in learned(("a", numbers(29)))
    assert "a >= 0" not in learned(("a", numbers(40, "-1")))


@pytest.mark.parametrize(
    ("words", "rule"),
    [
        (["food", "lamp"] * 15, True),
        (["food", "lamp"] * 14 + ["lamp"], False),
        (["food"] * 40, False),
        ([f"w{at % 12}" for at in range(36)], True),
        ([f"w{at % 13}" for at in range(39)], False),
        (["food"] * 39 + ["lamp"], False),
        (["food"] * 38 + ["lamp"] * 2, True),
        (["two words", "lamp"] * 20, False),
        (["w" * 33, "lamp"] * 20, False),
        (["w" * 32, "lamp"] * 20, True),
    ],
)
def test_few_words_each_met_again_are_a_vocabulary(words: list[str], rule: bool) -> None:
    assert ("a is a known word" in learned(("a", words))) is rule


@pytest.mark.parametrize(
    ("lows", "highs", "names", "rule"),
    [
        (range(30), range(5, 35), ("least", "most"), True),
        (range(29), range(5, 34), ("least", "most"), False),  # too few
        (range(30), range(30), ("least", "most"), False),  # always equal: one is the other
        (range(30), [*range(1, 30), 28], ("least", "most"), False),  # once above
        (range(30), [*range(1, 30), 29], ("least", "most"), True),
        (range(30), range(5, 35), ("worth", "weight"), False),  # no names that say so, and they never meet
        (range(30), [at + (at > 2) for at in range(30)], ("worth", "weight"), True),  # they meet three times
        (range(30), [at + (at > 1) for at in range(30)], ("worth", "weight"), False),
        (range(100), [at + (at > 4) for at in range(100)], ("worth", "weight"), True),  # a twentieth of all
        (range(100), [at + (at > 3) for at in range(100)], ("worth", "weight"), False),
    ],
)
def test_one_number_that_never_exceeds_another(
    lows: Sequence[int], highs: Sequence[int], names: tuple[str, str], rule: bool
) -> None:
    low, high = names
    found = learned((low, [*map(str, lows)]), (high, [*map(str, highs)]))
    assert (f"{low} <= {high}" in found) is rule
    assert f"{high} <= {low}" not in found


def test_numbers_that_often_lack_or_are_words_are_not_ordered() -> None:
    lows, highs = [str(at) for at in range(30)], [str(at + 5) for at in range(30)]
    assert "least <= most" in learned(("least", [*lows, None]), ("most", [*highs, "3"]))
    assert "least <= most" not in learned(("least", [*lows[:-1], None]), ("most", highs))
    assert "least <= most" not in learned(("least", [*lows[:-1], "few"]), ("most", highs))


def two_lists(first: Sequence[str], second: Sequence[str], own: Sequence[str] = ()) -> dict[str, checks.Table]:
    """Records of ``x`` that name, under ``sells``, records of ``y``; ``own``: and others of their own list."""
    sells = [
        Record(f"s[{at}]", f"s{at}", "", {"sells": name, **({"next": own[at]} if own else {})})
        for at, name in enumerate(first)
    ]
    return {"x": {"s": sells}, "y": {"g": [Record(f"g[{name}]", name, "", {}) for name in second]}}


GOODS = [f"g{at}" for at in range(11)]


def references(*releases: dict[str, checks.Table]) -> list[tuple[str, str, str]]:
    return [found[1:] for found in checks.learn(releases).references]


def test_what_a_field_names_stands_in_another_list() -> None:
    sold = [GOODS[at % 11] for at in range(12)]
    assert references(two_lists(sold, GOODS)) == [("sells", "y", "g")]
    assert references(two_lists(sold[:11], GOODS)) == []  # too few
    assert references(two_lists(["g1", "g2"] * 8, GOODS)) == []  # two words are a vocabulary
    assert references(two_lists(["g1", "g2", "g3"] * 8, GOODS)) == [("sells", "y", "g")]
    assert references(two_lists([*sold, "gone"], GOODS)) == []
    assert (
        references(two_lists([str(at % 4) for at in range(16)], ["0", "1", "2", "3"])) == []
    )  # numbers meet by chance
    assert references(two_lists(sold, GOODS, [f"s{(at + 1) % 12}" for at in range(12)])) == [("sells", "y", "g")]
    old = two_lists([*sold[:-1], "gone"], GOODS)
    assert references(old, two_lists(sold, GOODS)) == []  # it has to hold in every release
    assert references(two_lists(sold, [*GOODS, "g20"]), two_lists(sold, GOODS)) == [("sells", "y", "g")]
    assert checks.learn([]).references == []


def test_of_several_lists_that_hold_all_names_the_shortest_is_meant() -> None:
    release = two_lists([GOODS[at % 4] for at in range(12)], GOODS)
    release["z"] = {"few": [Record(f"f[{name}]", name, "", {}) for name in GOODS[:4]]}
    assert references(release) == [("sells", "z", "few")]


def looked_at(release: dict[str, checks.Table], merged: dict[str, checks.Table]) -> list[str]:
    sides = checks.Sides(merged, lambda file, record: None, lambda file, record: None, lambda file, record: 1)
    return [f"{breach.record}: {breach.what}" for breach in checks.breaches(checks.learn([release]), sides)]


def test_a_file_that_is_not_there_breaks_no_reference() -> None:
    release = two_lists([GOODS[at % 11] for at in range(12)], GOODS)
    assert looked_at(release, {"x": release["x"]}) == []
    assert looked_at(release, {"y": release["y"]}) == []
    assert len(looked_at(release, {"x": release["x"], "y": {}})) == 12
    fewer = {"x": release["x"], "y": {"g": release["y"]["g"][1:]}}
    assert looked_at(release, fewer) == [f"s[{at}]: sells is g0, which does not stand in y" for at in (0, 11)]


def test_a_name_stands_twice_only_within_one_parent() -> None:
    several = [Record(f"{parent}/r[{name}]", name, parent, {}) for parent in ("a", "b") for name in map(str, range(8))]
    learned_of = checks.learn([{"x": {"r": several}}])
    assert learned_of.unique
    sides = checks.Sides({"x": {"r": [*several, several[3]]}}, lambda *_: None, lambda *_: None, lambda *_: 1)
    assert [breach.record for breach in checks.breaches(learned_of, sides)] == ["a/r[3]"]
    assert not checks.learn([{"x": {"r": [*several, several[3]]}}]).unique
