"""Disks that keep less than others do: what can be kept is, and nothing stops for the rest."""

from __future__ import annotations

import errno
import os
import shutil
import subprocess
from collections.abc import Iterator
from pathlib import Path

import pytest

from emberkeep.fs import system
from tests.conftest import KEEP, tree_state
from tests.program import Program, Ran, run_program


@pytest.fixture
def fat(tmp_path: Path) -> Iterator[Path]:
    """A disk of FAT, by a driver in user space: no modes, no owners, no links, times to two seconds."""
    if not all(map(shutil.which, ("mkfs.vfat", "fusefat", "umount"))):
        pytest.skip("dosfstools and fusefat are not installed")
    disk, folder = tmp_path / "disk", tmp_path / "fat"
    disk.write_bytes(bytes(40 << 20))
    subprocess.run(["mkfs.vfat", disk], check=True, capture_output=True)
    yield from mounted(["fusefat", "-o", "rw+"], disk, folder)


def mounted(driver: list[str], disk: Path, folder: Path) -> Iterator[Path]:
    folder.mkdir()
    done = subprocess.run([*driver, disk, folder], capture_output=True, check=False, timeout=60)
    if done.returncode or not folder.is_mount():
        pytest.skip("nothing may be mounted here")
    try:
        yield folder
    finally:
        subprocess.run(["umount", folder], check=True)


def contents(folder: Path) -> dict[str, bytes]:
    return {str(path.relative_to(folder)): path.read_bytes() for path in folder.rglob("*") if path.is_file()}


@pytest.mark.long
def test_a_disk_of_fat_takes_what_is_restored_and_merged_to_it(keeper: Program, place: Path, fat: Path) -> None:
    server = place / "gannet-rock"
    (server / "latest.log").unlink()  # a link, which FAT cannot hold
    assert keeper("snapshot").code == 0
    done = keeper("restore", "latest", "--into", fat / "look")
    assert done.code == 0, done.err
    assert contents(fat / "look") == contents(server)
    sides = ("--old-defaults", "releases/skerrylight-4.2", "--new-defaults", "releases/skerrylight-4.3.zip")
    for out in (place, fat):
        done = run_program("merge", *sides, "--mine", "gannet-rock", "--out", out / "merged", cwd=place)
        assert done.code == 1, done.err  # open questions
    assert contents(fat / "merged") == contents(place / "merged")


def test_a_server_on_a_disk_of_fat_is_put_back(keeper: Program, place: Path, fat: Path) -> None:
    server = place / "gannet-rock"
    (server / "latest.log").unlink()
    subprocess.run(["cp", "-r", server, fat / "rock"], check=True)
    shutil.rmtree(server)
    keep = place / "gannet-rock.keep" / "keep.toml"
    keep.write_text(keep.read_text().replace("../gannet-rock", str(fat / "rock")))
    assert keeper("snapshot").code == 0
    whole = contents(fat / "rock")
    stores = fat / "rock" / "mission" / "economy" / "stores.xml"
    stores.unlink()  # this driver neither cuts off a file that is opened to be written anew nor sets its time
    stores.write_text("griefed")
    (fat / "rock" / "welcome.json").unlink()
    done = keeper("restore", "latest", "--go")
    assert done.code == 0, done.err
    assert contents(fat / "rock") == whole


def test_a_keep_on_a_disk_without_shared_memory_does_all_it_does_elsewhere(
    keeper: Program, place: Path, fat: Path
) -> None:
    """SQLite cannot share a log's memory between processes there, as on some network shares."""
    keep = fat / KEEP
    keep.mkdir()
    told = (place / KEEP / "keep.toml").read_text()
    (keep / "keep.toml").write_text(told.replace("../gannet-rock", str(place / "gannet-rock")))
    before = tree_state(place / "gannet-rock")

    def run(*words: str) -> Ran:
        return run_program("--keep", keep, *words, cwd=place)

    assert run("snapshot").code == 0
    (place / "gannet-rock" / "welcome.json").unlink()
    (place / "gannet-rock" / "keeper.properties").write_text("griefed")
    assert run("restore", "latest", "--go").code == 0
    assert tree_state(place / "gannet-rock") == before
    assert run("undo", "--go").code == 0
    assert (place / "gannet-rock" / "keeper.properties").read_text() == "griefed"
    assert "undo" in run("history").out
    assert run("verify").code == 0


NTFS = {
    "as Linux sees it": ["ntfs-3g", "-o", "windows_names"],
    "as Windows sees it": ["lowntfs-3g", "-o", "ignore_case,windows_names"],
}


@pytest.fixture(params=NTFS)
def ntfs(request: pytest.FixtureRequest, tmp_path: Path) -> Iterator[Path]:
    """A disk of NTFS, by its driver in user space: names of Windows only; as Windows sees it, case makes no difference, and
    names come back in small letters."""
    driver = NTFS[request.param]
    if not all(map(shutil.which, ("mkntfs", driver[0], "umount"))):
        pytest.skip("ntfs-3g is not installed")
    disk, folder = tmp_path / "disk", tmp_path / "ntfs"
    disk.write_bytes(b"")
    os.truncate(disk, 96 << 20)
    subprocess.run(["mkntfs", "-q", "-F", disk], check=True, capture_output=True)
    yield from mounted(driver, disk, folder)


def low(found: dict[str, bytes]) -> dict[str, bytes]:
    return {name.lower(): data for name, data in found.items()}


@pytest.mark.long
def test_a_server_on_ntfs_is_kept_restored_merged_and_taken_back(recorded: Program, place: Path, ntfs: Path) -> None:
    """Everything an update day needs, on a disk that Windows uses; its keep and its vault lie there, too."""
    subprocess.run(["cp", "-r", place / "gannet-rock", ntfs / "rock"], check=True)
    subprocess.run(["cp", "-r", place / KEEP, ntfs / "rock.keep"], check=True)
    keep = ntfs / "rock.keep" / "keep.toml"
    keep.write_text(keep.read_text().replace("../gannet-rock", "../rock"))
    before = contents(ntfs / "rock")

    def run(*words: str | Path) -> Ran:
        return run_program("--keep", ntfs / "rock.keep", *words, cwd=place)

    assert run("snapshot", "--note", "one").code == 0
    assert run("mirror", "vault", ntfs / "vault").code == 0
    shutil.rmtree(ntfs / "rock" / "outer-skerries")
    (ntfs / "rock" / "keeper.properties").write_text("griefed")
    (ntfs / "rock" / "stray").mkdir()
    assert run("restore", "one", "--go").code == 0
    assert low(contents(ntfs / "rock")) == low(before)
    assert not (ntfs / "rock" / "stray").exists()
    assert "do not differ" in run("diff", "one").out
    merged = run("merge", "--from", "4.2", "--to", "4.3", "--go")
    assert merged.code == 1, merged.err  # open questions
    assert low(contents(ntfs / "rock")) != low(before)
    assert run("undo", "--go").code == 0
    assert low(contents(ntfs / "rock")) == low(before)
    assert run("verify").code == 0
    brought = run_program("--keep", ntfs / "again.keep", "mirror", "vault", ntfs / "vault", "--bring-back", cwd=place)
    assert brought.code == 0, brought.err
    done = run_program("--keep", ntfs / "again.keep", "restore", "one", "--into", ntfs / "look", cwd=place)
    assert done.code == 0, done.err
    assert low(contents(ntfs / "look")) == low(before)


@pytest.mark.long
def test_a_world_is_imported_on_ntfs(keeper: Program, place: Path, ntfs: Path) -> None:
    subprocess.run(["cp", "-r", place / "gannet-rock", ntfs / "rock"], check=True)
    keep = place / KEEP / "keep.toml"
    keep.write_text(keep.read_text().replace("../gannet-rock", str(ntfs / "rock")))
    subprocess.run(["cp", "-r", place / "gannet-rock" / "outer-skerries", place / "far-isles"], check=True)
    done = keeper("import", "far-isles", "--as", "far-isles", "--go")
    assert done.code == 0, done.err
    assert low(contents(ntfs / "rock" / "far-isles")) == low(contents(place / "far-isles"))
    assert keeper("undo", "--go").code == 0
    assert not (ntfs / "rock" / "far-isles").exists()


def test_names_that_windows_has_not_are_named_before_anything_is_written(
    keeper: Program, place: Path, ntfs: Path
) -> None:
    server = place / "gannet-rock"
    for name in ("mission/a:b.xml", "mission/con", "mission/ends."):
        (server / name).write_text("x")
    assert keeper("snapshot").code == 0
    done = keeper("restore", "latest", "--into", ntfs / "look")
    assert (done.code, "holds no name like" in done.err) == (3, True), done
    assert not (ntfs / "look").exists() or list((ntfs / "look").iterdir()) == []
    done = keeper("restore", "latest", "--into", ntfs / "look", "--what-fits")
    assert done.code == 1, done.err
    assert "left out: mission/a:b.xml" in done.out
    assert low(contents(ntfs / "look")).keys() >= {"keeper.properties", "mission/weather.yaml"}


@pytest.mark.parametrize("refuses", [True, False], ids=["refused", "silent"])
def test_owners_and_modes_that_a_restore_could_not_give_are_told(keeper: Program, server: Path, refuses: bool) -> None:
    """As for root without the right to change owners, in some containers, and on disks that forget."""

    class Powerless(system.SystemIO):
        def chmod(self, path: str | Path, mode: int) -> None:
            pass

        def chown(self, path: str | Path, owner: int, group: int) -> None:
            if refuses and (owner, group) != (os.lstat(path).st_uid, os.lstat(path).st_gid):
                raise OSError(errno.EPERM, "not permitted")

    own = os.geteuid()
    stores, world = server / "mission" / "economy" / "stores.xml", server / "outer-skerries"
    if own == 0:
        os.chown(stores, 1234, 1234)
        os.chown(world, 1234, 1234)
    stores.chmod(0o640)
    assert keeper("snapshot").code == 0
    stores.unlink()
    shutil.rmtree(world)
    with system.use(Powerless()):
        done = keeper("restore", "latest", "--go")
    assert done.code == 0
    assert "modes not set on " in done.err
    assert own != 0 or "owners not set on 2 files and folders: the disk keeps none" in done.err
    assert "not set on" not in keeper("restore", "latest", "--go").err


def test_a_keep_that_its_disk_leaves_open_is_told_and_never_called_closed(keeper: Program, place: Path) -> None:
    class Forgetful(system.SystemIO):
        """As some disks: a mode is taken, and is not there afterwards."""

        def chmod(self, path: str | Path, mode: int) -> None:
            pass

    folder = place / KEEP
    folder.chmod(0o755)
    with system.use(Forgetful()):
        assert "closed to them now" not in keeper("history").err
        seen = keeper("check")
    assert "its disk keeps no rights" in seen.out + seen.err
    assert "closed to them now" in keeper("history").err
    assert folder.stat().st_mode & 0o777 == 0o700
    assert "its disk keeps no rights" not in keeper("check").out
