"""One player's state put back, and nobody else's: in files of their own, in shared files of every format, in tables."""

from __future__ import annotations

import json
import sqlite3
import uuid
from contextlib import closing
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from emberkeep.wiping import persons
from emberkeep.wiping.persons import Person, person, with_records_of
from tests.conftest import Rock, tree_state

ALL = {uuid.UUID(int=number * 7919, version=4).hex: f"Keeper{number}" for number in range(1, 7)}
ANA, *_ = ALL


def _dashed(ident: str) -> str:
    return str(uuid.UUID(ident))


# --- shared files ---------------------------------------------------------------------------


def _json_keys(held: dict[str, int]) -> str:
    return json.dumps(
        {"release": 3, "purses": {_dashed(one): {"coins": count} for one, count in held.items()}}, indent=1
    )


def _json_list(held: dict[str, int]) -> str:
    return json.dumps(
        [{"id": _dashed(one), "coins": count, "bag": [count, 1]} for one, count in held.items()], indent=2
    )


def _json_line(held: dict[str, int]) -> str:
    return json.dumps({_dashed(one): count for one, count in held.items()})


def _yaml(held: dict[str, int]) -> str:
    return "version: 2\npurses:\n" + (
        "".join(f"  {one}:\n    coins: {count}\n" for one, count in held.items()) or "  {}\n"
    )


def _xml(held: dict[str, int]) -> str:
    inner = "".join(f'  <purse of="{one}">\n    <coins>{count}</coins>\n  </purse>\n' for one, count in held.items())
    return f"<purses>\n  <about>all</about>\n{inner}</purses>\n"


def _toml(held: dict[str, int]) -> str:
    return 'about = "all"\n' + "".join(f'\n[[purse]]\nof = "{one}"\ncoins = {count}\n' for one, count in held.items())


FORMS = {
    "keys.json": _json_keys,
    "list.json": _json_list,
    "line.json": _json_line,
    "a.yaml": _yaml,
    "a.xml": _xml,
    "a.toml": _toml,
}
held = st.dictionaries(st.sampled_from(sorted(ALL)), st.integers(0, 99))


@pytest.mark.parametrize("form", FORMS)
@given(now=held, was=held)
def test_only_theirs_is_as_it_was(form: str, now: dict[str, int], was: dict[str, int]) -> None:
    """Whatever others did meanwhile, and whether they were there then, or are now."""
    write, who = FORMS[form], person("Keeper1", ALL)
    wanted = {one: count for one, count in now.items() if one != ANA} | ({ANA: was[ANA]} if ANA in was else {})
    data, count, _ = with_records_of(form, write(now).encode(), write(was).encode(), who)
    assert _said(form, data) == _said(form, write(wanted).encode())
    assert (count == 0) == (now.get(ANA) == was.get(ANA))
    if count == 0:
        assert data == write(now).encode()


def _said(form: str, data: bytes) -> object:
    """What it says, whatever the order of its records."""
    if form.endswith("json"):
        told = json.loads(data)
        return sorted(told, key=str) if isinstance(told, list) else told
    if form.endswith("toml"):
        import tomllib

        told = tomllib.loads(data.decode())
        return {**told, "purse": sorted(told.get("purse", []), key=str)}
    if form.endswith("yaml"):
        import yaml

        return yaml.safe_load(data)
    from xml.etree import ElementTree

    return sorted(ElementTree.tostring(item).strip() for item in ElementTree.fromstring(data))


def test_a_record_that_names_two_is_nobodys_alone() -> None:
    who = person("Keeper1", ALL)
    other = next(one for one in ALL if one != ANA)
    now = json.dumps({"pacts": [{"by": _dashed(ANA), "with": _dashed(other), "until": 9}], "x": {_dashed(ANA): 1}})
    was = json.dumps({"pacts": [{"by": _dashed(ANA), "with": _dashed(other), "until": 4}], "x": {_dashed(ANA): 2}})
    data, count, staying = with_records_of("a.json", now.encode(), was.encode(), who)
    assert (json.loads(data)["pacts"][0]["until"], json.loads(data)["x"]) == (9, {_dashed(ANA): 2})
    assert (count, staying) == (1, 1)


def test_who_is_meant() -> None:
    assert isinstance(person(_dashed(ANA).upper(), ALL), Person)
    with pytest.raises(Exception, match="nobody here is called Nobody"):
        person("Nobody", ALL)
    with pytest.raises(Exception, match="2 players are called Keeper1"):
        person("Keeper1", {**ALL, "f" * 32: "Keeper1"})


# --- on a server ------------------------------------------------------------------------------


def _change(server: Path, ident: str, coins: int) -> None:
    """Something happens to somebody, everywhere where something of theirs stands."""
    (server / "outer-skerries" / "keepers" / f"{ident}.json").write_text(json.dumps({"at": [coins, 1], "bag": {}}))
    path = server / "extensions" / "tarline" / "tallies.json"
    path.write_text(json.dumps({**json.loads(path.read_text()), ident: coins}))
    with closing(sqlite3.connect(server / "outer-skerries" / "logbook.5.db")) as book, book:
        book.execute("delete from learned where keeper = ?", (ident,))
        book.execute("insert into learned values (?, 'knots', ?)", (ident, coins))


def test_one_of_two_who_were_robbed_is_put_back(rock: Rock) -> None:
    people = {one["name"]: one["id"] for one in json.loads((rock.server / "roll.json").read_text())}
    (name, ident), (_, other) = list(people.items())[:2]
    assert rock.run("snapshot", "--note", "before").code == 0
    then = {path: told for path, told in tree_state(rock.server).items() if ident in path}
    for number, one in enumerate((ident, other), 5):
        _change(rock.server, one, number)
    before = tree_state(rock.server)
    shown = rock.run("restore", "before", "--player", name)
    assert shown.code in (0, 1), shown.err
    assert "extensions/tarline/tallies.json: 1 record as it was" in shown.out, shown.out
    assert "outer-skerries/logbook.5.db:" in shown.out
    told = rock.run("diff", "before", "--player", name)
    assert (told.code, ident in told.out, other in told.out) == (1, True, False), told
    assert tree_state(rock.server) == before
    done = rock.run("restore", "before", "--player", name, "--go")
    assert done.code == shown.code, done.err
    after = tree_state(rock.server)
    assert {path: told for path, told in after.items() if ident in path} == then
    changed = {path for path in {*before, *after} if before.get(path) != after.get(path) and before[path][0] == "file"}
    shared = {"extensions/tarline/tallies.json", "outer-skerries/logbook.5.db"}
    assert {path for path in changed if ident not in path} == shared
    tallies = json.loads((rock.server / "extensions" / "tarline" / "tallies.json").read_text())
    assert (tallies[ident] != 5, tallies[other]) == (True, 6)
    with closing(sqlite3.connect(rock.server / "outer-skerries" / "logbook.5.db")) as book:
        rows = book.execute("select * from learned where keeper in (?, ?)", (ident, other)).fetchall()
    assert (other, "knots", 6) in rows
    assert (ident, "knots", 5) not in rows
    assert rock.run("undo", "--go").code == 0
    assert tree_state(rock.server) == before


def _rows(server: Path, what: str) -> list[tuple[object, ...]]:
    with closing(sqlite3.connect(server / "outer-skerries" / "logbook.5.db")) as book:
        return book.execute(what).fetchall()


def test_rows_that_name_others_too_stay_and_are_said_and_triggers_touch_nobody(rock: Rock) -> None:
    people = [(one["name"], one["id"]) for one in json.loads((rock.server / "roll.json").read_text())]
    (name, ident), (_, other) = people[:2]
    path = rock.server / "outer-skerries" / "logbook.5.db"
    with closing(sqlite3.connect(path)) as book, book:
        book.execute("create table pact (one text, two text, until integer)")
        book.execute("create table purse (keeper text, coins integer)")
        book.execute("create table tally (keeper text, coins integer)")
        book.executemany("insert into pact values (?, ?, 4)", [(ident, other), (ident, None)])
        for table in ("purse", "tally"):
            book.executemany(f"insert into {table} values (?, 4)", [(ident,), (other,)])
    assert rock.run("snapshot", "--note", "before").code in (0, 1)
    with closing(sqlite3.connect(path)) as book, book:
        book.execute("update pact set until = 9")
        book.execute("update purse set coins = 9")
    told = rock.run("diff", "before", "--player", name)
    assert "outer-skerries/logbook.5.db: 1 row names others too, and stays as now" in told.out, told.out
    done = rock.run("restore", "before", "--player", name, "--go")
    assert "1 row names others too" in done.out + done.err, done
    assert sorted(_rows(rock.server, "select until from pact where two is null or one != ''")) == [(4,), (9,)]
    assert _rows(rock.server, "select until from pact where two is not null") == [(9,)]
    assert sorted(_rows(rock.server, "select keeper, coins from purse")) == sorted([(ident, 4), (other, 9)])

    with closing(sqlite3.connect(path)) as book, book:
        book.execute("create trigger sweep after delete on tally begin update tally set coins = 0; end")
        book.execute("update tally set coins = 9 where keeper = ?", (ident,))
    before = path.read_bytes()
    done = rock.run("restore", "before", "--player", name)
    assert "triggers, which may change others' rows" in done.out + done.err, done
    assert path.read_bytes() == before


@pytest.mark.parametrize("what", ["gone now", "too large"])
def test_a_file_that_cannot_be_looked_into_is_told(rock: Rock, what: str, monkeypatch: pytest.MonkeyPatch) -> None:
    name = json.loads((rock.server / "roll.json").read_text())[0]["name"]
    assert rock.run("snapshot", "--note", "before").code == 0
    path = rock.server / "extensions" / "tarline" / "tallies.json"
    if what == "gone now":
        path.unlink()
    else:
        path.write_text(json.dumps({**json.loads(path.read_text()), "x": 1}))
        monkeypatch.setattr(persons, "LARGEST", path.stat().st_size - 1)
    shown = rock.run("restore", "before", "--player", name)
    assert (shown.code, "extensions/tarline/tallies.json: is left as it is: " in shown.out) == (1, True), shown


def test_nobody_is_put_back_under_a_running_server_or_by_a_wrong_name(rock: Rock) -> None:
    assert rock.run("snapshot").code == 0
    assert "nobody here is called Xyz" in rock.run("restore", "latest", "--player", "Xyz").err
    assert rock.run("restore", "latest", "--player", "Xyz", "--only", "players").code == 2
    assert rock.run("start", "--go").code == 0
    name = json.loads((rock.server / "roll.json").read_text())[0]["name"]
    assert "is running" in rock.run("restore", "latest", "--player", name).err
    assert rock.run("stop", "--now", "--go").code == 0
