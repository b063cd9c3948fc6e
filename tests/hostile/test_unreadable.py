"""Files that the caretaker may not read: no snapshot holds them, so no run may take them away or write over them."""

from __future__ import annotations

import os
import shutil
import subprocess
from collections.abc import Callable
from pathlib import Path

import pytest

from emberkeep.fs.folder_tree import FolderTree
from emberkeep.fs.trees import Skipped, unread
from emberkeep.operations.record.journal import Journal
from tests import depth
from tests.conftest import KEEP, tree_state
from tests.program import Ran, command_line, process_environment

RIGHTS = "--bounding-set=-dac_override,-dac_read_search", "--inh-caps=-dac_override,-dac_read_search"


def lesser_user(*words: str | Path, cwd: Path) -> Ran:
    """The program as somebody who may not read what is not theirs: root without its right to, others as they are."""
    before = []
    if os.name == "nt":
        pytest.skip("there are no modes here")
    if os.geteuid() == 0:
        if not shutil.which("setpriv"):
            pytest.skip("root reads everything here")
        before = ["setpriv", *RIGHTS, "--"]
    line = [*before, *command_line(*words)]
    environment = process_environment({"EMBERKEEP_KEEP": KEEP})
    done = subprocess.run(line, cwd=cwd, env=environment, capture_output=True, text=True, check=False, timeout=120)
    return Ran(done.returncode, done.stdout, done.stderr)


@pytest.fixture
def rights(place: Path, adopted_once: Path) -> Callable[..., Ran]:
    """Runs the program on the adopted sample without the right to read what others keep to themselves."""
    shutil.copytree(adopted_once, place / KEEP)
    return lambda *words: lesser_user(*words, cwd=place)


def closed(path: Path, text: str = "gold") -> Path:
    path.write_text(text)
    path.chmod(0)
    return path


def test_restore_and_undo_leave_what_a_snapshot_could_not_hold(server: Path, rights: Callable[..., Ran]) -> None:
    wallet = closed(server / "outer-skerries" / "wallet.dat")
    hidden = server / "hidden"
    hidden.mkdir()
    (hidden / "inside").write_text("in there")
    hidden.chmod(0)
    assert rights("snapshot", "--note", "s1").code == 1  # something was left out, and is told
    (server / "keeper.properties").write_text("changed")
    seen = rights("restore", "s1")
    assert "left alone: outer-skerries/wallet.dat (no snapshot holds it: cannot read" in seen.out
    done = rights("restore", "s1", "--go")
    assert (done.code, wallet.stat().st_size) == (1, 4), done.err
    assert "left alone: hidden" in done.out
    assert (server / "keeper.properties").read_text() != "changed"
    assert rights("undo", "--go").code == 0
    assert (server / "keeper.properties").read_text() == "changed"
    hidden.chmod(0o755)
    assert (wallet.stat().st_size, (hidden / "inside").read_text()) == (4, "in there")


def test_what_became_unreadable_since_is_not_written_over(server: Path, rights: Callable[..., Ran]) -> None:
    """The target holds it, and what stands there now would be lost."""
    wallet = server / "outer-skerries" / "wallet.dat"
    wallet.write_text("silver")
    assert rights("snapshot", "--note", "readable").code == 0
    closed(wallet, "gold")
    done = rights("restore", "readable", "--go")
    assert (done.code, "left alone: outer-skerries/wallet.dat" in done.out) == (1, True), done.out + done.err
    wallet.chmod(0o600)
    assert wallet.read_text() == "gold"


def test_a_folder_that_holds_such_is_neither_removed_nor_replaced(server: Path, rights: Callable[..., Ran]) -> None:
    """It came since the snapshot, in which a file stands in its place."""
    (server / "was-a-file").write_text("a file")
    assert rights("snapshot", "--note", "before").code == 0
    (server / "was-a-file").unlink()
    for folder in ("was-a-file", "new"):
        (server / folder / "deep").mkdir(parents=True)
        (server / folder / "plain").write_text("goes")
        closed(server / folder / "deep" / "gold")
    done = rights("restore", "before", "--go")
    assert done.code == 1, done.err
    assert not (server / "new" / "plain").exists()
    assert [(server / folder / "deep" / "gold").stat().st_size for folder in ("was-a-file", "new")] == [4, 4]


@pytest.mark.long
def test_a_run_that_would_change_such_is_refused_beforehand(
    server: Path, rights: Callable[..., Ran], recorded_once: Path
) -> None:
    shutil.copytree(recorded_once, server.parent / KEEP, dirs_exist_ok=True)
    shutil.copytree(server.parent / "releases" / "recipes", server.parent / KEEP / "recipes")
    keeper = sorted((server / "outer-skerries" / "keepers").iterdir())[0]
    library = server / "lib" / "libtide.so"
    library.write_bytes(b"of another size, so that nobody has to read it to see that it changes")
    before = tree_state(server)
    update = ["update", "releases/skerrylight-4.3.zip", "--to", "4.3", "--no-start"]
    for path, line in ((keeper, ["wipe", "players"]), (library, update)):
        mode = path.stat().st_mode
        path.chmod(0)
        for go in ([], ["--go"]):
            done = rights(*line, *go)
            told = "lib/libtide.so would be changed, and could not be read" if path == library else "Permission denied"
            assert (done.code, told in done.err) == (3 if path == library else 2, True), (line, done.out, done.err)
        path.chmod(mode)
        assert tree_state(server) == before


ROCK, OLD = "gannet-rock", "releases/skerrylight-4.2"
LACKING: dict[str, tuple[str, tuple[str, ...]]] = {
    "carry": (f"{ROCK}/tidepool", ("carry", ROCK, "fresh", "--mine", "--go")),
    "import": ("friend/keepers", ("import", "friend", "--as", "isles", "--go")),
    "merge": (f"{ROCK}/mission/economy", ("merge", "--from", "4.2", "--to", "4.3", "--go")),
    "a file of a release": (f"{OLD}/mission/harbour.toml", ("defaults", "record", "4.5", OLD)),
    "record": (f"{OLD}/mission", ("defaults", "record", "4.5", OLD)),
    "update": (f"{OLD}/mission", ("update", OLD, "--to", "4.5", "--no-start", "--go")),
    "merge of folders": (
        f"{OLD}/mission",
        (
            "merge",
            "--old-defaults",
            OLD,
            "--new-defaults",
            "releases/skerrylight-4.3.zip",
            "--mine",
            ROCK,
            "--out",
            "m",
        ),
    ),
    "a build": (
        "releases/extensions-4.3/gullpost-1.5.0.ext",
        (
            "update",
            "releases/skerrylight-4.3.zip",
            "--to",
            "4.3",
            "--recipes",
            "releases/recipes",
            "--extensions",
            "releases/extensions-4.3",
            "--no-start",
        ),
    ),
    "wipe": (f"{ROCK}/outer-skerries/keepers", ("wipe", "players", "--no-start", "--go")),
    "player": (f"{ROCK}/outer-skerries/keepers", ("restore", "1", "--player", "Una", "--go")),
}
"""What may not be looked into, and what would take it for something that is not there."""


@pytest.mark.parametrize("what", depth.some([*LACKING], 3))
def test_what_may_not_be_looked_into_is_never_taken_for_gone(
    place: Path, rights: Callable[..., Ran], recorded_once: Path, what: str
) -> None:
    shutil.copytree(recorded_once, place / KEEP, dirs_exist_ok=True)
    shutil.copytree(place / OLD, place / "fresh")
    shutil.copytree(place / ROCK / "outer-skerries", place / "friend")
    assert rights("snapshot").code == 0
    closed_path, line = LACKING[what]
    mode = (place / closed_path).stat().st_mode
    (place / closed_path).chmod(0)
    done = rights(*line)
    (place / closed_path).chmod(mode)
    assert (done.code, "Permission denied" in done.err, Path(closed_path).name in done.err) == (2, True, True), done
    assert Journal(place / KEEP).waiting() is None
    assert not (place / ROCK / "isles").exists() and not (place / "fresh" / "tidepool").exists()
    assert "4.5" not in rights("defaults", "list").out


def test_a_comparison_tells_what_it_could_not_look_into(place: Path, rights: Callable[..., Ran]) -> None:
    assert rights("snapshot").code == 0
    (place / ROCK / "mission").chmod(0)
    lines = ((), ("--only", "mission/economy/*"), ("--only", "keeper.properties"))
    every, part, elsewhere = (rights("diff", "1", "live", *line) for line in lines)
    (place / ROCK / "mission").chmod(0o755)
    for done in (every, part):
        assert (done.code, "! live: mission: cannot be listed" in done.out) == (2, True), done
        assert "- mission" not in done.out
    assert (elsewhere.code, "mission" in elsewhere.out) == (0, False), elsewhere


def test_a_file_that_would_not_settle_was_read_all_the_same(server: Path) -> None:
    class Told(FolderTree):
        skipped = (Skipped("keeper.properties", "written to while it was read"), Skipped("mission", "cannot be listed"))

    assert [one.path for one in unread(Told(server))] == ["mission"]


def test_what_a_file_system_keeps_for_itself_stops_nothing(
    place: Path, rights: Callable[..., Ran], recorded_once: Path
) -> None:
    shutil.copytree(recorded_once, place / KEEP, dirs_exist_ok=True)
    (place / ROCK / "lost+found").mkdir(mode=0)
    assert rights("merge", "--from", "4.2", "--to", "4.3").code == 1
    assert "lost+found" in rights("snapshot").out
