"""Archives as trees: what is in them comes out; what strangers put into them harms nothing."""

from __future__ import annotations

import io
import stat
import tarfile
import zipfile
from pathlib import Path

import pytest
import zstandard

from emberkeep.archives import is_archive, open_archive
from emberkeep.errors import UnreadableInput
from emberkeep.trees import Kind, read

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
    from emberkeep import archives

    monkeypatch.setattr(archives, "ALWAYS", 1 << 20)
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


def test_damage_inside_a_member_is_noticed(tmp_path: Path) -> None:
    write_zip(tmp_path / "r.zip")
    data = bytearray((tmp_path / "r.zip").read_bytes())
    at = data.index(b"skerry/big") + 40
    data[at] ^= 0xFF
    (tmp_path / "r.zip").write_bytes(bytes(data))
    with pytest.raises(UnreadableInput, match="skerry/big"):
        read(open_archive(tmp_path / "r.zip"), "skerry/big")
