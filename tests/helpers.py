"""What several test modules need: small keeps, merges of texts, documents, damage; each here and nowhere else."""

from __future__ import annotations

import random
from contextlib import closing
from datetime import UTC, datetime
from pathlib import Path

from emberkeep.documents import registry
from emberkeep.documents.model import Document
from emberkeep.fs.folder_tree import FolderTree
from emberkeep.fs.trees import Kind, read
from emberkeep.keep.keep import Keep
from emberkeep.merging.merge import merge_file
from emberkeep.merging.results import FileMerge
from emberkeep.operations.engine import undo as undoing
from emberkeep.store.manifest import About
from emberkeep.store.store import Store
from emberkeep.store.tree import SnapshotTree

NOW = datetime(2031, 4, 2, 18, 0, tzinfo=UTC)
ABOUT = About("", NOW, "asked")


def clock() -> datetime:
    """A clock that stands still."""
    return NOW


# --- keeps ------------------------------------------------------------------------------------------


def new_keep(place: Path, further: str = "", server: str = "server") -> Keep:
    """A keep for the folder ``server`` in ``place``, which is made where it is not there; ``further``: what else its
    keep.toml says."""
    folder = place / f"{server}.keep"
    folder.mkdir(exist_ok=True)
    (place / server).mkdir(exist_ok=True)
    (folder / "keep.toml").write_text(f'format = 1\n[server]\nname = "x"\nfolder = "../{server}"\n{further}\n')
    return Keep(folder)


def undo(keep: Keep, number: int | None = None) -> None:
    """Take a run back: the last one, or that of a number."""
    with closing(Store(keep.store_folder)) as store:
        undoing.undo(keep, store, undoing.to_undo(keep, store, number), clock)


# --- servers -----------------------------------------------------------------------------------


def moor(tmp_path: Path) -> Path:
    """A server of another shape: one big save file, INI settings, YAML economy, a batch file, players by number, text
    lists, a version file, no extensions."""
    root = tmp_path / "moor"
    for folder in ("saves", "players", "balance"):
        (root / folder).mkdir(parents=True)
    some = random.Random(3)
    ids = [f"4411019000000{number:04}" for number in range(5)]
    goods = "".join(f"  - code: good-{n}\n    price: {n}\n    weight: {n / 4}\n" for n in range(30))
    texts = {
        "go.bat": "@echo off\r\nset PORT=27500\r\npeatd.exe -config moor.ini -port %PORT% +worldseed 8812\r\n",
        "moor.ini": "[world]\nname = Long Moor\nsave = moor\n[net]\nport = 27500\n",
        "balance/goods.yaml": f"# prices in pence\ngoods:\n{goods}",
        "balance/weather.yaml": "rain: 0.4\n",
        "banned.txt": f"# by id\n{ids[3]}\n{ids[4]} 2026-01-01 again and again\n",
        "operators.txt": f"{ids[0]}\n",
        "version.txt": "1.7.3\n",
        "server.log": "[10:00:01] Peat 1.7.3 up\n[10:00:02] reading saves/moor.sav\n[10:00:09] server ready, 7.2 s\n"
        "[10:01:00] 44110190000000000 joins\n",
    }
    for path, text in texts.items():
        (root / path).write_text(text, newline="")
    (root / "peatd.exe").write_bytes(b"MZ" + some.randbytes(4000))
    (root / "saves" / "moor.sav").write_bytes(some.randbytes(200_000))
    (root / "saves" / "moor.1.sav").write_bytes(some.randbytes(190_000))
    for ident in ids:
        (root / "players" / f"{ident}.dat").write_bytes(some.randbytes(300))
    return root


# --- stores -----------------------------------------------------------------------------------------


def flip(path: Path, at: int) -> None:
    """Flip a bit of the byte ``at``."""
    data = bytearray(path.read_bytes())
    data[at] ^= 0x10
    path.write_bytes(bytes(data))


def same_contents(store: Store, label: str, root: Path) -> None:
    """A snapshot and a folder hold the same."""
    tree = SnapshotTree(store, store.manifest(label), label)
    live = FolderTree(root)
    assert dict(tree.entries()) == dict(live.entries())
    for path, entry in live.entries().items():
        if entry.kind is Kind.FILE:
            assert read(tree, path) == read(live, path)


# --- documents and merges -----------------------------------------------------------------------------


def parsed(path: str, text: str) -> Document:
    """A text that has records."""
    found = registry.parse(path, text.encode())
    assert found is not None
    return found


def merge_text(path: str, old: str, mine: str, new: str, answer: str = "") -> FileMerge:
    """Three texts merged, every question answered the same way."""
    sides = (side.encode() for side in (old, mine, new))
    return merge_file(path, *sides, resolve=lambda question: (answer, "test" if answer else ""))


def text_of(result: FileMerge) -> str:
    """The text that a merge writes."""
    assert result.fault is None
    assert result.data is not None
    return result.data.decode()
