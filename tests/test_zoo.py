"""Servers that nobody prepared: made-up families with facts (``benchmarks/zoo``), and the laws of what is inferred of them."""

from __future__ import annotations

import json
import os
import re
import sqlite3
import subprocess
import sys
import tarfile
from collections.abc import Sequence
from contextlib import closing
from pathlib import Path

import pytest

from emberkeep.detection import launch, logs
from emberkeep.detection.adopt import adopt
from emberkeep.detection.context import InferenceContext
from emberkeep.detection.draft import draft, drafted_scopes
from emberkeep.detection.evidence import PRIOR, WEIGHTS, Evidence, Hypothesis
from emberkeep.detection.findings import Adoption, Sure
from emberkeep.detection.recurring import varying
from emberkeep.detection.refresh import refresh, written
from emberkeep.documents import edit
from emberkeep.fs.folder_tree import FolderTree
from emberkeep.fs.trees import Kind
from emberkeep.inventory.leading import leads_to
from emberkeep.inventory.probe import FileProbe, begins_as_json, content_kind
from emberkeep.inventory.roles import Roles
from emberkeep.inventory.versions import find
from emberkeep.keep.keep import Keep
from emberkeep.keep.tables.server import UNSORTED
from emberkeep.process.signs import opened, wait_for
from emberkeep.process.watch import Watched, read_line
from emberkeep.survey.survey import pointer_of
from emberkeep.wiping import identifiers
from tests import depth
from tests.conftest import tree_state
from tests.program import run_program

sys.path.insert(0, str(Path(__file__).parent.parent / "benchmarks" / "zoo"))

from families import OPEN, STYLES, build, by_name
from further import FURTHER, build_shape
from ground import NOW, Ground
from judge import RIGHT, Judge
from later import LATER

NOT_FOUND = {
    "mill": ("names", "known by id"),
    "tor": ("known by id",),
    "buoy": ("a file of each player", "players' files", "known by id"),
    "gorse": ("a file of each account", "players' files", "known by id"),
    "abbey": ("live",),
    "brook": ("server", "a file of each player, by a part of the id and the name"),
    "dune": ("server",),
    "salt": ("what the admin and the vendor made",),
    "mesa": ("a fresh install",),
    "mesas": ("a fresh install",),
}
"""What is known to be missed: names in a list that nothing else names; vendor content, and players of whom nothing else tells, where
all times are alike; a save of each day in folders by month, and a ban a file, which are questions."""
SHAPES = {**FURTHER, **LATER}
NAMES = [*(family.name for family in OPEN), *SHAPES]


@pytest.mark.parametrize("name", depth.some(NAMES, 5))
def test_a_family_is_understood(name: str, tmp_path: Path) -> None:
    """Each in one of its four guises: with all words exchanged, decoys, other sizes and times."""
    ground = _built(name, tmp_path / "server")
    found = Judge(ground, tmp_path).verdicts()
    assert len(found) > 7
    assert [one for one in found if one.verdict != RIGHT and one.fact.about not in NOT_FOUND.get(name, ())] == []


UNDATED = {"mesas", "shire"}
"""A fresh install with the vendor's own world, and a world of texts alone: only times tell, and these tell nothing then."""
DATED = [name for name in ("stacks", "coombe", "gannetry", "ness", "drift", *NAMES) if name not in UNDATED]


@pytest.mark.parametrize("name", depth.some(list(dict.fromkeys(DATED)), 4))
def test_right_after_an_update_the_same_world_is_found(name: str, tmp_path: Path) -> None:
    """The program is what was written last, and has not been started since."""
    ground = _built(name, tmp_path / "server")
    before = adopt(ground.root).world
    for fact in ground.facts:
        if fact.kind == "program":
            os.utime(ground.root / fact.expected[0], (NOW + 3600, NOW + 3600))
    after = adopt(ground.root).world
    assert (after.folder, after.pointer_key) == (before.folder, before.pointer_key)


def _built(name: str, root: Path) -> Ground:
    style = STYLES[NAMES.index(name) % len(STYLES)]
    root.mkdir()
    return build_shape(SHAPES, name, root, style) if name in SHAPES else build(by_name(name), root, style)


@pytest.mark.parametrize("name", depth.some(NAMES, 5))
def test_survey_denies_nothing_that_adopt_is_sure_of(name: str, tmp_path: Path) -> None:
    ground = _built(name, tmp_path / "server")
    found = adopt(ground.root)
    (tmp_path / "keep").mkdir()
    (tmp_path / "keep" / "keep.toml").write_text(draft(found, str(ground.root), "UTC"), encoding="utf-8")
    keep = Keep(tmp_path / "keep", {})
    pointer = pointer_of(keep, FolderTree(ground.root))
    assert pointer is None or pointer.there or found.world.pointer_sure is Sure.GUESS
    told = {one.name for one in find(FolderTree(ground.root), keep.config.versions)}
    assert {version.name for version in found.versions} == told


@pytest.mark.parametrize("name", depth.some(NAMES, 5))
def test_wipes_look_for_the_players_that_adopt_found(name: str, tmp_path: Path) -> None:
    """Whatever their ids look like, and however the lists of them are written."""
    ground = _built(name, tmp_path / "server")
    found = adopt(ground.root)
    if name == "brook":
        pytest.skip("their ids stand within their files alone")
    config = Keep(_confirmed(found, tmp_path / "keep"), {}).config
    roles, tree = Roles(config.roles), FolderTree(ground.root)
    told = identifiers.people(tree, config)
    listed = {"access", "players"} & {
        roles.of(path) for path, entry in tree.entries().items() if entry.kind is Kind.FILE
    }
    wanted = {identifiers.canonical(one.id) or one.id for one in ground.players} if listed else set()
    assert wanted <= set(told)
    strangers = set(told) - wanted - {one.name for one in ground.players}
    assert not strangers


@pytest.mark.parametrize("name", depth.some(NAMES, 4))
def test_a_world_from_elsewhere_is_put_beside_the_one_that_is_played(name: str, tmp_path: Path) -> None:
    """Whatever a world of this server is: tiles, one file with others beside it, a key-value store, chunks."""
    ground = _built(name, tmp_path / "server")
    found = adopt(ground.root)
    world = found.world
    of_all = any(table.database == world.folder for table in found.tables)
    if of_all or not (world.pointer_file and world.pointer_kept):
        pytest.skip("no setting leads to it, or others have a part in it")
    keep = _confirmed(found, tmp_path / "keep")
    value = str(edit.value(world.pointer_file, (ground.root / world.pointer_file).read_bytes(), world.pointer_key))
    at = next(path for path in (world.folder, *map(str, Path(world.folder).parents)) if leads_to(value, path))
    live = ground.root / at
    files = live.parent.glob(f"{live.name.split('.', 1)[0]}.*") if world.is_file else live.rglob("*")
    theirs = {
        path: path.read_bytes() for path in files if path.is_file() and not path.name.endswith((".log", ".lock", "~"))
    }
    packed = tmp_path / "from.afriend"
    with tarfile.open(packed, "w:gz") as archive:
        for path in theirs:
            inside = path.relative_to(live.parent).as_posix()
            archive.add(path, f"an export/{inside.replace(live.name.split('.', 1)[0], 'theirs', 1)}")
    before = tree_state(ground.root)
    done = run_program("--keep", keep, "import", packed, "--as", "far-isles", "--go", cwd=tmp_path)
    if "holds more than the world" in done.err:
        assert (done.code, tree_state(ground.root)) == (3, before)
        return
    assert done.code == 0, (done.out, done.err)
    after = tree_state(ground.root)
    assert {path for path, told in before.items() if told[0] == "file" and after[path] != told} == {world.pointer_file}
    new = {path.removeprefix(f"{at.rpartition('/')[0]}/") for path in after.keys() - before.keys()}
    assert {path.partition("/")[0].split(".", 1)[0] for path in new} == {"far-isles"}
    assert sum(after[path][0] == "file" for path in after.keys() - before.keys()) == len(theirs)
    pointer = pointer_of(Keep(keep, {}), FolderTree(ground.root))
    assert pointer is not None
    assert pointer.there
    assert "far-isles" in str(pointer.value)


@pytest.mark.parametrize("name", depth.some(NAMES, 4))
def test_refresh_finds_what_broken_files_hid(name: str, tmp_path: Path) -> None:
    ground = _built(name, tmp_path / "server")
    whole = {
        path: path.read_bytes()
        for path in ground.root.rglob("*")
        if path.suffix in (".json", ".xml", ".yml", ".yaml", ".toml") and path.is_file()
    }
    for path, data in whole.items():
        path.write_bytes(data[: len(data) // 2] + b"\n<<<<<<< torn\n")
    (tmp_path / "keep").mkdir()
    told = tmp_path / "keep" / "keep.toml"
    told.write_text(draft(adopt(ground.root), str(ground.root), "UTC"))
    for path, data in whole.items():
        path.write_bytes(data)
    ground.finish()
    fresh = adopt(ground.root)
    found = refresh(Keep(told.parent, {}).config, fresh)
    told.write_text(written(told.read_text(), found.proposals))
    refreshed = Keep(told.parent, {}).config
    mine = Roles(refreshed.roles)
    lacking = [
        path
        for path, entry in FolderTree(ground.root).entries().items()
        if entry.kind is Kind.FILE and mine.of(path) == UNSORTED and path not in fresh.unsorted
    ]
    assert lacking == []
    assert {scope.name for scope in refreshed.wiping.scopes} >= set(drafted_scopes(fresh))
    assert refresh(refreshed, fresh).proposals == ()


def _confirmed(found: Adoption, folder: Path) -> Path:
    """A keep whose questions were all answered by yes."""
    folder.mkdir()
    text = draft(found, str(found.server), "UTC")
    (folder / "keep.toml").write_text("".join(line for line in text.splitlines(True) if not line.startswith("# ?")))
    return folder


# --- one at a time --------------------------------------------------------------


def _scene(root: Path, **files: str | bytes) -> InferenceContext:
    for name, data in files.items():
        path = root / name.replace("__", "/").replace("_dot_", ".")
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_bytes(data.encode() if isinstance(data, str) else data)
    tree = FolderTree(root)
    return InferenceContext(tree, FileProbe(tree, root))


def _worlds(root: Path, *names: str) -> None:
    """Two files of bytes in each of some worlds beside each other."""
    _scene(root, **{f"worlds__{name}__{part}_dot_bin": bytes(range(256)) * 40 for name in names for part in "ab"})


ELF = b"\x7fELF\x02\x01\x01" + bytes(64)


@pytest.mark.parametrize(
    ("script", "program"),
    [
        ("./run --world saves/a.sav\n", ["run"]),
        ("cd Bin && ./deep -x\n", ["Bin/deep"]),
        ("cd Bin\nwhile true; do\n  ./deep; sleep 5\ndone\n", ["Bin/deep"]),
        ("until $HERE/Bin/deep --load saves/a.sav; do sleep 1; done\n", ["Bin/deep"]),
        ("P=./run\nexec nice -n 5 $P\n", ["run"]),
        ("echo ./run is not started\n", []),
        ("# ./run\n", []),
        ("/usr/bin/other saves/a.sav\n", []),
        ("mono -v run -port 1\n", ["run"]),
        ("python3 -m deck --port 1\n", ["deck/__main__.py"]),
        ("exec python3 -u -m deck.sail\n", ["deck/sail.py"]),
        ("python3 -m venv\n", []),
    ],
)
def test_only_what_is_executed_is_a_program(script: str, program: list[str], tmp_path: Path) -> None:
    (tmp_path / "deck").mkdir()
    (tmp_path / "deck" / "__main__.py").write_text("import sail\n")
    (tmp_path / "deck" / "sail.py").write_text("print(1)\n")
    scene = _scene(tmp_path, run=ELF, Bin__deep=ELF, saves__a_dot_sav=bytes(400), go_dot_sh="#!/bin/sh\n" + script)
    assert launch.started_files(scene, "go.sh") == program


@pytest.mark.parametrize(
    ("text", "is_json"),
    [
        ('[19:12:44] [INFO] {"help": "x"}\n', False),
        ('[Server]\nname = "x"\n', False),
        ('[3140]\nname = "x"\n', False),
        ('{"a": 1}\n{"a": 2}\n', True),
        ("[1, 2]", True),
        ("{not: json}", False),
        ('{"a": [' + '"words", ' * 900, True),
    ],
)
def test_what_begins_as_json(text: str, is_json: bool) -> None:
    assert begins_as_json(text) is is_json


@pytest.mark.parametrize("cut", range(4))
def test_a_text_that_is_cut_within_a_character_is_a_text(cut: int) -> None:
    head = ("a" + "\U0001f41f" * 1023).encode()[: 4093 - cut]
    assert content_kind("notes", head) == "text"


@pytest.mark.parametrize(
    ("names", "expected"),
    [
        (["acct_31412.chr", "acct_31498.chr"], ("acct_", ".chr")),
        (["a1_profile.json", "b2_profile.json"], ("", "_profile.json")),
        (["one", "other"], ("", "")),
        (["x.dat", "x.y.dat"], ("x.", ".dat")),
    ],
)
def test_the_part_of_names_that_varies(names: list[str], expected: tuple[str, str]) -> None:
    before, behind = varying(names)
    assert all(name.startswith(before) and name.endswith(behind) and len(name) > len(before + behind) for name in names)
    assert (before, behind) == expected or names[0] == "x.dat"


def test_who_comes_and_goes_is_told_by_two_lines_that_differ_in_one_word() -> None:
    lines = ["up 1.2", "lands tar", "Ana comes in", "Bob comes in", "Ana goes", "lands rope", "Bob goes"]
    assert logs.visitors(lines, [""] * 7) == {"Ana", "Bob"}
    assert logs.visitors(lines[:4], [""] * 4) == set()
    ids = {name: f"0f1e2d3c-4b5a-4978-8796-a5b4c3d2e1f{at}" for at, name in enumerate(("Ana", "Bob"))}
    beside = [f"{name} [{ids[name]}] {word}" for word in ("lands", "goes") for name in ids]
    assert logs.visitors(beside, [""] * 4) == {"Ana", "Bob"}
    assert logs.visitors(lines, ["10:00 "] * 7) == set()


def test_a_line_that_names_a_player_and_their_id_is_learned_for_any_other(tmp_path: Path) -> None:
    ids = {name: f"0f1e2d3c-4b5a-4978-8796-a5b4c3d2e1f{at}" for at, name in enumerate(("Ana", "Bob", "Cid"))}
    lines = ["up 1.2.0", "ready", *(f"{name} [{ids[name]}] {word}" for word in ("lands", "goes") for name in ids)]
    (tmp_path / "server.log").write_text("".join(f"[19:12:4{at}] {line}\n" for at, line in enumerate(lines)))
    found = adopt(tmp_path).log
    assert found is not None
    told = {line.kind: line for line in found.lines}
    assert re.search(told["joined"].pattern, "Dan [00000000-4b5a-4978-8796-a5b4c3d2e1f9] lands")
    assert told["left"].example.endswith("goes")


def test_confidence_is_what_the_evidence_adds_up_to() -> None:
    table = WEIGHTS["world"]
    none = Hypothesis("world", "x", ())
    assert none.log_odds == table[PRIOR]
    assert none.sure is Sure.GUESS
    told = Hypothesis(
        "world", "x", (Evidence("a setting leads to it", "k is x"), Evidence("tiles"), Evidence("a copy of another"))
    )
    assert told.log_odds == pytest.approx(
        sum(table[name] for name in (PRIOR, "a setting leads to it", "tiles", "a copy of another"))
    )
    assert told.reasons == "k is x; tiles; but a copy of another"
    assert Hypothesis("world", "x", told.evidence[:2]).sure is Sure.SURE


PEOPLE = [{"uid": str(1000 + at * 17), "nick": f"Nils{at}"} for at in range(6)]
GOODS = [{"good": word, "worth": at} for at, word in enumerate(("kelp", "tar", "rope", "oil", "net", "peat"))]


def _with_table(root: Path, column: str, values: list[str]) -> None:
    with closing(sqlite3.connect(root / "book.db")) as database, database:
        database.execute(f"create table kept ({column} text, n integer)")
        database.executemany("insert into kept values (?, 1)", ((value,) for value in values))
        database.execute("create table other (a text)")
        database.executemany("insert into other values (?)", (("x",),) * 9)


def test_odd_ids_are_known_by_where_they_recur(tmp_path: Path) -> None:
    _scene(
        tmp_path,
        crew_dot_json=json.dumps(PEOPLE),
        bank_dot_json=json.dumps({"purse": {one["uid"]: 4 for one in PEOPLE}}),
    )
    _with_table(tmp_path, "owner", [one["uid"] for one in PEOPLE])
    found = adopt(tmp_path)
    assert (found.players, [(one.database, one.table, one.others) for one in found.tables]) == (
        6,
        [("book.db", "kept", ("other",))],
    )
    assert {item.glob: item.role for item in found.roles}["crew.json"] == "access"


def test_goods_that_recur_as_often_are_no_people(tmp_path: Path) -> None:
    wares = json.dumps(GOODS)
    _scene(tmp_path, wares_dot_json=wares, stock_dot_json=wares, more__stock_dot_json=wares)
    _with_table(tmp_path, "good", [str(one["good"]) for one in GOODS])
    found = adopt(tmp_path)
    assert (found.players, found.tables) == (0, ())
    assert "access" not in {item.role for item in found.roles}


NOW_S = 1_790_000_000
LONG = [f"314000000000000{at:02}" for at in range(90)]
NAMED = [(ident, f"Nils{at}", at % 2) for at, ident in enumerate(LONG[:6])]


@pytest.mark.parametrize(
    ("hours", "world"), [((1, 5, 3, 2), "saves/turn_1.sav"), ((1, 900, 40, 2), "saves"), ((1, 1, 1, 1), "saves")]
)
def test_saves_that_are_written_in_turn_are_one_world_and_slots_are_not(
    tmp_path: Path, hours: Sequence[int], world: str
) -> None:
    """The newest of them is played, whatever its number; a save by hand beside them is none of it."""
    _scene(tmp_path, **{f"saves__turn_{at}_dot_sav": os.urandom(9000) for at in range(1, 5)})
    _scene(tmp_path, saves__by_hand_dot_sav=os.urandom(8000))
    for at, ago in enumerate(hours, 1):
        os.utime(tmp_path / f"saves/turn_{at}.sav", (NOW_S - ago * 3600,) * 2)
    os.utime(tmp_path / "saves/by_hand.sav", (NOW_S - 900 * 3600,) * 2)
    found = adopt(tmp_path).world
    assert found.folder == world
    assert found.sure is Sure.GUESS  # slots may have been saved at even intervals by chance
    (tmp_path / "server.ini").write_text("title = Deep\nslot = turn_4\n")
    chosen = adopt(tmp_path).world
    assert (chosen.folder, "older copies" in chosen.evidence) == ("saves/turn_4.sav", False)


@pytest.mark.parametrize("ids", [LONG[:5], LONG, [str(1700 + at) for at in range(5)]])
@pytest.mark.parametrize("apart", [3600, 0])
def test_files_that_nothing_else_names_are_players_where_each_says_another_name(
    tmp_path: Path, ids: list[str], apart: int
) -> None:
    """A question always, and not at all where they came at once, as a vendor's do."""
    for at, ident in enumerate(ids):
        _scene(tmp_path, **{f"kept__{ident}_dot_json": json.dumps({"id": ident, "name": f"Nils{at}", "oil": at})})
        os.utime(tmp_path / f"kept/{ident}.json", (NOW_S + at * apart,) * 2)
    found = adopt(tmp_path)
    assert found.players == (len(ids) if apart else 0)
    roles = {item.role: item.sure for item in found.roles if item.glob == "kept/*.json"}
    assert roles.get("players") is (Sure.GUESS if apart else None)


@pytest.mark.parametrize(
    ("beside", "copy"), [(["Old Harbour"], False), (["Old Harbour", "Harbour"], True), (["old"], True)]
)
def test_a_world_is_no_copy_for_what_it_is_called(tmp_path: Path, beside: list[str], copy: bool) -> None:
    _worlds(tmp_path, *beside)
    (tmp_path / "server.ini").write_text(f"title = Deep\nworld = {beside[0]}\n")
    found = adopt(tmp_path).world
    told = {one.at: one.reasons for one in found.candidates}
    assert ("it is called as copies are" in told[f"worlds/{beside[0]}"]) is copy


def test_a_variable_with_a_default_is_that() -> None:
    script = '#!/bin/sh\nREALM="${REALM:-clear brook}"\nPORT=${PORT-27400}\n./deep --realm "$REALM" --port $PORT\n'
    assert [(one.key, one.value) for one in launch.settings(script)] == [("REALM", "clear brook"), ("PORT", "27400")]


def test_inhabitants_of_a_world_are_no_players_where_others_are_known(tmp_path: Path) -> None:
    """They have ids, names and files that the server writes one by one, too."""
    for at, ident in enumerate(LONG[:12]):
        path = f"{'souls' if at < 6 else 'dwellers'}/{ident}.json"
        _scene(tmp_path, **{path.replace("/", "__"): json.dumps({"name": f"Nils{at}", "oil": at})})
        os.utime(tmp_path / path, (NOW_S + at * 3600,) * 2)
    _scene(tmp_path, crew_dot_json=json.dumps([{"id": ident} for ident in LONG[:6]]))
    found = adopt(tmp_path)
    assert found.players == 6
    assert {item.glob for item in found.roles if item.role == "players"} == {"souls/*.json"}


def test_what_a_few_of_the_players_have_is_a_guess(tmp_path: Path) -> None:
    """Bans, a file each, are named by ids as the files of all players are, and are the admin's."""
    for ident in LONG[:9]:
        _scene(tmp_path, **{f"souls__{ident}_dot_bin": os.urandom(600)})
    for ident in LONG[:3]:
        _scene(tmp_path, **{f"bans__{ident}_dot_json": json.dumps({"id": ident, "why": "griefing"})})
    sure = {item.glob: item.sure for item in adopt(tmp_path).roles if item.role == "players"}
    assert sure["souls/*.bin"] is not Sure.GUESS
    assert sure["bans/*.json"] is Sure.GUESS


@pytest.mark.parametrize(
    ("name", "text"),
    [
        (
            "ranks.yml",
            "ranks:\n" + "".join(f"  {one}:\n    name: {name}\n    rank: {rank}\n" for one, name, rank in NAMED),
        ),
        ("ranks.json", json.dumps({one: {"name": name, "rank": rank} for one, name, rank in NAMED})),
        ("people.conf", "[stewards]\n" + "".join(f"{one} = {name}\n[g{one[-1]}]\n" for one, name, _ in NAMED)),
    ],
)
def test_people_by_their_ids_as_keys_are_known(tmp_path: Path, name: str, text: str) -> None:
    root = tmp_path / "server"
    _scene(root, **{name: text})
    found = adopt(root)
    assert found.players == 6
    assert next(item.role for item in found.roles if item.glob == name) == "access"
    people = identifiers.people(FolderTree(root), Keep(_confirmed(found, tmp_path / "keep"), {}).config)
    assert people == {one: name for one, name, _ in NAMED}


def test_copies_of_copies_stand_beside_one_save(tmp_path: Path) -> None:
    _scene(tmp_path, **{f"world__deep.map{end}": os.urandom(9000) for end in ("", ".1.bak", ".2.bak")})
    assert adopt(tmp_path).world.folder == "world/deep.map"


@pytest.mark.parametrize(
    ("script", "compose"),
    [
        ("docker compose pull\nexec docker compose up -d", "services:\n  deep:\n    image: a.example/deep:2.6.1\n"),
        ("exec docker run -v /a:/b -p 1:2/udp registry.example/deep:2.6.1 --x", "keep: 3\n"),
    ],
)
def test_a_server_in_containers_has_a_launch_script_and_a_version(tmp_path: Path, script: str, compose: str) -> None:
    root = tmp_path / "server"
    _scene(root, up_dot_sh=f"#!/bin/sh\n{script}\n", compose_dot_yaml=compose)
    found = adopt(root)
    assert found.launch is not None
    assert (found.launch.script, found.launch.program, found.launch.sure) == ("up.sh", "", Sure.LIKELY)
    keep = Keep(_confirmed(found, tmp_path / "keep"), {})
    assert [(one.name, one.version) for one in find(FolderTree(root), keep.config.versions)] == [("engine", "2.6.1")]


def test_two_worlds_that_nothing_tells_apart_are_a_question(tmp_path: Path) -> None:
    _worlds(tmp_path, "north", "south")
    found = adopt(tmp_path)
    assert found.world.sure is Sure.GUESS
    assert any("is the world" in question or "the world?" in question for question in found.questions)


def test_the_log_and_the_running_program_tell_two_worlds_apart(tmp_path: Path) -> None:
    _worlds(tmp_path, "north", "south")
    (tmp_path / "server.log").write_text("[19:12:40] up\n[19:12:41] reads worlds/south\n[19:12:42] ready\n")
    named = adopt(tmp_path)
    assert named.world.folder == "worlds/south"
    assert "the log names it" in named.world.evidence
    (tmp_path / "server.log").unlink()
    (tmp_path / "play.py").write_text("import sys\nheld = open('worlds/north/b.bin', 'r+b')\nsys.stdin.read()\n")
    program = subprocess.Popen([sys.executable, "play.py"], cwd=tmp_path, stdin=subprocess.PIPE)
    try:
        assert wait_for(lambda: "worlds/north/b.bin" in opened(tmp_path), 20)
        written = adopt(tmp_path).world
    finally:
        program.communicate(timeout=20)
    assert written.folder == "worlds/north"
    assert "has worlds/north/b.bin open for writing" in written.evidence


def test_a_database_of_players_and_of_others_is_never_cleared_whole(tmp_path: Path) -> None:
    _scene(
        tmp_path, crew_dot_json=json.dumps([{"id": f"314000000000000{at:02}", "name": f"Nils{at}"} for at in range(6)])
    )
    _with_table(tmp_path, "owner", [f"314000000000000{at:02}" for at in range(6)])
    text = draft(adopt(tmp_path), "server", "UTC")
    scope = text[text.index("[scopes.progress]") :].split("\n\n")[0]
    assert '{ database = "book.db", table = "kept" }' in scope
    assert "files =" not in scope


def test_texts_that_share_words_are_no_lists_of_people(tmp_path: Path) -> None:
    for number in range(12):
        words = " ".join(("kelp", "tar", "rope", "oil", "net")[(number + at) % 5] for at in range(40))
        (tmp_path / f"{'abcdefghijkl'[number] * 5}.txt").write_text(words + "\n")
    found = adopt(tmp_path)
    assert (found.players, {item.role for item in found.roles}) == (0, set())


def test_a_log_in_colours_is_read_as_one_without() -> None:
    plain = ["10:00:01 Peat 1.7 up", "10:00:02 listening on 27500", "10:00:09 ready, 7.2 s"]
    coloured = [f"\x1b[0;;m\x1b[32m{line[:8]}\x1b[0m{line[8:]}" for line in plain]
    assert logs.is_log("\n".join(coloured))
    seen = Watched()
    for line in coloured:
        seen = read_line(seen, line, {"version": r"^10:00:01 Peat (\d+\.\d+)", "ready": r"^10:00:09 ready"})
    assert (seen.version, bool(seen.ready)) == ("1.7", True)
