"""Where extensions lie, and what they keep."""

from __future__ import annotations

from collections import Counter

from emberkeep.detection.context import A_COPY, InferenceContext, suffix_glob
from emberkeep.detection.findings import (
    Sure,
)
from emberkeep.fs import globs
from emberkeep.fs.trees import Kind
from emberkeep.inventory.extensions import MANIFEST_KINDS

FEW_WITH_IT = 40
"""Files that came with an extension and are told one by one."""


_CODE = ("text", "script", "program", "binary", "zip", "packed")


def find_extensions(scene: InferenceContext) -> dict[str, str]:
    """Folders of an extension's own files -> its name; the extensions are covered on the way."""
    names: set[str] = set()
    families = list(scene.open_families())
    manifests = Counter(family.folder for family in families for path in scene.sampled(family) if scene.manifest(path))
    for family in families:
        for path in scene.sampled(family):
            manifest = scene.manifest(path)
            if manifest is None:
                continue
            names.add(manifest.name)
            evidence = f"{manifest.name} {manifest.version} by its manifest"
            if scene.look.kind(path) == "zip":
                suffix = path[path.rindex(".") :] if "." in path.rsplit("/", 1)[-1] else ""
                glob = f"{globs.escape(family.folder)}/*{suffix}" if family.folder and suffix else globs.escape(path)
                scene.cover("extensions", glob, evidence)
            elif scene.look.kind(path) in MANIFEST_KINDS:  # unpacked: what is no data beside its manifest is of it
                scene.cover("extensions", globs.escape(path), evidence, Sure.LIKELY)
                for other in scene.below(family.folder) if manifests[family.folder] == 1 else ():
                    if scene.tree.entries()[other].kind is Kind.FILE and scene.look.kind(other) in _CODE:
                        scene.cover("extensions", suffix_glob(other), f"code beside {path}", Sure.LIKELY)
            else:
                scene.cover(
                    "extensions",
                    globs.escape(path),
                    f"{manifest.name} {manifest.version} by its first lines",
                    Sure.LIKELY,
                )
    lower = {name.lower(): name for name in names}
    return {
        folder: lower[folder.rsplit("/", 1)[-1].lower()]
        for folder in scene.folders
        if folder.rsplit("/", 1)[-1].lower() in lower
    }


def find_extension_data(scene: InferenceContext, folders: dict[str, str]) -> None:
    """Tell the context which files extensions keep."""
    for folder, name in sorted(folders.items()):
        for path in scene.below(folder):
            if scene.tree.entries()[path].kind is not Kind.FILE or path.rpartition("/")[0] != folder:
                continue
            if scene.is_covered(path):
                continue
            if scene.look.kind(path) in ("ini", "properties", "toml", "yaml"):
                scene.cover("settings", globs.escape(path), f"settings of the extension {name}", Sure.LIKELY)
        _what_it_keeps(scene, folder, name)


def _what_it_keeps(scene: InferenceContext, folder: str, name: str) -> None:
    """The rest of an extension's folder: its data, but what came with its manifest is of the extension."""
    there = [path for path in scene.below(folder) if scene.tree.entries()[path].kind is Kind.FILE]
    manifest = next((path for path in there if scene.manifest(path) and path.rpartition("/")[0] == folder), "")
    came = scene.tree.entries()[manifest].mtime_ns + A_COPY if manifest and scene.times_differ else 0
    rest = [path for path in there if not scene.is_covered(path)]
    with_it = [path for path in rest if scene.tree.entries()[path].mtime_ns <= came]
    if rest and len(with_it) == len(rest):
        evidence = f"as old as the manifest of {name}"
        scene.cover("extensions", f"{globs.escape(folder)}/**", evidence, Sure.LIKELY)
        return
    for path in with_it if len(with_it) <= FEW_WITH_IT else ():
        scene.cover("extensions", globs.escape(path), f"as old as the manifest of {name}", Sure.LIKELY)
    sure = Sure.LIKELY if manifest else Sure.SURE
    scene.cover("extension-data", f"{globs.escape(folder)}/**", f"what the extension {name} keeps", sure)
