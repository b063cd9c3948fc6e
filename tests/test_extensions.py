"""Extensions: what their manifests say, and what is wrong between them."""

from __future__ import annotations

import json
import zipfile
from pathlib import Path

import pytest

from emberkeep.fs.folder_tree import FolderTree
from emberkeep.inventory.extensions import Extension, duplicates, fits_engine, missing_companions, read_manifest
from emberkeep.inventory.probe import FileProbe
from tests.program import Program


def manifest(tmp_path: Path, **members: str) -> Extension | None:
    with zipfile.ZipFile(tmp_path / "x.ext", "w") as archive:
        for name, text in members.items():
            archive.writestr(name.replace("__", "/").replace("_", "."), text)
    return read_manifest(FileProbe(FolderTree(tmp_path), tmp_path), "x.ext")


@pytest.mark.parametrize(
    ("text", "needs"),
    [
        (
            json.dumps({"name": "gullpost", "version": "1.4", "built-for": "4.2", "needs": ["tarline >= 0.9", "oar"]}),
            ("tarline", "oar"),
        ),
        (
            json.dumps({"id": "gullpost", "version": 1.4, "engine": "4.2", "depends": {"tarline": "*", "oar": ">1"}}),
            ("tarline", "oar"),
        ),
        ('name: gullpost\nversion: "1.4"\nbuilt-for: 4.2\nrequires: [tarline, oar]\n', ("tarline", "oar")),
        ("name = gullpost\nversion = 1.4\nbuilt_for = 4.2\n", ()),
    ],
)
def test_manifests_of_several_kinds(tmp_path: Path, text: str, needs: tuple[str, ...]) -> None:
    found = manifest(tmp_path, about_json=text)
    assert found == Extension("x.ext", "gullpost", "1.4", "4.2", needs)


def test_what_is_no_manifest(tmp_path: Path) -> None:
    assert manifest(tmp_path, about_json='{"name": "x"}') is None
    assert manifest(tmp_path, about_json="[1, 2]") is None
    assert manifest(tmp_path, deep__about_json='{"name": "x", "version": "1"}', code_lua="return 1\n") is None
    assert manifest(tmp_path, deep__about_json='{"name": "x", "version": "1"}', deep__code_lua="return 1\n") is not None
    (tmp_path / "x.ext").write_bytes(b"PK\x03\x04 cut short")
    assert read_manifest(FileProbe(FolderTree(tmp_path), tmp_path), "x.ext") is None


def extension(name: str, built_for: str = "", *needs: str) -> Extension:
    return Extension(f"{name}.ext", name, "1", built_for, needs)


def test_companions_duplicates_and_engines() -> None:
    installed = [extension("gullpost", "4.2", "tarline", "oar"), extension("Tarline"), extension("tarline")]
    assert [(item.name, need) for item, need in missing_companions(installed)] == [("gullpost", "oar")]
    assert [[item.name for item in builds] for builds in duplicates(installed)] == [["Tarline", "tarline"]]
    fits = [fits_engine(extension("x", told), "4.2.0") for told in ("", "4.2", "4.2.0", "4", "4.20", "4.3")]
    assert fits == [True, True, True, True, False, False]


def test_survey_shows_them_and_what_is_wrong(keeper: Program, server: Path) -> None:
    keeper("snapshot")
    quiet = keeper("survey")
    assert quiet.code == 0
    assert "gullpost   1.4.2    4.2        tarline" in quiet.out
    (server / "extensions" / "tarline-0.9.1.ext").rename(server / "extensions" / "gone")
    with zipfile.ZipFile(server / "extensions" / "gullpost-2.0.0.ext", "w") as archive:
        archive.writestr("manifest.json", '{"name": "gullpost", "version": "2.0.0", "built-for": "4.3"}')
    done = keeper("survey")
    assert done.code == 1
    for words in (
        "! extensions/gullpost-1.4.2.ext needs tarline, which is not installed",
        "! gullpost is installed 2 times: extensions/gullpost-1.4.2.ext, extensions/gullpost-2.0.0.ext",
        "! extensions/gullpost-2.0.0.ext was built for 4.3, the engine is 4.2.0",
    ):
        assert words in done.out
    assert [item["installed"]["name"] for item in keeper("survey", "--json").json["survey"]["extensions"]] == [
        "gullpost",
        "gullpost",
    ]
