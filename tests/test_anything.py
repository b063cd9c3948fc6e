"""Any edits of a server folder, any damage to a keep, any command: never a fault of ours, and a keep that was whole gives
back its first snapshot whole.

``EMBERKEEP_STEPS`` says how many commands each seed tries (3; 15 in the long form), ``EMBERKEEP_SEED`` where the seeds begin.
"""

from __future__ import annotations

import os
import random
import shutil
from collections.abc import Callable
from contextlib import suppress
from pathlib import Path

import pytest

from tests import depth
from tests.conftest import tree_state
from tests.program import Program

STEPS = depth.number("STEPS", 3, 15)
SEED = int(os.environ.get("EMBERKEEP_SEED", "1"))
TEXT = {".xml", ".json", ".toml", ".yaml", ".ini", ".properties", ".txt", ".sh", ".lst"}
SCRAPS = (
    b"\0", b"\xff\xfe", b"<", b"{", b"]", b'"', b"&#0;", b"\r", b"9" * 5000, b"<!--", b"<![CDATA[", b"\xef\xbb\xbf", b"a = 1\n",
    b"<!DOCTYPE a [<!ENTITY b 'c'>]>", b"&x", b"!!python/object:os.system x\n", b"<<<<<<< x\n", b"%YAML 9.9\n---\n",
)  # fmt: skip
NAMES = (b"a\nb.xml", b"\xff\xfe.json", b"-rf", b".emberkeep-x", b"CON", b"n" * 250, b" lead", b"tab\t.ini")
VALUES = ("1", "-1", '"x"', "[]", "{}", "true", '["a", 3]', "2026-01-01", '"../.."', '"("', "inf", "9" * 40, '"**/[a"')


def truncated(path: Path, chance: random.Random) -> None:
    data = path.read_bytes()
    path.write_bytes(data[: chance.randrange(len(data) + 1)])


def scrapped(path: Path, chance: random.Random) -> None:
    data = bytearray(path.read_bytes())
    for _ in range(3):
        at = chance.randrange(len(data) + 1)
        data[at:at] = chance.choice(SCRAPS)
    path.write_bytes(data)


def flipped(path: Path, chance: random.Random) -> None:
    data = bytearray(path.read_bytes())
    for _ in range(chance.randrange(1, 20) if data else 0):
        data[chance.randrange(len(data))] ^= 1 << chance.randrange(8)
    path.write_bytes(data)


def shuffled(path: Path, chance: random.Random) -> None:
    lines = path.read_bytes().split(b"\n")
    chance.shuffle(lines)
    path.write_bytes(b"\n".join(lines))


def deep(path: Path, chance: random.Random) -> None:
    opened = chance.choice((b"[", b"<a>", b'{"a":', b"a:\n "))
    path.write_bytes(opened * chance.choice((10, 400, 3000, 100_000)))


def a_folder(path: Path, _: random.Random) -> None:
    path.unlink()
    path.mkdir()


def a_link(path: Path, chance: random.Random) -> None:
    path.unlink()
    path.symlink_to(chance.choice((".", "/", "nowhere", path.name)))


def beside(path: Path, chance: random.Random) -> None:
    (path.parent / os.fsdecode(chance.choice(NAMES))).write_bytes(chance.randbytes(50))


def dated(path: Path, chance: random.Random) -> None:
    os.utime(path, ns=(0, chance.choice((-1_500_000_000, 10**19))))


def with_a_pipe(path: Path, _: random.Random) -> None:
    os.mkfifo(path.with_name(path.name + ".pipe"))


EDITS: tuple[Callable[[Path, random.Random], None], ...] = (
    truncated, scrapped, flipped, shuffled, deep, a_folder, a_link, beside, dated, with_a_pipe, lambda path, _: path.unlink(),
)  # fmt: skip


def told_otherwise(path: Path, chance: random.Random) -> None:
    lines = path.read_text(encoding="utf-8", errors="replace").split("\n")
    at = chance.randrange(len(lines))
    name = lines[at].split("=", 1)[0] if "=" in lines[at] else "x "
    lines[at : at + chance.randrange(2)] = [f"{name}= {chance.choice(VALUES)}"]
    path.write_text("\n".join(lines), encoding="utf-8")


def spoil(keep: Path, chance: random.Random) -> str:
    """Damage to a file of the keep, as a failing disk or a hand in a hurry does it."""
    path = chance.choice(sorted(path for path in keep.rglob("*") if path.is_file()))
    act = told_otherwise if path.suffix == ".toml" else chance.choice((truncated, flipped, scrapped, a_folder))
    act(path, chance)
    return f"{act.__name__} {path.relative_to(keep)}"


def edit(server: Path, chance: random.Random) -> str:
    """An edit of some file of the server, mostly of one of text."""
    found = sorted(path for path in server.rglob("*") if path.is_file() and not path.is_symlink())
    texts = [path for path in found if path.suffix in TEXT]
    path = chance.choice(texts if texts and chance.random() < 0.7 else found)
    act = chance.choice(EDITS)
    with suppress(OSError):  # a name that is taken or too long
        act(path, chance)
    return f"{act.__name__} {path.relative_to(server)!s}"


def command(chance: random.Random, number: int) -> list[str]:
    """Some call that an admin might make, good or not."""
    ref, other = (chance.choice(("latest", "live", "1", "2", "4.2", "4.3", "nonsense")) for _ in range(2))
    go = ["--go"] if chance.random() < 0.6 else []
    return chance.choice(
        (
            ["snapshot", *chance.choice(([], ["--rehash"], ["--only", "world"], ["--note", "\u2028 x"]))],
            ["restore", ref, *go, *chance.choice(([], ["--only", "world"], ["--only", "tiles:-2,-2..2,2"]))],
            ["restore", ref, "--into", f"into-{number}"],
            ["verify", *chance.choice(([], ["--sample", "50%"], ["--repair"]))],
            ["history", *chance.choice(([], ["--json"], ["--growth"]))],
            ["thin", *go],
            ["export", ref, f"out-{number}{chance.choice(('.tar', '.zip', '.tar.zst'))}"],
            ["diff", ref, other, *chance.choice(([], ["--all"], ["--totals"], ["--json"]))],
            ["merge", "--from", "4.2", "--to", "4.3", *go, *chance.choice(([], ["--summary"], ["--report", "r.html"]))],
            ["orders", chance.choice(("list", "propose", "test"))],
            ["survey", "--offline"],
            ["adopt", "gannet-rock", "--refresh"],
            ["wipe", chance.choice(("map", "players", "progress")), "--no-start", *go],
            ["update", "--to", "4.3", "releases/skerrylight-4.3.zip", "--no-start", *go],
            ["migrate", "--draft", "4.2", "4.3"],
            ["import", "gannet-rock"],
            [chance.choice(("undo", "resume")), *go],
        )
    )


def check(keeper: Program, words: list[str], steps: list[str]) -> int:
    done = keeper(*words)
    steps.append(f"{done.code} {' '.join(words)}")
    told = "\n".join(steps) + f"\n{done.err}"
    assert "a fault in Ember Keep" not in done.err and "Traceback" not in done.err, told
    assert done.code in range(6), told
    return done.code


pytestmark = pytest.mark.skipif(os.name == "nt", reason="links, pipes and names of POSIX")


@pytest.mark.parametrize("seed", range(SEED, SEED + depth.choose(1, 3)))
def test_whatever_is_in_a_server_folder_no_command_stumbles(
    recorded: Program, place: Path, server: Path, seed: int
) -> None:
    chance, steps = random.Random(seed), [f"seed {seed}"]
    recorded("snapshot", "--pin")
    first = tree_state(server)
    for number in range(STEPS):
        steps += [edit(server, chance) for _ in range(chance.randrange(2, 7))]
        for words in (["snapshot"], ["survey", "--offline"], command(chance, number)):
            check(recorded, words, steps)
    assert check(recorded, ["verify"], steps) == 0, "\n".join(steps)
    assert check(recorded, ["restore", "1", "--into", "whole"], steps) == 0, "\n".join(steps)
    assert tree_state(place / "whole") == first


@pytest.mark.long
@pytest.mark.parametrize("seed", range(SEED, SEED + depth.choose(1, 3)))
def test_whatever_became_of_a_keep_no_command_stumbles(recorded: Program, place: Path, seed: int) -> None:
    chance, steps = random.Random(seed), [f"seed {seed}"]
    keep = place / "gannet-rock.keep"
    for words in (["snapshot"], ["merge", "--from", "4.2", "--to", "4.3", "--go"], ["orders", "propose"], ["snapshot"]):
        recorded(*words)
    shutil.copytree(keep, place / "saved")
    for number in range(STEPS):
        if number % 3 == 0:
            shutil.rmtree(keep)
            shutil.copytree(place / "saved", keep)
            steps = [f"seed {seed}"]
        steps.append(spoil(keep, chance))
        check(recorded, command(chance, number), steps)
