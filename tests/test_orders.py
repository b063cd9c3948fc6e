"""Standing orders: found in hand edits, kept in a file, applied to what is new or changed and to nothing else."""

from __future__ import annotations

import re
import tomllib
from dataclasses import replace
from datetime import date
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from emberkeep.demo import stores
from emberkeep.documents.identity import KeyRules
from emberkeep.errors import UnreadableInput
from emberkeep.merging import intents, orders
from emberkeep.merging.merge import merge_file
from emberkeep.merging.orders import Order
from emberkeep.merging.results import FileMerge
from tests.conftest import tree_state
from tests.helpers import parsed
from tests.program import Program, run_program

PATH = "m/stores.xml"
FOOD = Order("food twice", PATH, "x", "2", "afloat", "stores/good", (("kind", ("food",)),), accepted=date(2031, 4, 2))


def good(name: str, kind: str, afloat: str, worth: str = "5") -> str:
    return f'  <good id="{name}"><kind>{kind}</kind><afloat>{afloat}</afloat><worth>{worth}</worth></good>\n'


def table(*rows: str) -> str:
    return f"<stores>\n{''.join(rows)}</stores>\n"


def merge(old: str, mine: str, new: str, *told: Order) -> FileMerge:
    return merge_file(PATH, old.encode(), mine.encode(), new.encode(), orders=told)


def written(result: FileMerge, mine: str) -> str:
    assert result.fault is None
    return mine if result.data is None else result.data.decode()


OLD = table(good("kelp", "food", "40"), good("dulse", "food", "7"), good("rope", "tackle", "9"))


# --- applying ------------------------------------------------------------------


def test_a_changed_default_is_doubled_anew_and_a_new_record_at_once() -> None:
    mine = OLD.replace(">40<", ">80<").replace(">7<", ">14<")
    new = OLD.replace(">40<", ">30<").replace(
        "</stores>", good("pie", "food", "6") + good("net", "tackle", "3") + "</stores>"
    )
    result = merge(OLD, mine, new, FOOD)
    assert not result.questions
    expected = mine.replace(">80<", ">60<").replace(
        "</stores>", good("pie", "food", "12") + good("net", "tackle", "3") + "</stores>"
    )
    assert written(result, mine) == expected
    assert [(item.record, item.before, item.after, item.order) for item in result.obeyed] == [
        ("good[id=kelp]", "30", "60", "food twice"),
        ("good[id=pie]", "6", "12", "food twice"),
    ]


def test_without_its_date_an_order_does_nothing() -> None:
    mine = OLD.replace(">40<", ">80<")
    new = OLD.replace(">40<", ">30<")
    result = merge(OLD, mine, new, replace(FOOD, accepted=None))
    assert [question.new for question in result.open] == ["30"]
    assert not result.obeyed


def test_what_the_vendor_left_alone_is_left_alone() -> None:
    new = OLD.replace(">9<", ">8<")
    assert written(merge(OLD, OLD, new, FOOD), OLD) == new


def test_a_value_that_is_neither_the_default_nor_the_order_stays_a_question() -> None:
    mine = OLD.replace(">40<", ">55<")
    new = OLD.replace(">40<", ">30<")
    result = merge(OLD, mine, new, FOOD)
    assert [(question.old, question.mine, question.new) for question in result.open] == [("40", "55", "60")]
    assert written(result, mine) == mine
    assert not result.obeyed


@pytest.mark.parametrize(
    ("do", "operand", "default", "value", "follows"),
    [
        ("x", "0.5", "5", "2", True),
        ("x", "0.5", "5", "3", True),
        ("x", "0.5", "5", "1", False),
        ("x", "0.5", "5", "4", False),
        ("x", "0.5", "4", "3", False),  # exact: one beside it is a hand edit
        ("x", "0.5", "4", "1", False),
        ("x", "0.5", "4", "2", True),
        ("x", "0.5", "4", "2.0", True),
        ("x", "0.5", "5", "2.5", True),
        ("x", "0.5", "5", "2.4", False),  # only whole numbers are rounded
        ("x", "0.5", "5.0", "3", False),
        ("x", "2", "4", "many", False),
        ("x", "2", "many", "8", False),
        ("+", "3", "4", "7", True),
        ("+", "3", "4", "8", False),
        ("+", "0.5", "4", "4", False),
        ("=", "9", "4", "9", True),
        ("=", "9", "4", "8", False),
        ("drop", "", "4", "4", False),
    ],
)
def test_which_hand_edits_follow_from_an_order(do: str, operand: str, default: str, value: str, follows: bool) -> None:
    assert Order("x", "*", do, operand, "worth").follows(default, value) is follows


def test_exceptions_are_left_alone() -> None:
    new = OLD.replace(">40<", ">30<")
    result = merge(OLD, OLD, new, replace(FOOD, excepted=("kelp",)))
    assert written(result, OLD) == new


def test_dropped_records_stay_out_when_the_vendor_changes_them_or_ships_more_of_the_kind() -> None:
    drop = Order("no food", PATH, orders.DROP, records=(("kind", ("food",)),), accepted=date(2031, 1, 1))
    mine = table(good("rope", "tackle", "9", "6"))
    new = OLD.replace(">40<", ">30<").replace(
        "</stores>", "  <!-- fresh -->\n" + good("pie", "food", "6") + "</stores>"
    )
    asked = merge(OLD, mine, new)
    assert [question.record for question in asked.open] == ["good[id=kelp]"]
    result = merge(OLD, mine, new, drop)
    assert not result.questions
    assert written(result, mine) == mine
    assert {item.record for item in result.obeyed} == {"good[id=kelp]", "good[id=pie]"}


def test_what_stands_in_a_dropped_record_goes_with_it_whatever_another_order_says_of_it() -> None:
    drop = Order(
        "no south", PATH, orders.DROP, list="all/harbour", records=((".", ("south",)),), accepted=date(2031, 1, 1)
    )
    toll = Order("tolls", PATH, "x", "2", "toll", "all/harbour/berth", accepted=date(2031, 1, 1))
    old, new = harbours({"north": 10, "south": 10}), harbours({"north": 11, "south": 12})
    result = merge(old, harbours({"north": 20}), new, drop, toll)
    assert result.fault is None
    assert not result.questions
    assert written(result, "") == harbours({"north": 22})


def test_two_orders_that_disagree_are_told_and_neither_is_applied() -> None:
    mine = OLD.replace(">40<", ">80<")
    new = OLD.replace(">40<", ">30<").replace(">7<", ">9<")
    other = replace(FOOD, name="kelp thrice", operand="3", records=(("id", ("kelp",)),))
    result = merge(OLD, mine, new, FOOD, other)
    assert [(item.record, item.orders) for item in result.disagreements] == [
        ("good[id=kelp]", ("food twice", "kelp thrice"))
    ]
    assert [item.record for item in result.obeyed] == ["good[id=dulse]"]
    assert [question.record for question in result.open] == ["good[id=kelp]"]


@pytest.mark.parametrize(
    ("do", "operand", "rounding", "default", "value"),
    [
        ("x", "0.5", "near", "7", "4"),
        ("x", "0.5", "up", "7", "4"),
        ("x", "0.5", "down", "7", "3"),
        ("x", "0.5", "near", "0.7", "0.35"),
        ("x", "2", "near", "1.50", "3.00"),
        ("+", "-3", "near", "10", "7"),
        ("=", "none", "near", "lots", "none"),
        ("x", "2", "near", "lots", None),
    ],
)
def test_numbers_are_spelled_as_the_default_is(
    do: str, operand: str, rounding: str, default: str, value: str | None
) -> None:
    assert replace(FOOD, do=do, operand=operand, round=rounding).value(default) == value


@given(st.lists(st.integers(1, 500), min_size=3, max_size=12, unique=True), st.integers(2, 9), st.data())
def test_an_order_makes_of_the_new_release_what_the_admin_would_have(
    values: list[int], factor: int, data: st.DataObject
) -> None:
    """All food times a factor: merging gives what multiplying the vendor's new food by hand gives."""
    later = [data.draw(st.sampled_from([value, value + 1, value * 3])) for value in values]
    fresh = data.draw(st.lists(st.integers(1, 500), max_size=4))

    def render(numbers: list[int], by: int) -> str:
        return table(
            *(good(f"g{at}", "food", str(number * by)) for at, number in enumerate(numbers)),
            good("rope", "tackle", "9"),
        )

    order = replace(FOOD, operand=str(factor))
    result = merge(render(values, 1), render(values, factor), render(later + fresh, 1), order)
    assert not result.questions
    assert written(result, render(values, factor)) == render(later + fresh, factor)


# --- the file --------------------------------------------------------------------


def test_a_file_of_orders_comes_back_as_it_was(tmp_path: Path) -> None:
    told = [
        FOOD,
        replace(FOOD, name='odd "name"', do="+", operand="-3", round="up", excepted=("a b", "ü"), accepted=None),
        Order("gone", "a/*.xml", orders.DROP, records=((".", ("x", "y")), ("odd key", ("*",))), explains=5),
    ]
    orders.save(tmp_path / "orders.toml", told)
    assert orders.read(tmp_path / "orders.toml") == told


def test_every_fault_of_an_orders_file_is_named_with_its_line(tmp_path: Path) -> None:
    path = tmp_path / "orders.toml"
    path.write_text(
        '[[order]]\nname = "a"\nfiles = "*.xml"\nfield = "x"\ndo = "x two"\n\n'
        '[[order]]\nname = "a"\nfiles = "*.xml"\ndo = "= 5"\nround = "sideways"\nfild = "y"\n'
    )
    with pytest.raises(UnreadableInput) as caught:
        orders.read(path)
    words = " | ".join(str(fault) for fault in caught.value.faults)
    for part in ("'x two'", "lacks the key 'field'", "sideways", "fild", "two orders are called 'a'", "orders.toml:5"):
        assert part in words


# --- finding them ------------------------------------------------------------------


def found(old: str, mine: str) -> intents.Intents:
    left, right = parsed(PATH, old), parsed(PATH, mine)
    return intents.propose(PATH, left, right, KeyRules([left], [right]))


def test_the_intents_of_the_sample_server_are_found() -> None:
    old = stores.render(stores.release_42(), "4.2")
    told = found(old, stores.hand_edited(old))
    first, second = told.intents
    assert (first.order.records, first.order.field, first.order.do, first.order.operand) == (
        (("kind", ("food",)),),
        "afloat",
        "x",
        "2",
    )
    assert not first.strays
    assert second.order.do == orders.DROP
    assert second.order.records == (("id", ("drowned-bead", "fever-salve", "lost-gig", "selkie-knot", "wire-grapnel")),)
    assert {edit.record for edit in told.residue} == {
        f"good[id={name}]"
        for name in ("lamp-oil", "rope", "storm-lantern", "great-lens", "bitter-root", "selkie-stone")
    }


def rows(count: int = 24) -> list[tuple[str, str, int, int]]:
    kinds = ("food", "tackle", "lamp")
    return [(f"{kinds[at % 3][:2]}-n{at}", kinds[at % 3], 10 + at * 7, 3 + at * 5) for at in range(count)]


def render(lines: list[tuple[str, str, int, int]]) -> str:
    return table(*(good(name, kind, str(afloat), str(worth)) for name, kind, afloat, worth in lines))


def test_factors_offsets_and_fixed_values_are_told_apart() -> None:
    lines = rows()
    by = {"food": lambda afloat: afloat * 3, "tackle": lambda afloat: afloat + 11, "lamp": lambda afloat: 5}
    mine = [(name, kind, by[kind](afloat), worth) for name, kind, afloat, worth in lines]
    told = {intent.order.records[0][1][0]: intent.order for intent in found(render(lines), render(mine)).intents}
    assert {kind: (order.do, order.operand) for kind, order in told.items()} == {
        "food": ("x", "3"),
        "tackle": ("+", "11"),
        "lamp": ("=", "5"),
    }


def test_halving_whole_numbers_finds_the_factor_and_the_rounding() -> None:
    lines = rows()
    mine = [(name, kind, afloat // 2, worth) for name, kind, afloat, worth in lines]
    (intent,) = found(render(lines), render(mine)).intents
    assert (intent.order.do, intent.order.operand, intent.order.round, intent.order.records) == ("x", "0.5", "down", ())
    assert len(intent.explained) == len(lines)


def test_what_strays_is_listed_as_an_exception() -> None:
    lines = rows()
    mine = [(name, kind, afloat if name == "fo-n0" else afloat * 2, worth) for name, kind, afloat, worth in lines]
    (intent,) = found(render(lines), render(mine)).intents
    assert intent.order.excepted == ("fo-n0",)
    assert len(intent.explained) == len(lines) - 1


def test_edits_without_a_common_intent_are_residue() -> None:
    lines = rows()
    mine = [(name, kind, afloat + at * at * 3 + 1, worth) for at, (name, kind, afloat, worth) in enumerate(lines)][
        :5
    ] + lines[5:]
    told = found(render(lines), render(mine))
    assert not told.intents
    assert len(told.residue) == 5


def harbours(worths: dict[str, int]) -> str:
    groups = "".join(
        f'<harbour name="{name}">\n'
        + "".join(
            f'  <berth id="{name}-{at}"><toll>{toll * (at + 2)}</toll><deep>{at}</deep></berth>\n' for at in range(8)
        )
        + "</harbour>\n"
        for name, toll in worths.items()
    )
    return f"<all>\n{groups}</all>\n"


def test_an_intent_may_be_about_what_stands_in_one_parent() -> None:
    old, mine = harbours({"north": 10, "south": 10, "west": 10}), harbours({"north": 10, "south": 30, "west": 10})
    (intent,) = found(old, mine).intents
    assert (intent.order.do, intent.order.operand) == ("x", "3")
    assert dict(intent.order.records) in ({"..": ("south",)}, {"id": ("south-*",)})
    order = replace(intent.order, records=(("..", ("south",)),), accepted=date(2031, 1, 1))
    result = merge_file(
        PATH, old.encode(), mine.encode(), harbours({"north": 12, "south": 11, "west": 10}).encode(), orders=[order]
    )
    assert not result.questions
    assert result.data == harbours({"north": 12, "south": 33, "west": 10}).encode()
    nameless = [text.replace("north-", "n").replace("south-", "s").replace("west-", "w") for text in (old, mine)]
    (intent,) = found(*nameless).intents
    assert dict(intent.order.records) == {"..": ("south",)}  # nothing else tells them apart


# --- the command ---------------------------------------------------------------------


@pytest.mark.long
def test_propose_accept_test_and_merge(recorded: Program, server: Path) -> None:
    before = tree_state(server)
    proposed = recorded("orders", "propose")
    assert proposed.code == 1
    assert re.search(r"food: afloat x 2 .* 35 ", proposed.out)
    assert "good[id=great-lens] worth 900 → 1500" in proposed.out
    kept = server.with_name("gannet-rock.keep") / "orders.toml"
    assert not kept.exists()
    assert recorded("orders", "propose", "--go").code == 1
    assert "accepted" not in tomllib.loads(kept.read_text())["order"][0]
    assert recorded("orders").code == 1
    assert recorded("merge", "--json").json["obeyed"] == []
    assert recorded("orders", "accept", "no such").code == 2
    assert recorded("orders", "accept", "food: afloat x 2").code == 0
    assert recorded("orders", "test", "--json").json["orders"]["intents"][0]["order"]["accepted"]
    merged = recorded("merge", "--json").json
    assert {item["record"]: item["after"] for item in merged["obeyed"]}["good[id=hardtack]"] == "110"
    text = recorded("merge").out
    assert "Set by your standing orders" in text
    assert "good[id=hardtack] afloat" not in text.split("wait for you")[1]
    assert tree_state(server) == before
    assert recorded("orders", "accept", "--all").code == 0
    assert recorded("orders", "propose").out.startswith("No intent")
    assert recorded("merge", "--go").code == 1
    pie = re.search(
        r'<good id="samphire-pie">.*?<afloat>(\d+)<', (server / "mission/economy/stores.xml").read_text(), re.DOTALL
    )
    assert pie is not None
    assert int(pie[1]) == 2 * 46
    assert recorded("orders", "drop", "food: afloat x 2").code == 0
    assert "food" not in recorded("orders").out


def test_an_order_that_meets_nothing_is_said(recorded: Program, place: Path) -> None:
    kept = place / "gannet-rock.keep" / "orders.toml"
    kept.write_text('[[order]]\nname = "ghosts"\nfiles = "mission/economy/stores.xml"\nrecords = { kind = "ghost" }\n'
                    'field = "worth"\ndo = "x 2"\naccepted = 2031-01-01\n')  # fmt: skip
    done = recorded("merge")
    assert "'ghosts' met no record" in done.out
    assert recorded("orders", "test").code == 1
    kept.write_text("[[order]]\nname = 5\n")
    broken = recorded("merge")
    assert (broken.code, "orders.toml:" in broken.err) == (2, True)


def goods_of(worth: dict[int, int], extra: str = "") -> str:
    """Records that say in a child's attribute what they are, some of them several times."""
    kinds = ("food", "rope", "light", "tool")
    rows = "".join(
        f'  <good name="g{at:03}"><worth>{worth.get(at, at + 5)}</worth>'
        f'<sort name="{kinds[at % 4]}"/><use name="shore"/><use name="{kinds[(at + 1) % 4]}"/></good>\n'
        for at in range(80)
    )
    return f"<goods>\n{rows}{extra}</goods>\n"


def test_an_idea_that_only_a_childs_attribute_tells_is_found_and_obeyed() -> None:
    old = goods_of({})
    mine = goods_of({at: (at + 5) * 2 for at in range(0, 80, 4)})
    sides = parsed("goods.xml", old), parsed("goods.xml", mine)
    found = intents.propose("goods.xml", *sides, KeyRules(sides[:1], sides[1:]))
    (intent,) = found.intents
    assert intent.order.records in ((("sort/name", ("food",)),), (("use/name", ("rope",)),))
    assert (intent.order.words, len(intent.explained), intent.strays, found.residue) == ("worth x 2", 20, (), ())
    order = replace(intent.order, accepted=date(2031, 4, 2))
    more = '  <good name="new"><worth>7</worth><sort name="food"/><use name="shore"/><use name="rope"/></good>\n'
    merged = merge_file("goods.xml", old.encode(), mine.encode(), goods_of({}, more).encode(), orders=[order])
    assert b'<good name="new"><worth>14</worth>' in (merged.data or b"") and not merged.questions


def test_where_asks_attributes_of_children(tmp_path: Path) -> None:
    for name, text in (("old.xml", goods_of({})), ("new.xml", goods_of({0: 99, 1: 98}))):
        (tmp_path / name).write_text(text)
    done = run_program("diff", "old.xml", "new.xml", "--where", "sort/name=food", cwd=tmp_path)
    assert done.out.splitlines()[1:] == ["~ new.xml", "    ~ good[name=g000] worth  5 → 99"]  # and not the other
