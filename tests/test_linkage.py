"""Who is who in lists as they are: with doubles, with numbers and several fields for a name, with none at all."""

from __future__ import annotations

import json
import math
import random
import re
from collections.abc import Mapping, Sequence
from itertools import permutations

import pytest
from hypothesis import assume, given
from hypothesis import strategies as st

from emberkeep.documents import linkage, registry
from emberkeep.documents.align import items_of, pairs
from emberkeep.documents.identity import KeyRules
from emberkeep.documents.linkage import Facts
from emberkeep.documents.model import Document
from emberkeep.merging.merge import merge_file
from emberkeep.merging.results import ORDER, FileMerge


def merge(path: str, old: str, mine: str, new: str) -> FileMerge:
    result = merge_file(path, old.encode(), mine.encode(), new.encode())
    assert (result.fault, result.warnings) == (None, ())
    return result


def text_of(result: FileMerge, mine: str) -> str:
    return mine if result.data is None else result.data.decode()


# --- the best assignment --------------------------------------------------------


def said(**values: str) -> Facts:
    return {name: frozenset(value.split()) for name, value in values.items()}


@given(st.lists(st.lists(st.integers(-8, 12), min_size=4, max_size=4), min_size=1, max_size=4))
def test_the_assignment_is_the_best_of_all(odds: list[list[int]]) -> None:
    """Against trying every one of them."""
    scored = {(a, b): float(value) for a, row in enumerate(odds) for b, value in enumerate(row) if value >= -1}

    class Given(linkage.Weights):
        def odds(self, lefts: Mapping[int, Facts], rights: Mapping[int, Facts], pairs: linkage.Pairs) -> list[float]:
            return [scored.get(pair, -math.inf) for pair in pairs]

    sides = [{at: said(n=str(at)) for at in range(count)} for count in (len(odds), 4)]
    number = math.log2(4)
    found = linkage.link(*sides, Given(), dict.fromkeys(scored, number), least=-1.0)
    assert len({pair.left for pair in found}) == len({pair.right for pair in found}) == len(found)
    total = sum(pair.odds + 1 for pair in found)
    best = max(
        sum(scored.get((a, b), -1) + 1 for a, b in enumerate(chosen)) for chosen in permutations(range(4), len(odds))
    )
    assert total == pytest.approx(best)


words = st.frozensets(st.sampled_from("abc"), min_size=1)
few_facts = st.dictionaries(st.sampled_from(["kind", "at/x", "at/y"]), words)


@given(st.lists(few_facts, min_size=1, max_size=4), st.lists(few_facts, min_size=1, max_size=4))
def test_the_odds_of_many_pairs_are_those_of_each_by_itself(lefts: list[Facts], rights: list[Facts]) -> None:
    """By the definition: what agrees, differs or is there on one side only; what stands within one thing counts once."""
    weights = linkage.learn([lefts, rights])
    pairs = [(a, b) for a in range(len(lefts)) for b in range(len(rights))]

    def bits(name: str, left: Facts, right: Facts) -> float:
        fact = weights.of[name]
        if name not in left or name not in right:
            return fact.differs / 2
        both = left[name] & right[name]
        share = len(both) / max(len(left[name]), len(right[name]))
        return share * fact.agreed(both) + (1 - share) * fact.differs

    for (a, b), odds in zip(pairs, weights.odds(dict(enumerate(lefts)), dict(enumerate(rights)), pairs), strict=True):
        names = {*lefts[a], *rights[b]}
        groups = [[name for name in names if name.startswith(thing)] for thing in ("kind", "at")]
        told = [[bits(name, lefts[a], rights[b]) for name in group] for group in groups if group]
        assert odds == pytest.approx(sum(sum(group) / len(group) for group in told))


def test_where_no_record_was_looked_at_none_is_known_by_a_field() -> None:
    sides = documents('{"a": {"b": 1}}')
    assert KeyRules(sides, ()).rule(("", "nowhere")).rule is None


def test_what_few_records_have_tells_more_than_what_many_have() -> None:
    records = [said(kind="food" if at % 2 else "light", place=f"cove{at}") for at in range(40)]
    weights = linkage.learn([records, records])
    rare, common = weights.of["place"], weights.of["kind"]
    assert rare.agreed(frozenset({"cove3"})) > 4
    assert 0 < common.agreed(frozenset({"food"})) < 2
    assert rare.differs < common.differs < 0


def test_a_fact_that_changes_with_every_release_tells_little_when_it_differs() -> None:
    chance = random.Random(1)
    first = [said(name=f"n{at}", price=str(chance.randrange(10_000)), size=str(at % 7)) for at in range(60)]
    second = [{**record, "price": frozenset({str(chance.randrange(10_000))})} for record in first]
    weights = linkage.learn([first, second])
    assert weights.of["price"].stays < 0.2
    assert weights.of["size"].stays > 0.9
    assert weights.of["name"].differs < weights.of["price"].differs


def test_of_pairs_that_are_as_likely_none_is_clear() -> None:
    weights = linkage.learn(
        [[said(kind="food", place="pier"), said(kind="food", place="pier"), said(kind="light")]] * 2
    )
    lefts = {0: said(kind="food", place="pier")}
    rights = {0: said(kind="food", place="pier"), 1: said(kind="food", place="pier")}
    linked = linkage.link(lefts, rights, weights)
    assert len(linked) == 1
    assert linkage.clear(linked, lefts, rights, weights) == []
    assert linkage.clear(linkage.link(lefts, {0: rights[0]}, weights), lefts, {0: rights[0]}, weights)


# --- what identifies ------------------------------------------------------------


def goods_of(count: int, doubled: int) -> list[dict[str, object]]:
    chance = random.Random(count)
    goods = [
        {"title": f"good {at}", "worth": chance.randrange(1, 99), "afloat": chance.randrange(1, 99)}
        for at in range(count)
    ]
    for at in range(doubled):
        goods[-1 - at]["title"] = goods[at]["title"]
    return goods


@pytest.mark.parametrize("doubled", [0, 1, 5])
def test_a_few_doubles_do_not_bring_a_deleted_record_back(doubled: int) -> None:
    """The admin deleted one of which the vendor changed two of three fields: that is asked, and it stays away."""
    old = goods_of(41, doubled)
    mine = [good for good in old if good["title"] != "good 20"]
    new = [{**good, "worth": 500, "afloat": 600} if good["title"] == "good 20" else good for good in old]
    sides = [json.dumps(side, indent=1) for side in (old, mine, new)]
    result = merge("goods.json", *sides)
    assert [question.why.partition(";")[0] for question in result.questions] == ["you removed it"]
    assert json.loads(text_of(result, sides[1])) == mine


ROWS = [(focal, gap, edge) for focal in (18, 24, 35) for gap in (4, 8, 11) for edge in (1, 2)]


@pytest.mark.parametrize("fields", ["focal", "focal gap", "focal gap edge"])
def test_numbers_that_only_together_tell_records_apart(fields: str) -> None:
    """Each record of both sides changed in other values: nothing is asked and nothing comes twice."""
    names = fields.split()
    rows = list(dict.fromkeys(tuple(row[: len(names)]) for row in ROWS))
    chance = random.Random(fields)
    values = {row: [chance.random(), chance.random()] for row in rows}

    def listed(left: float, right: float) -> str:
        lines = []
        for row, (a, b) in values.items():
            keys = " ".join(f'{name}="{value}"' for name, value in zip(names, row, strict=True))
            lines.append(f'  <blur {keys} a="{a * left:.6f}" b="{b * right:.6f}"/>')
        return "\n".join(["<blurs>", *lines, "</blurs>", ""])

    old, mine, new = listed(1, 1), listed(2, 1), listed(1, 3)
    assert text_of(merge("blurs.xml", old, mine, new), mine) == listed(2, 3)


def test_keys_in_two_children_and_keys_that_only_some_bear() -> None:
    def lens(maker: str, model: str, worth: int, code: str = "") -> str:
        return (
            f"  <lens><maker>{maker}</maker><model>{model}</model>{f'<code>{code}</code>' if code else ''}"
            f"<worth>{worth}</worth></lens>\n"
        )

    every = [(maker, model) for maker in ("brae", "holm", "skua") for model in ("tarn", "voe", "geo", "noup")]

    def listed(mine: int, new: int, gone: Sequence[tuple[str, str]] = ()) -> str:
        return "<lenses>\n" + "".join(
            lens(*one, at * 7 + (mine if at % 2 else new), f"c{at}" if at % 4 == 0 else "")
            for at, one in enumerate(every)
            if one not in gone
        ) + "</lenses>\n"  # fmt: skip

    gone = [("holm", "voe")]
    old, mine, new = listed(0, 0), listed(1000, 0, gone), listed(0, 2000)
    assert text_of(merge("lenses.xml", old, mine, new), mine) == listed(1000, 2000, gone)


CODES = ["0", "1", "2", "A", "B", "10.2", "7-3", "two words", "#4", "é"]
SLOTS = st.lists(st.lists(st.sampled_from(CODES), unique=True, min_size=2, max_size=8), min_size=4, max_size=8).filter(
    lambda slots: sum(map(len, slots)) > 12
)


def zones(slots: Sequence[Sequence[tuple[str, str]]]) -> str:
    lines = [
        f'  <zone id="z{at}">\n'
        + "".join(f'    <slot code="{code}" says="{says}"/>\n' for code, says in zone)
        + "  </zone>\n"
        for at, zone in enumerate(slots)
    ]
    return f"<zones>\n{''.join(lines)}</zones>\n"


@given(SLOTS, st.randoms(use_true_random=False))
def test_a_code_that_stays_names_records_whose_words_the_vendor_changed(
    codes: list[list[str]], chance: random.Random
) -> None:
    """Codes recur from zone to zone and look like anything. Of the words a third changed, in the admin's file others:
    what the admin deleted is asked about and stays away, and no record of the vendor's comes twice."""
    old = [[(code, f"word {at} {code}") for code in zone] for at, zone in enumerate(codes)]
    new = [[(code, f"new {says}" if chance.random() < 0.3 else says) for code, says in zone] for zone in old]
    changed = [(at, slot) for at, zone in enumerate(new) for slot in zone if slot not in old[at]]
    kept = sum(map(len, old)) - len(changed)
    assume(changed and kept > len(changed))
    at, gone = chance.choice(changed)
    mine = [[one for one in zone if (at, one[0]) != (number, gone[0])] for number, zone in enumerate(old)]
    wanted = [[one for one in zone if (at, one[0]) != (number, gone[0])] for number, zone in enumerate(new)]
    result = merge("zones.xml", *map(zones, (old, mine, new)))
    assert text_of(result, zones(mine)) == zones(wanted)
    assert [question.why.partition(";")[0].partition(",")[0] for question in result.questions] == ["you removed it"]


FORMS = st.lists(
    st.tuples(st.sampled_from("abcdefghij"), st.sampled_from(["", "", "short", "verb"]), st.sampled_from(["", "", "f"])),
    unique=True, min_size=12, max_size=30,
).filter(lambda forms: len({name for name, *_ in forms}) < 0.8 * len(forms))  # fmt: skip


@given(FORMS, st.randoms(use_true_random=False))
def test_what_only_some_bear_tells_doubles_apart(forms: list[tuple[str, str, str]], chance: random.Random) -> None:
    """A word in its short form is another record than the word. Both sides change what the words are, each of others."""

    def written(said: Mapping[tuple[str, str, str], str]) -> str:
        lines = []
        for (name, form, gender), word in said.items():
            further = "".join(f' {key}="{value}"' for key, value in (("form", form), ("gender", gender)) if value)
            lines.append(f'  <term name="{name}"{further}>{word}</term>\n')
        return f"<terms>\n{''.join(lines)}</terms>\n"

    old = {one: f"word {at}" for at, one in enumerate(forms)}
    turn = {one: chance.random() for one in forms}
    assume(sum(value < 0.3 for value in turn.values()) < len(forms) / 2)
    new = {one: f"{word} anew" if turn[one] < 0.3 else word for one, word in old.items()}
    mine = {one: f"{word} of mine" if turn[one] > 0.8 else word for one, word in old.items()}
    wanted = {one: mine[one] if turn[one] > 0.8 else word for one, word in new.items()}
    result = merge("terms.xml", written(old), written(mine), written(new))
    assert (text_of(result, written(mine)), result.questions) == (written(wanted), ())


def test_a_code_that_is_dealt_anew_names_nothing() -> None:
    """Though nearly all codes stand in both releases, somewhere; the words stayed but for some."""
    chance = random.Random(8)
    words = [[f"thing {at}.{slot}" for slot in range(4)] for at in range(30)]
    old = [
        [(f"{code:02}", says) for code, says in zip(chance.sample(range(60), 4), zone, strict=True)] for zone in words
    ]
    new = [
        [
            (f"{code:02}", f"{says} more" if chance.random() < 0.1 else says)
            for code, (_, says) in zip(codes, zone, strict=True)
        ]
        for zone in old
        for codes in [chance.sample(range(60), 4)]
    ]
    found = [registry.parse("zones.xml", zones(side).encode()) for side in (old, new)]
    sides = [side for side in found if side is not None]
    assert KeyRules(sides, ()).rule(("zones", "zone", "slot")).rule == ("@says",)


def test_what_was_measured_names_nothing_where_a_number_does() -> None:
    """Though some numbers stand twice, and no measure does."""
    chance = random.Random(5)
    old = [[(str(slot - (slot in (1, 3))), f"{chance.random():.6f}") for slot in range(20)]]
    new = [
        [(code, "0.123456" if at == slot else says) for slot, (code, says) in enumerate(zone)]
        for at, zone in enumerate(old)
    ]
    found = [registry.parse("zones.xml", zones(side).replace("code=", "focal=").encode()) for side in (old, new)]
    sides = [side for side in found if side is not None]
    assert KeyRules(sides, ()).rule(("zones", "zone", "slot")).rule == ("@focal",)


@pytest.mark.parametrize("doubled", ["", "Skerry"])
def test_of_fields_that_tell_all_apart_the_one_that_never_changed_is_the_name(doubled: str) -> None:
    """A place with another name is the same place as long as its mark is; with the mark changed too it is another."""
    places = [{"name": f"Place {at}", "mark": f"m{at}x"} for at in range(60)]
    places[3]["name"] = places[4]["name"] = doubled or "Ness"
    places[4]["name"] += "" if doubled else " 2"
    mine = [{**one, "name": "Home" if at == 9 else one["name"], "n": at} for at, one in enumerate(places)]
    old = [{**one, "n": at} for at, one in enumerate(places)]
    new = [{**one, "name": f"{one['name']} A" if at == 20 else one["name"], "n": at + 1} for at, one in enumerate(old)]
    wanted = [{**one, "name": "Home" if at == 9 else one["name"]} for at, one in enumerate(new)]
    sides = [json.dumps(side, indent=1) for side in (old, mine, new)]
    result = merge("places.json", *sides)
    assert json.loads(text_of(result, sides[1])) == wanted
    assert not result.questions


def test_the_line_ends_within_a_value_are_no_change_in_any_format() -> None:
    for path, text in (
        ("a.xml", "<a>\n  <note>one\n  two</note>\n  <n>1</n>\n</a>\n"),
        ("a.yaml", "note: |\n  one\n  two\nn: 1\n"),
        ("a.toml", 'note = """one\ntwo"""\nn = 1\n'),
        ("a.properties", "note=one \\\n  two\nn=1\n"),
    ):
        mine = text.replace("\n", "\r\n")
        new = text.replace("two", "three")
        result = merge(path, text, mine, new)
        assert text_of(result, mine) == new.replace("\n", "\r\n"), path
        assert not result.questions
        assert merge(path, text, mine, text).data is None


def test_a_bracket_behind_a_comma_within_a_text_is_no_trailing_comma() -> None:
    old = '{"note": "a, ] b", "list": [1, 2], "n": 1}'
    mine, new = old.replace('"n": 1', '"n": 7'), old.replace("[1, 2]", "[1, 3]")
    assert text_of(merge("a.json", old, mine, new), mine) == old.replace('"n": 1', '"n": 7').replace("[1, 2]", "[1, 3]")


@given(st.permutations(["p", "q", "r", "s", "t"]), st.integers(0, 5), st.sampled_from(["json", "yaml", "xml", "toml"]))
def test_a_list_that_only_the_vendor_changed_is_the_vendors(order: list[str], at: int, form: str) -> None:
    """While the admin changed something else."""
    new = [*order[:at], "n", *order[at:]][1:]

    def written(words: Sequence[str], n: int) -> str:
        if form == "xml":
            return "<a>\n  <l>\n" + "".join(f"    <w>{word}</w>\n" for word in words) + f"  </l>\n  <n>{n}</n>\n</a>\n"
        if form == "toml":
            return f"l = {json.dumps(words)}\nn = {n}\n"
        if form == "yaml":
            return "l:\n" + "".join(f"  - {word}\n" for word in words) + f"n: {n}\n"
        return json.dumps({"l": words, "n": n}, indent=2)

    old, mine = written("pqrst", 1), written("pqrst", 2)
    if form == "toml":
        old, mine = written(list("pqrst"), 1), written(list("pqrst"), 2)
    result = merge(f"a.{form}", old, mine, written(new, 1))
    assert not result.questions
    assert re.findall(r"\b[pqrstn]\b(?!\W*[:=\d])", text_of(result, mine).partition("l")[2])[: len(new)] == new


@pytest.mark.parametrize("path", ["a.properties", "a.ini"])
def test_no_order_is_asked_for_where_it_means_nothing(path: str) -> None:
    def listed(order: str) -> str:
        return ("[top]\n" if path == "a.ini" else "") + "".join(f"{name} = 1\n" for name in order)

    old, mine, new = listed("abcdefgh"), listed("bacdefgh"), listed("abcdefhg")
    assert [q.field for q in merge(path, old, mine, new).questions] == []
    head = "[other]\nz = 1\n" if path == "a.ini" else ""
    if head:  # what was only put in another order was left alone
        result = merge(path, head + old, head + mine, head)
        assert (text_of(result, head + mine), result.questions) == (head, ())
        assert merge(path, head + old, head, head + mine).questions == ()
    text = [json.dumps(list(order)) for order in ("abcdefgh", "bacdefgh", "abcdefhg")]
    assert [q.field for q in merge("a.json", *text).questions] == [ORDER], "of a list it is"


# --- renames --------------------------------------------------------------------

STOCK = [
    *(("rope", "tackle", "pier", 10), ("sail", "tackle", "pier", 30), ("oar", "tackle", "pier", 12)),
    *(("hook", "tackle", "pier", 4), ("net", "tackle", "cove", 9), ("lamp", "light", "hut", 77)),
    *(("kelp", "food", "reef", 3), ("eel", "food", "reef", 8), ("dulse", "food", "reef", 2)),
]


def stock(rows: Sequence[tuple[str, str, str, int]]) -> str:
    goods = (
        f'  <good id="{name}"><kind>{kind}</kind><place>{place}</place><worth>{worth}</worth></good>\n'
        for name, kind, place, worth in rows
    )
    return f"<goods>\n{''.join(goods)}</goods>\n"


def test_a_rename_is_proposed_only_where_it_clearly_wins() -> None:
    mine = stock([(*row[:3], row[3] + 1) for row in STOCK])
    rest = [row for row in STOCK if row[1] != "tackle"]
    out_of_thin_air = [*rest, ("winch", "tackle", "pier", 55), ("anchor", "tackle", "pier", 90)]
    result = merge("goods.xml", stock(STOCK), mine, stock(out_of_thin_air))
    assert [question.renamed for question in result.questions] == [""] * 5
    truly = [*rest, ("fishing-net", "tackle", "cove", 9), ("winch", "tackle", "pier", 55)]
    result = merge("goods.xml", stock(STOCK), mine, stock(truly))
    told = {question.record: question.renamed for question in result.questions}
    assert {record: name for record, name in told.items() if name} == {"good[id=net]": "fishing-net"}


# --- cost -----------------------------------------------------------------------


def test_records_with_keys_are_paired_without_weighing_them(monkeypatch: pytest.MonkeyPatch) -> None:
    """The common case costs what it cost before there was linkage."""

    def none(*_: object, **__: object) -> None:
        raise AssertionError

    monkeypatch.setattr(linkage, "learn", none)
    monkeypatch.setattr(linkage, "link", none)
    old = stock(STOCK)
    mine, new = old.replace(">77<", ">78<"), old.replace(">12<", ">13<")
    assert ">78<" in text_of(merge("goods.xml", old, mine, new), mine)


def documents(*texts: str) -> list[Document]:
    found = [registry.parse("a.json", text.encode()) for text in texts]
    return [document for document in found if document is not None]


def test_pairs_of_lists_as_they_are_are_one_to_one() -> None:
    chance = random.Random(3)
    for _ in range(20):
        old = [{"kind": chance.choice("abc"), "n": chance.randrange(4), "m": chance.randrange(9)} for _ in range(12)]
        new = [{**one, "m": chance.randrange(9)} if chance.random() < 0.3 else one for one in old]
        chance.shuffle(new)
        sides = documents(json.dumps(old), json.dumps(new[2:]))
        identities = KeyRules(sides, ())
        lists = [items_of(side.root, ("",), identities) for side in sides]
        found = pairs(lists[0], lists[1], ("",), identities)
        assert len(set(found.values())) == len(found)
        same = [(a, b) for a, b in found.items() if old[a] == new[2:][b]]
        assert len(same) >= sum(
            min(old.count(one), new[2:].count(one)) for one in {json.dumps(x): x for x in old}.values()
        )
