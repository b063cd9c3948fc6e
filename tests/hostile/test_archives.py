"""Archives made by somebody who means harm: refused by name, within bounds of memory and time."""

from __future__ import annotations

import gzip
import io
import stat
import sys
import tarfile
import zipfile
from collections.abc import Callable
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from emberkeep.errors import EmberKeepError, UnreadableInput
from emberkeep.fs import archives
from emberkeep.fs.archives import open_archive
from tests.program import Program

pytestmark = pytest.mark.skipif(sys.platform == "win32", reason="needs fork")

if sys.platform != "win32":
    from tests.hostile.limited import OverLimit, limited


def tar_of(path: Path, *members: tarfile.TarInfo, how: str = "w:gz") -> Path:
    with tarfile.open(path, how, format=tarfile.PAX_FORMAT) as archive:
        for info in members:
            archive.addfile(info, io.BytesIO(b"x" * info.size))
    return path


def member(name: str, kind: bytes = tarfile.REGTYPE, target: str = "", mode: int = 0o644) -> tarfile.TarInfo:
    info = tarfile.TarInfo(name)
    info.type, info.linkname, info.mode, info.size = kind, target, mode, 1 if kind == tarfile.REGTYPE else 0
    info.uid = info.gid = 0
    return info


def link(name: str, target: str) -> tarfile.TarInfo:
    return member(name, tarfile.SYMTYPE, target)


def raw_tar(path: Path, header: tarfile.TarInfo, body: bytes, size: int) -> Path:
    """A gzipped tar with one member by hand: its header tells ``size``, which ``body`` is repeated up to. Each part is
    packed by itself, as the format allows, so that nothing is packed twice."""
    header.size = size
    with path.open("wb") as out:
        out.write(gzip.compress(header.tobuf(tarfile.GNU_FORMAT)))
        packed = gzip.compress(body)
        for _ in range(size // len(body)):
            out.write(packed)
        out.write(gzip.compress(tarfile.TarInfo("x").tobuf()))
    return path


def long_name(path: Path) -> Path:
    return raw_tar(path, member("././@LongLink", tarfile.GNUTYPE_LONGNAME), b"a" * (1 << 20), 1500 << 20)


def long_pax(path: Path) -> Path:
    return raw_tar(path, member("./PaxHeaders", tarfile.XHDTYPE), b"0" * (1 << 20), 900 << 20)


def many_parts(path: Path) -> Path:
    return tar_of(path, member("a/" * 60_000 + "f"))


def parts_in_a_zip(path: Path) -> Path:
    path = path.with_suffix(".zip")
    with zipfile.ZipFile(path, "w") as archive:
        archive.writestr("a/" * 32_700 + "f", b"x")
    return path


def long_link(path: Path) -> Path:
    path = path.with_suffix(".zip")
    info = zipfile.ZipInfo("link")
    info.create_system, info.external_attr = 3, (stat.S_IFLNK | 0o777) << 16
    info.compress_type = zipfile.ZIP_DEFLATED
    with zipfile.ZipFile(path, "w") as archive, archive.open(info, "w", force_zip64=True) as out:
        for _ in range(500):
            out.write(b"a" * (1 << 20))
    return path


@pytest.mark.long
@pytest.mark.parametrize("made", [long_name, long_pax, many_parts, parts_in_a_zip, long_link])
def test_a_small_archive_takes_no_gigabyte(tmp_path: Path, made: Callable[[Path], Path]) -> None:
    path = made(tmp_path / "r.tar.gz")
    assert path.stat().st_size < 8 << 20
    with pytest.raises(UnreadableInput):
        limited(lambda: len(open_archive(path).entries()), megabytes=400, seconds=20)


def test_there_is_an_end_to_the_members_of_an_archive(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(archives, "MOST", 50)
    path = tar_of(tmp_path / "r.tar.gz", *(member(f"{number}") for number in range(50)))
    assert len(open_archive(path).entries()) == 50
    with pytest.raises(UnreadableInput, match="more than 50"):
        open_archive(tar_of(tmp_path / "r.tar.gz", *(member(f"{number}") for number in range(51))))


@pytest.mark.parametrize(
    "members",
    [
        [link("a/up", ".."), link("a/top", "up/../..")],
        [link("a/up", ".."), member("a/up/x")],
        [link("up", "."), link("up/up", "..")],
        [link("a/b/c", "../../../x")],
        [member("x"), member("x/y")],
    ],
)
def test_links_of_which_each_stays_inside_lead_nowhere_together(tmp_path: Path, members: list[tarfile.TarInfo]) -> None:
    with pytest.raises(UnreadableInput):
        open_archive(tar_of(tmp_path / "r.tar.gz", *members))


@pytest.mark.parametrize("name", ["world/.emberkeep-zz", "world/.emberkeep-zz/x", ".emberkeep-1"])
def test_names_of_ours_are_refused(tmp_path: Path, name: str) -> None:
    with pytest.raises(UnreadableInput, match="temporary files"):
        open_archive(tar_of(tmp_path / "r.tar.gz", member(name)))
    with zipfile.ZipFile(tmp_path / "r.zip", "w") as archive:
        archive.writestr(name, b"x")
    with pytest.raises(UnreadableInput, match="temporary files"):
        open_archive(tmp_path / "r.zip")


def test_rights_and_owners_of_strangers_are_not_taken_over(tmp_path: Path) -> None:
    entries = open_archive(tar_of(tmp_path / "r.tar.gz", member("tool", mode=0o6755))).entries()
    assert (entries["tool"].mode, entries["tool"].owner, entries["tool"].group) == (0o755, -1, -1)
    info = zipfile.ZipInfo("tool")
    info.create_system, info.external_attr = 3, (stat.S_IFREG | 0o6755) << 16
    with zipfile.ZipFile(tmp_path / "r.zip", "w") as archive:
        archive.writestr(info, b"x")
    assert open_archive(tmp_path / "r.zip").entries()["tool"].mode == 0o755


names = st.text(st.sampled_from("ab/\\.:\0~ \n☂"), max_size=12)


@given(st.lists(st.tuples(names, st.sampled_from(["file", "link", "folder", "hard"]), names), max_size=6))
def test_whatever_an_archive_holds_its_paths_stay_inside(told: list[tuple[str, str, str]]) -> None:
    """Followed by the system's own rules, too: no link leads out of the folder that it is unpacked to."""
    kinds = {"file": tarfile.REGTYPE, "link": tarfile.SYMTYPE, "folder": tarfile.DIRTYPE, "hard": tarfile.LNKTYPE}
    import tempfile

    with tempfile.TemporaryDirectory() as room:
        path = Path(room) / "r.tar"
        try:
            tar_of(path, *(member(name, kinds[kind], target) for name, kind, target in told), how="w")
        except (ValueError, UnicodeError):
            return
        try:
            tree = open_archive(path)
        except EmberKeepError:
            return
        top = Path(room).resolve() / "top"
        top.mkdir()
        for name, entry in tree.entries().items():
            parts = name.split("/")
            assert ".." not in parts and "" not in parts and not name.startswith(("/", "\\"))
            if str(entry.kind) == "folder":
                (top / name).mkdir(parents=True, exist_ok=True)
        for name, entry in tree.entries().items():
            if str(entry.kind) == "link":
                (top / name).parent.mkdir(parents=True, exist_ok=True)
                (top / name).symlink_to(entry.points_at)
        for name, entry in tree.entries().items():
            if str(entry.kind) == "link":
                try:
                    led = (top / name).resolve()
                except (OSError, RuntimeError):
                    continue
                assert led == top or top in led.parents, (name, entry.points_at)


def test_the_limits_hold_what_they_say() -> None:
    with pytest.raises(OverLimit):
        limited(lambda: bytearray(900 << 20), megabytes=300)
    with pytest.raises(OverLimit):
        limited(lambda: [0 for _ in iter(int, 1)], megabytes=300, seconds=1)
    assert limited(lambda: 4) == 4


def test_a_hostile_release_changes_nothing(recorded: Program, place: Path) -> None:
    tar_of(place / "evil.tar.gz", member("skerrylight-4.4/.emberkeep-x/y"))
    before = sorted(str(path) for path in place.rglob("*"))
    done = recorded("defaults", "record", "4.4", "evil.tar.gz")
    assert (done.code, "Traceback" in done.err) == (2, False)
    assert sorted(str(path) for path in place.rglob("*")) == before
