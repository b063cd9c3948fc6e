"""What a wipe would forget: every planted leftover is found, in whatever spelling, and nothing of the admin's is."""

from __future__ import annotations

import base64
import gzip
import json
import random
import sqlite3
import uuid
from collections.abc import Callable
from datetime import UTC, datetime
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from emberkeep.errors import Refused
from emberkeep.fs.folder_tree import FolderTree
from emberkeep.keep.edit import remember
from emberkeep.keep.keep import Keep
from emberkeep.operations.flows import wipe_preview
from emberkeep.operations.flows.wipe_preview import Preview
from emberkeep.wiping.identifiers import Known, canonical, identifiers, known_people
from tests.conftest import Moorings

NOW = datetime(2026, 6, 5, 18, 0, tzinfo=UTC)
SCOPES = ("map", "players", "extension-data")


@pytest.fixture
def keep(moorings: Moorings, tmp_path: Path) -> Keep:
    return Keep(moorings(tmp_path / "rock", "village").keep)


def people(keep: Keep) -> list[tuple[str, str]]:
    """Name and id of each player."""
    return [(one["name"], one["id"]) for one in json.loads((keep.server / "roll.json").read_text())]


def put(keep: Keep, path: str, data: str | bytes) -> str:
    target = keep.server / path
    target.parent.mkdir(parents=True, exist_ok=True)
    target.write_bytes(data if isinstance(data, bytes) else data.encode())
    return path


def database(keep: Keep, path: str, *values: object) -> str:
    target = keep.server / path
    target.parent.mkdir(parents=True, exist_ok=True)
    opened = sqlite3.connect(target)
    with opened:
        opened.execute("create table held (what, whose)")
        opened.executemany("insert into held values (?, ?)", [("lens", value) for value in values])
        opened.execute("insert into held values ('rope', 'nobody')")
    opened.close()
    return path


def looked(keep: Keep, *scopes: str, **further: bool) -> Preview:
    request = wipe_preview.request_of(keep, scopes or SCOPES, NOW)
    return wipe_preview.preview(keep, request, {}, NOW, **further)


def plant(keep: Keep) -> list[str]:
    """Leftovers in every format and spelling, each with another player; the paths."""
    folk = iter(people(keep) * 6)
    ext = "extensions/gullpost"

    def next_id() -> str:
        return next(folk)[1]

    def raw() -> bytes:
        return uuid.UUID(next_id()).bytes

    def told(data: bytes) -> str:
        return base64.b64encode(data).decode()

    item, place = str(uuid.UUID(int=7 << 100 | 99, version=4)), str(uuid.UUID(int=3 << 90 | 5, version=4))
    put(keep, "outer-skerries/lights.json", json.dumps({"lights": [{"id": place, "lit": True}]}))
    some = sorted((keep.server / "outer-skerries" / "keepers").iterdir())[0]
    some.write_text(some.read_text().replace('"bag": {', f'"chest": "{item}", "bag": {{'))
    texts = {
        f"{ext}/lockers.json": json.dumps({"lockers": {next_id(): ["rope"]}}),
        f"{ext}/plain.json": json.dumps([{"whose": next_id().replace("-", ""), "salt": 4}]),
        f"{ext}/upper.json": json.dumps({"debts": [next_id().upper()]}),
        f"{ext}/packed.json": json.dumps({"crew": told(raw())}),
        f"{ext}/url.json": json.dumps({"crew": base64.urlsafe_b64encode(raw()).decode().rstrip("=")}),
        f"{ext}/text64.json": json.dumps({"crew": told(next_id().encode())}),
        f"{ext}/deep.json": json.dumps({"a": [{"b": {"c": [1, {"d": f"keeper:{next_id()}"}]}}]}, indent=2),
        f"{ext}/urn.json": json.dumps({"who": f"urn:uuid:{next_id()}"}),
        f"{ext}/braces.json": json.dumps({"who": "{" + next_id() + "}"}),
        f"{ext}/by-name.json": json.dumps({"harbours": {next(folk)[0]: [1, 2]}}),
        f"{ext}/homes.yaml": f"homes:\n  {next_id()}:\n    at: [1, 2]\n",
        f"{ext}/value.yaml": f"last: '{next_id()}'\n",
        f"{ext}/list.yaml": f"- {next(folk)[0]}\n- somebody\n",
        f"{ext}/named.yaml": f"captain: {next(folk)[0]}   # since May\n",
        f"{ext}/ini.ini": f"[pouch]\nowner = {next_id()}\n",
        f"{ext}/some.properties": f"pouch.{next_id()}=12\n",
        f"{ext}/pouches.toml": f'[[pouch]]\nowner = "{next_id()}"\n',
        f"{ext}/attribute.xml": f'<pouches>\n  <pouch owner="{next_id()}"/>\n</pouches>\n',
        f"{ext}/element.xml": f"<pouches><owner>{next_id().replace('-', '')}</owner></pouches>\n",
        f"{ext}/table.csv": f"name,shells\n{next(folk)[0]},40\n",
        f"{ext}/pouches/{next_id()}.pouch": "rope 4\n",
        f"{ext}/pouches/{next_id().replace('-', '')}.pouch": "rope 4\n",
        f"{ext}/crates/{next(folk)[0]}.txt": "rope 4\n",
        f"{ext}/stalls/{next_id()}/stall.txt": "open\n",
        "attic/lockers.json": json.dumps({next_id(): 3}),
        "attic/old.txt": f"moved {next_id()} to the attic\n",
        "mission/bounties.rig": f"bounty {next_id()} 40\n",
        f"{ext}/item.json": json.dumps({"chests": {item: ["lens", "gold"]}}),
        f"{ext}/place.yaml": f"lamps:\n  - light: {place}\n    oil: 4\n",
        f"{ext}/tile.yaml": "claims:\n  - tile: strip.0.-1\n    tax: 4\n",
    }
    paths = [put(keep, path, text) for path, text in texts.items()]
    put(keep, f"{ext}/packed.gz", gzip.compress(json.dumps({"who": next_id()}).encode()))
    put(keep, f"{ext}/wide.txt", f"owner={next_id()}\r\n".encode("utf-16"))
    some_bytes = random.Random(5).randbytes(3000)
    put(keep, f"{ext}/raw.bin", b"\0\1" + some_bytes + raw() + some_bytes)
    put(keep, f"{ext}/turned.bin", b"\0\1" + some_bytes + uuid.UUID(next_id()).bytes_le)
    put(keep, f"{ext}/inside.bin", b"\0\1" + some_bytes + b"\0" + next_id().encode() + b"\0" + some_bytes)
    paths += [f"{ext}/{name}" for name in ("packed.gz", "wide.txt", "raw.bin", "turned.bin", "inside.bin")]
    return [
        *paths,
        database(keep, f"{ext}/text.db", next_id()),
        database(keep, f"{ext}/blob.db", raw()),
        database(keep, f"{ext}/turned.db", uuid.UUID(next_id()).bytes_le),
        database(keep, f"{ext}/inside.db", json.dumps({"owner": next_id(), "n": 1})),
        database(keep, f"{ext}/name.db", next(folk)[0]),
        database(keep, "attic/base64.db", told(raw())),
    ]


def define(keep: Keep) -> None:
    """What an admin makes, near to what looks like players, items and places."""
    ext = "extensions/gullpost"
    name = people(keep)[0][0]
    own = str(uuid.UUID(int=11 << 99 | 1, version=4))
    goods = json.loads(sorted((keep.server / "outer-skerries" / "keepers").iterdir())[3].read_text())["bag"]
    put(keep, f"{ext}/kits.json", json.dumps({"kits": {"first": {"model": own, "holds": list(goods)}}}))
    put(keep, f"{ext}/letters.yaml", f"welcome: 'ask {name} about the reef, or the keeper of the old pier'\n")
    put(keep, f"{ext}/sums.json", json.dumps({"pack": "d41d8cd98f00b204e9800998ecf8427e", "at": 1767225600000}))
    put(keep, f"{ext}/picture.txt", base64.b64encode(random.Random(9).randbytes(900)))
    put(keep, f"{ext}/stops.ini", "[stops]\nold pier = lantern steps\n; see strip.99.99 and strip.0\n")
    put(keep, f"{ext}/colours.toml", 'sea = "#2a6f97"\nwarm = "c4571bc4571bc4571b"\n')
    put(keep, f"{ext}/bird.bin", b"\0" + random.Random(2).randbytes(40_000))
    put(keep, f"{ext}/rules.md", f"# Rules\n\n- be kind\n- {name}s lamp is not for sale\n")
    put(keep, "mission/economy/tolls.xml", '<tolls><toll id="old-pier" pence="4"/></tolls>\n')
    put(keep, "attic/plans.txt", "a second lamp on the north reef\n")
    database(keep, f"{ext}/wares.db", "chandler", 44, b"\1\2\3")


def test_all_that_is_planted_is_found_and_nothing_else(keep: Keep) -> None:
    define(keep)
    assert looked(keep).audit.forgotten == ()
    planted = plant(keep)
    assert len(planted) >= 40
    found = looked(keep)
    assert sorted({item.path for item in found.audit.forgotten}) == sorted(planted)
    assert {item.path for item in found.questions} == {path for path in planted if path.startswith("attic/")}
    kinds = {item.path.rpartition("/")[2]: str(item.what) for item in found.audit.forgotten}
    assert (kinds["item.json"], kinds["place.yaml"], kinds["tile.yaml"]) == ("item", "place", "place")
    assert found.audit.unseen == 0


def test_the_exact_place_of_each_is_told(keep: Keep) -> None:
    plant(keep)
    found = {item.path.rpartition("/")[2]: item for item in looked(keep).audit.forgotten}
    assert (found["deep.json"].places[0].line, found["deep.json"].places[0].where) == (8, "a/[]/b/c/[]/d")
    assert found["homes.yaml"].places[0].line == 2
    assert found["blob.db"].places[0].where == "table held, column whose, row 1"
    assert found["raw.bin"].places[0].where == "byte 3002"
    pouches = [item for name, item in found.items() if name.endswith(".pouch")]
    assert [item.places[0].where for item in pouches] == ["its name", "its name"]


def test_what_another_scope_would_clear_is_told_apart(keep: Keep) -> None:
    found = looked(keep, "players").audit.leftovers
    assert {item.path: item.scope for item in found if "logbook" in item.path} == {
        "outer-skerries/logbook.5.db": "progress"
    }
    assert {item.scope for item in found} == {"progress", "extension-data"}
    assert looked(keep, "players", "extension-data", "progress").audit.leftovers == ()


def test_tiles_that_stay_are_looked_through_when_asked(keep: Keep) -> None:
    tile = keep.server / "outer-skerries" / "chart" / "strip.0.0.sea"
    with tile.open("r+b") as handle:
        handle.seek(5000)
        handle.write(uuid.UUID(people(keep)[0][1]).bytes)
    quick = looked(keep, "players").audit
    assert quick.unseen > 0
    assert quick.unseen_bytes > 0
    deep = looked(keep, "players", deep=True).audit
    assert deep.unseen == 0
    (found,) = [item for item in deep.leftovers if item.path.endswith(".sea")]
    assert (found.scope, found.places[0].where) == ("map", "byte 5000")


def test_an_answer_is_remembered_and_does_what_it_says(keep: Keep) -> None:
    (_, ident), *_ = people(keep)
    put(keep, "attic/lockers.json", json.dumps({ident: 3}))
    put(keep, "attic/keepsakes.json", json.dumps({ident: "a shell"}))
    with pytest.raises(Refused, match=r"attic/keepsakes.json, attic/lockers.json"):
        wipe_preview.require_answers(looked(keep))
    before = (keep.folder / "keep.toml").read_text()
    remember(keep, ("wipe", "unsorted"), {"attic/lockers.json": "clear", "attic/keep*": "keep"})
    again = Keep(keep.folder)
    assert (keep.folder / "keep.toml").read_text().startswith(before.rstrip("\n"))
    found = looked(again)
    wipe_preview.require_answers(found)
    going = {path for one in found.cleared.scopes for path in one.files}
    assert "attic/lockers.json" in going
    assert "attic/keepsakes.json" not in going
    assert "attic/lockers.json" not in {path for one in looked(again, "map").cleared.scopes for path in one.files}


# --- definitions are protected -----------------------------------------------------------


def scoped(keep: Keep, text: str) -> Keep:
    """The keep with its drafted scopes replaced."""
    path = keep.folder / "keep.toml"
    told = path.read_text()
    start, end = told.index("[scopes.map]"), told.index('[records."mission')
    path.write_text(told[:start] + text + "\n" + told[end:])
    return Keep(keep.folder)


@pytest.mark.parametrize(
    ("glob", "named"),
    [
        ("extensions/gullpost/**", "extensions/gullpost/routes.json (no player's identifier in it)"),
        ("extensions/tarline/*.json", "extensions/tarline/shops.json (no player's identifier in it)"),
        ("extension-data", "extensions/gullpost/routes.json"),
        ("mission/economy/*.xml", "mission/economy/reaches.xml (economy)"),
        ("cast-off.sh", "cast-off.sh (scripts)"),
        ("access", "wardens.json (access)"),
    ],
)
def test_a_scope_that_would_clear_what_was_made_by_hand_is_refused(keep: Keep, glob: str, named: str) -> None:
    keep = scoped(keep, f'[scopes.wild]\nfiles = ["{glob}"]\n')
    with pytest.raises(Refused) as caught:
        looked(keep, "wild")
    assert named in str(caught.value)


def test_definitions_that_are_named_may_be_cleared(keep: Keep) -> None:
    keep = scoped(keep, '[scopes.wild]\nfiles = ["extensions/tarline/*.json"]\ndefinitions = ["**/shops.json"]\n')
    found = looked(keep, "wild")
    assert found.cleared.scopes[0].files == ("extensions/tarline/shops.json", "extensions/tarline/tallies.json")


MIXED: dict[str, Callable[[str], str]] = {
    "book.json": lambda ident: json.dumps({"balances": {ident: 4}, "shops": [{"shop": "chandler"}]}, indent=1),
    "book.yaml": lambda ident: f"balances:\n  {ident}: 4\nshops:\n  - shop: chandler\n",
    "book.toml": lambda ident: f'[balances]\n{ident} = 4\n\n[[shops]]\nshop = "chandler"\n',
    "book.xml": lambda ident: (
        f'<book>\n <balances><b of="{ident}">4</b></balances>\n <shops><shop/></shops>\n</book>\n'
    ),
}


@pytest.mark.parametrize("name", MIXED)
def test_a_file_that_holds_both_is_refused_as_a_whole_and_cleared_in_part(keep: Keep, name: str) -> None:
    (_, ident), *_ = people(keep)
    path = f"extensions/tarline/{name}"
    text = MIXED[name](ident)
    put(keep, path, text)
    keep = scoped(keep, f'[scopes.wild]\nfiles = ["{path}"]\n')
    with pytest.raises(Refused, match=r"in it without players: .*shops"):
        looked(keep, "wild")
    (keep.folder / "keep.toml").write_text(
        (keep.folder / "keep.toml")
        .read_text()
        .replace(f'files = ["{path}"]', f'records = [{{ file = "{path}", at = "balances/*" }}]')
    )
    found = looked(Keep(keep.folder), "wild")
    assert [(one.file, one.count) for one in found.cleared.scopes[0].records] == [(path, 1)]
    assert found.cleared.scopes[0].players == 1


def test_a_database_with_tables_of_both_kinds_is_refused_as_a_whole(keep: Keep) -> None:
    (_, ident), *_ = people(keep)
    opened = sqlite3.connect(keep.server / "extensions" / "tarline" / "both.db")
    with opened:
        opened.execute("create table balances (who, shells)")
        opened.execute("create table wares (ware, price)")
        opened.execute("insert into balances values (?, 4)", (ident,))
        opened.execute("insert into wares values ('tar', 2)")
    opened.close()
    with pytest.raises(Refused, match="tables in it without players: wares"):
        looked(scoped(keep, '[scopes.wild]\nfiles = ["extensions/tarline/both.db"]\n'), "wild")


# --- identifiers ----------------------------------------------------------------------------


@given(st.uuids(), st.binary(max_size=40), st.booleans())
def test_every_spelling_of_an_identifier_is_the_same_one(ident: uuid.UUID, noise: bytes, alone: bool) -> None:
    known = Known(frozenset({ident.hex}))
    edge = b" " if alone else b'"'
    spellings = [
        str(ident),
        ident.hex,
        str(ident).upper(),
        base64.b64encode(ident.bytes).decode(),
        base64.urlsafe_b64encode(ident.bytes).decode().rstrip("="),
        base64.b64encode(str(ident).encode()).decode(),
    ]
    for spelled in spellings:
        found = list(known.in_text(noise + edge + spelled.encode() + edge + noise, names=False))
        assert ident.hex in {one.known for one in found}, spelled
    for raw in (ident.bytes, ident.bytes_le):
        assert {one.known for one in known.in_binary(b"\0" * 9 + raw + noise)} == {ident.hex}
    assert canonical(str(ident)) == ident.hex
    assert identifiers(f"x={ident};".encode()) == {ident.hex}


@given(st.lists(st.uuids(), min_size=2, max_size=2, unique=True))
def test_another_identifier_is_not_taken_for_it(pair: list[uuid.UUID]) -> None:
    known = Known(frozenset({pair[0].hex}))
    text = " ".join([str(pair[1]), pair[1].hex, base64.b64encode(pair[1].bytes).decode()]).encode()
    assert list(known.in_text(text)) == []
    assert list(known.in_binary(b"\0" + pair[1].bytes + pair[1].bytes_le)) == []


def test_long_numbers_are_known_as_text_and_as_eight_bytes() -> None:
    number = "44110190000000003"
    known = Known(frozenset({number}))
    assert [one.at for one in known.in_text(f'{{"who": {number}}}'.encode())] == [8]
    assert list(known.in_text(f"{number}4 4{number}".encode())) == []
    for order in ("big", "little"):
        assert [one.at for one in known.in_binary(b"\1\2\3" + int(number).to_bytes(8, order) + b"\4")] == [3]


@pytest.mark.parametrize(
    ("text", "there"),
    [
        ("Odd: 4", True),
        ("  - Odd\n", True),
        ('{"who": "Odd"}', True),
        ("keeper=Odd", True),
        ("Odd,4,5", True),
        ("ask Odd about it", False),
        ("Oddly: 4", False),
        ("Odd-ends: 4", False),
        ("x.Odd", False),
        ("the keeper is Odd", False),
    ],
)
def test_a_name_counts_where_it_stands_by_itself(text: str, there: bool) -> None:
    known = known_people({"0" * 32: "Odd"})
    assert bool(list(known.in_text(text.encode()))) is there
    assert not list(known_people({"0" * 32: "Odd"}, {"Odd"}).in_text(text.encode()))


def test_a_player_who_is_called_like_a_thing_of_the_game_is_not_looked_for_by_that_name(keep: Keep) -> None:
    (name, ident), (other, _), *_ = people(keep)
    put(keep, "mission/named.xml", f"<goods><good name='{name}'/></goods>")
    found = wipe_preview.known_of(keep, FolderTree(keep.server))
    assert (name in found.names, other in found.names, canonical(ident) in found.ids) == (False, True, True)
