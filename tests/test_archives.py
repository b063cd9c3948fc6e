"""Archives as trees: what is in them comes out; what strangers put into them harms nothing."""

from __future__ import annotations

import bz2
import gzip
import io
import lzma
import random
import stat
import struct
import tarfile
import zipfile
from pathlib import Path
from typing import Any

import pytest
import zstandard

from emberkeep.errors import UnreadableInput
from emberkeep.fs import archives
from emberkeep.fs.archives import is_archive, open_archive
from emberkeep.fs.trees import Kind, read
from tests import depth

FILES = {"skerry/RELEASE": b"4.3\n", "skerry/lib/run.sh": b"#!/bin/sh\n", "skerry/big": b"tide " * 50_000}


def write_tar(path: Path, extra: list[tarfile.TarInfo] | None = None) -> None:
    out = io.BytesIO()
    with tarfile.open(fileobj=out, mode="w") as archive:
        for name, data in FILES.items():
            info = tarfile.TarInfo(name)
            info.size, info.mtime, info.mode = len(data), 1_700_000_000, 0o755 if name.endswith(".sh") else 0o640
            archive.addfile(info, io.BytesIO(data))
        for info in extra or []:
            archive.addfile(info, io.BytesIO(b"x" * info.size))
    data = out.getvalue()
    if path.suffix == ".zst":
        data = zstandard.ZstdCompressor().compress(data)
    elif path.suffix != ".tar":
        with tarfile.open(path, "w:" + path.suffix[1:]) as packed, tarfile.open(fileobj=io.BytesIO(data)) as plain:
            for info in plain:
                packed.addfile(info, plain.extractfile(info) if info.isfile() else None)
        return
    path.write_bytes(data)


def write_zip(path: Path, names: list[str] | None = None) -> None:
    with zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED) as archive:
        for name, data in FILES.items():
            info = zipfile.ZipInfo(name, (2026, 3, 27, 12, 0, 0))
            info.external_attr = (0o100755 if name.endswith(".sh") else 0o100640) << 16
            info.compress_type = zipfile.ZIP_DEFLATED
            archive.writestr(info, data)
        for name in names or []:
            archive.writestr(zipfile.ZipInfo(name), b"x")


@pytest.mark.parametrize("name", ["r.zip", "r.tar", "r.tar.gz", "r.tar.bz2", "r.tar.xz", "r.tar.zst"])
def test_contents_modes_and_folders(tmp_path: Path, name: str) -> None:
    path = tmp_path / name
    (write_zip if name.endswith("zip") else write_tar)(path)
    assert is_archive(path)
    tree = open_archive(path)
    entries = tree.entries()
    assert {entry.path for entry in entries.values() if entry.kind is Kind.FOLDER} == {"skerry", "skerry/lib"}
    for member, data in FILES.items():
        assert read(tree, member) == data
    assert (entries["skerry/lib/run.sh"].mode, entries["skerry/big"].mode) == (0o755, 0o640)


@pytest.mark.parametrize(
    "name", ["../out", "/etc/out", "a/../../out", "..\\out", "C:\\out", "c:/out", "a/b/../../../out", "\\\\host\\share"]
)
def test_names_that_lead_out_are_refused(tmp_path: Path, name: str) -> None:
    write_zip(tmp_path / "r.zip", [name])
    with pytest.raises(UnreadableInput, match="leads out"):
        open_archive(tmp_path / "r.zip")
    write_tar(tmp_path / "r.tar", [tarfile.TarInfo(name)])
    with pytest.raises(UnreadableInput, match="leads out"):
        open_archive(tmp_path / "r.tar")


@pytest.mark.parametrize(
    ("points_at", "fine"),
    [
        ("lib/run.sh", True),
        ("../skerry/big", True),
        ("../../out", False),
        ("./../../out", False),
        (".//..//.././out", False),
        ("lib/../../x", False),  # lib may be a link itself, and up from where it leads is anywhere
        ("./lib/.//run.sh", True),
        ("lib\\..\\..\\..\\x", False),
        ("C:\\x", False),
        ("\\\\host\\share", False),
        ("/etc/passwd", False),
        ("lib/../../../x", False),
    ],
)
def test_links_may_not_point_outside(tmp_path: Path, points_at: str, fine: bool) -> None:
    info = tarfile.TarInfo("skerry/link")
    info.type, info.linkname = tarfile.SYMTYPE, points_at
    write_tar(tmp_path / "r.tar", [info])
    if fine:
        assert open_archive(tmp_path / "r.tar").entries()["skerry/link"].points_at == points_at
        return
    with pytest.raises(UnreadableInput, match="points out"):
        open_archive(tmp_path / "r.tar")


def test_links_in_zips_are_links(tmp_path: Path) -> None:
    with zipfile.ZipFile(tmp_path / "r.zip", "w") as archive:
        info = zipfile.ZipInfo("out")
        info.external_attr = (stat.S_IFLNK | 0o777) << 16
        archive.writestr(info, "/etc/passwd")
    with pytest.raises(UnreadableInput, match="points out"):
        open_archive(tmp_path / "r.zip")


def test_the_same_name_twice_is_refused(tmp_path: Path) -> None:
    with pytest.warns(UserWarning, match="Duplicate"):
        write_zip(tmp_path / "r.zip", ["twice", "twice"])
    with pytest.raises(UnreadableInput, match="twice"):
        open_archive(tmp_path / "r.zip")


def test_hard_links_are_files_and_devices_are_left_out(tmp_path: Path) -> None:
    hard, device = tarfile.TarInfo("skerry/again"), tarfile.TarInfo("skerry/null")
    hard.type, hard.linkname = tarfile.LNKTYPE, "skerry/RELEASE"
    device.type = tarfile.CHRTYPE
    write_tar(tmp_path / "r.tar", [hard, device])
    tree = open_archive(tmp_path / "r.tar")
    assert read(tree, "skerry/again") == FILES["skerry/RELEASE"]
    assert [item.path for item in tree.skipped] == ["skerry/null"]


@pytest.mark.parametrize(
    ("told", "ns"),
    [
        ("-1.5", -1_500_000_000),
        ("1e999999", (1 << 63) - 1),
        ("-1e999999", -(1 << 63)),
        ("1e9999999999", (1 << 63) - 1),
        ("NaN", 0),
        ("sNaN", 0),
        ("Infinity", (1 << 63) - 1),
        ("yesterday", 0),
    ],
)
def test_times_that_no_file_has_harm_nothing(tmp_path: Path, told: str, ns: int) -> None:
    odd = tarfile.TarInfo("skerry/odd")
    odd.pax_headers = {"mtime": told}
    write_tar(tmp_path / "a.tar", [odd])
    assert open_archive(tmp_path / "a.tar").entries()["skerry/odd"].mtime_ns == ns


@pytest.mark.parametrize("name", ["bomb.zip", "bomb.tar.gz", "bomb.tar.zst"])
def test_a_bomb_is_refused_before_it_is_unpacked(tmp_path: Path, name: str, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(archives, "ALWAYS", 1 << 20)
    most = 0
    if name.endswith("zst"):  # what is unpacked to look inside is limited too: to little more than is allowed
        real = archives.tempfile.TemporaryFile

        def watched() -> Any:
            nonlocal most
            room = real()
            told = room.tell

            class Watched:
                def __getattr__(self, what: str) -> Any:
                    return getattr(room, what)

                def tell(self) -> int:
                    nonlocal most
                    most = max(most, told())
                    return int(told())

            return Watched()

        monkeypatch.setattr(archives.tempfile, "TemporaryFile", watched)
    zeros = bytes(40 << 20)
    path = tmp_path / name
    if name.endswith("zip"):
        with zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED) as archive:
            archive.writestr("zeros", zeros)
    else:
        out = io.BytesIO()
        with tarfile.open(fileobj=out, mode="w:gz" if name.endswith("gz") else "w") as archive:
            info = tarfile.TarInfo("zeros")
            info.size = len(zeros)
            archive.addfile(info, io.BytesIO(zeros))
        data = out.getvalue()
        path.write_bytes(zstandard.ZstdCompressor().compress(data) if name.endswith("zst") else data)
    with pytest.raises(UnreadableInput, match="far more"):
        open_archive(path)
    assert most < 2 << 20


@pytest.mark.parametrize("name", ["r.zip", "r.tar.gz", "r.tar.zst"])
def test_as_much_as_is_allowed_is_taken_and_a_byte_more_is_not(
    tmp_path: Path, name: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    path = tmp_path / name
    (write_zip if name.endswith("zip") else write_tar)(path)
    whole = sum(map(len, FILES.values()))
    if name.endswith("gz"):
        whole = len(gzip.decompress(path.read_bytes()))
    elif name.endswith("zst"):
        whole = len(zstandard.ZstdDecompressor().decompressobj().decompress(path.read_bytes()))
    monkeypatch.setattr(archives, "RATIO", 0)
    monkeypatch.setattr(archives, "ALWAYS", whole)
    assert open_archive(path).entries().keys() >= FILES.keys()
    monkeypatch.setattr(archives, "ALWAYS", whole - 1)
    with pytest.raises(UnreadableInput, match="far more"):
        open_archive(path)


def test_members_of_zips_without_modes(tmp_path: Path) -> None:
    with zipfile.ZipFile(tmp_path / "r.zip", "w") as archive:
        for member in ("folder/", "file"):
            info = zipfile.ZipInfo(member)
            archive.writestr(info, b"")
            info.external_attr = 0  # which is written when the archive is closed
    entries = open_archive(tmp_path / "r.zip").entries()
    assert (entries["folder"].kind, entries["folder"].mode) == (Kind.FOLDER, 0o755)
    assert (entries["file"].kind, entries["file"].mode) == (Kind.FILE, 0o644)


@pytest.mark.parametrize("name", ["r.zip", "r.tar.gz", "r.tar", "r.tar.zst", "other.bin"])
def test_what_is_no_whole_archive_is_said(tmp_path: Path, name: str) -> None:
    path = tmp_path / name
    (write_zip if name.endswith("zip") else write_tar)(path) if name != "other.bin" else path.write_bytes(b"junk")
    path.write_bytes(path.read_bytes()[: path.stat().st_size // 3])
    with pytest.raises(UnreadableInput):
        tree = open_archive(path)
        for member, entry in tree.entries().items():
            if entry.kind is Kind.FILE:
                read(tree, member)


@pytest.mark.parametrize("name", ["r.zip", "r.tar", "r.tar.gz", "r.tar.bz2", "r.tar.xz", "r.tar.zst"])
def test_damage_anywhere_is_said_and_never_a_fault_of_ours(tmp_path: Path, name: str) -> None:
    path = tmp_path / name
    (write_zip if name.endswith("zip") else write_tar)(path)
    whole, chance, refused, wrong = path.read_bytes(), random.Random(name), 0, 0
    tries = depth.choose(60, 600)
    for _ in range(tries):
        data = bytearray(whole)
        for _ in range(chance.randrange(1, 4)):
            data[chance.randrange(len(data))] ^= 1 << chance.randrange(8)
        path.write_bytes(bytes(data))
        try:
            tree = open_archive(path)
            for member, entry in tree.entries().items():
                if entry.kind is Kind.FILE:
                    wrong += read(tree, member) != FILES[member]
        except (UnreadableInput, KeyError):
            refused += 1
    if name not in ("r.tar", "r.tar.zst"):  # which have no sums of their contents
        assert refused > tries / 2
        assert not wrong


def test_a_member_that_is_larger_than_the_archive_says_is_refused(tmp_path: Path) -> None:
    path = tmp_path / "r.zip"
    write_zip(path)
    size = len(FILES["skerry/big"])
    data = path.read_bytes()
    directory = data.index(b"PK\1\2")
    at = data.index(size.to_bytes(4, "little"), directory)
    path.write_bytes(data[:at] + (size - 1).to_bytes(4, "little") + data[at + 4 :])
    tree = open_archive(path)
    assert tree.entries()["skerry/big"].size == size - 1
    with pytest.raises(UnreadableInput, match="cannot unpack"):
        read(tree, "skerry/big")


def test_names_are_put_right_or_refused(tmp_path: Path) -> None:
    """What is only another spelling of a name is taken; a drive's letter, a root, or a zero byte leads out."""
    write_zip(tmp_path / "r.zip", ["./x", "a//b", "c\\d/", "e:"])
    with pytest.raises(UnreadableInput, match="leads out"):
        open_archive(tmp_path / "r.zip")
    write_zip(tmp_path / "r.zip", ["./x", "a//b", "c\\d/", "f/g:h", ":i", "./"])
    entries = open_archive(tmp_path / "r.zip").entries()
    assert {"x", "a/b", "f/g:h", ":i"} <= entries.keys()
    assert entries["c/d"].kind is Kind.FOLDER and entries["a"].kind is Kind.FOLDER
    write_tar(tmp_path / "r.tar", [tarfile.TarInfo("./")])
    assert set(open_archive(tmp_path / "r.tar").entries()) == {"skerry", "skerry/lib", *FILES}


@pytest.mark.parametrize("linkname", ["skerry/nothing", "skerry", "skerry/later"])
def test_hard_links_at_nothing_are_refused(tmp_path: Path, linkname: str) -> None:
    folder, hard, later = tarfile.TarInfo("skerry"), tarfile.TarInfo("skerry/again"), tarfile.TarInfo("skerry/later")
    folder.type, hard.type, hard.linkname = tarfile.DIRTYPE, tarfile.LNKTYPE, linkname
    write_tar(tmp_path / "r.tar", [folder, hard, later])
    with pytest.raises(UnreadableInput, match="points at nothing in it"):
        open_archive(tmp_path / "r.tar")


def test_links_to_links_are_one_file(tmp_path: Path) -> None:
    first, second = tarfile.TarInfo("a"), tarfile.TarInfo("b")
    first.type = second.type = tarfile.LNKTYPE
    first.linkname, second.linkname = "skerry/RELEASE", "a"
    write_tar(tmp_path / "r.tar", [first, second])
    entries = open_archive(tmp_path / "r.tar").entries()
    assert (entries["a"].same_as, entries["b"].same_as) == ("skerry/RELEASE", "skerry/RELEASE")
    assert read(open_archive(tmp_path / "r.tar"), "b") == b"4.3\n"


def test_times_of_zip_members(tmp_path: Path) -> None:
    """The extended timestamp where there is one, whatever stands before it; else the entry's own, or none at all."""
    with zipfile.ZipFile(tmp_path / "r.zip", "w") as archive:
        for name, month, extra in (
            ("own", 3, struct.pack("<HHBi", 0x5455, 5, 2, 77)),  # tells of another time
            ("exact", 3, struct.pack("<HH2s", 0x7875, 2, b"xy") + struct.pack("<HHBi", 0x5455, 5, 1, 77)),
            ("no such day", 0, b""),
            ("only that", 3, struct.pack("<HHBi", 0x5455, 5, 1, 78)),
            ("with more", 3, struct.pack("<HHBii", 0x5455, 9, 3, 79, 80)),
            ("too short", 3, struct.pack("<HHBi", 0x5455, 4, 1, 81)),
            ("a head alone", 3, struct.pack("<HH", 0x7875, 0)),
        ):
            info = zipfile.ZipInfo(name, (2026, month, 27, 12, 0, 0))
            info.extra = extra
            archive.writestr(info, b"x")
    entries = open_archive(tmp_path / "r.zip").entries()
    seconds = {name: entry.mtime_ns // 1_000_000_000 for name, entry in entries.items()}
    own = 1_774_612_800
    assert seconds == {
        **{"own": own, "exact": 77, "no such day": 0, "only that": 78, "with more": 79},
        **{"too short": own, "a head alone": own},
    }


def test_a_fault_of_ours_is_not_taken_for_a_broken_archive(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    write_zip(tmp_path / "r.zip")
    tree = open_archive(tmp_path / "r.zip")

    def broken(*told: object, **more: object) -> None:
        raise KeyError("a fault of ours")

    monkeypatch.setattr(zipfile.ZipFile, "infolist", broken)
    with pytest.raises(KeyError):
        open_archive(tmp_path / "r.zip")
    monkeypatch.setattr(zipfile.ZipFile, "open", broken)
    with pytest.raises(KeyError):
        read(tree, "skerry/big")


@pytest.mark.long
@pytest.mark.parametrize("name", ["r.tar.gz", "r.tar.bz2", "r.tar.xz"])
def test_what_follows_the_last_member_counts_too(tmp_path: Path, name: str) -> None:
    """The sum of what was compressed stands at its end, and so may be as much more as a bomb holds."""
    path = tmp_path / name
    write_tar(path)
    data = path.read_bytes()
    path.write_bytes(data[:-3])
    with pytest.raises(UnreadableInput, match="not a whole archive"):
        open_archive(path)
    opener = {"gz": gzip.open, "z2": bz2.open, "xz": lzma.open}[name[-2:]]
    with opener(path, "wb") as out:
        with tarfile.open(fileobj=out, mode="w|") as archive:
            archive.addfile(tarfile.TarInfo("x"))
        for _ in range(40):
            out.write(bytes(1 << 20))
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(archives, "ALWAYS", 1 << 20)
        with pytest.raises(UnreadableInput, match="far more"):
            open_archive(path)
    assert set(open_archive(path).entries()) == {"x"}


def test_damage_inside_a_member_is_noticed(tmp_path: Path) -> None:
    write_zip(tmp_path / "r.zip")
    data = bytearray((tmp_path / "r.zip").read_bytes())
    at = data.index(b"skerry/big") + 40
    data[at] ^= 0xFF
    (tmp_path / "r.zip").write_bytes(bytes(data))
    with pytest.raises(UnreadableInput, match="skerry/big"):
        read(open_archive(tmp_path / "r.zip"), "skerry/big")
