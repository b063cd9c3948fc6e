"""What a server folder starts: launch scripts, programs, what tells their versions."""

from __future__ import annotations

import re
from collections import defaultdict

from emberkeep.detection import launch
from emberkeep.detection.context import InferenceContext, numbered_glob, suffix_glob
from emberkeep.detection.findings import (
    Sure,
)
from emberkeep.fs import globs
from emberkeep.inventory.extensions import read_facts
from emberkeep.inventory.versions import VERSION


def find_scripts(scene: InferenceContext) -> list[str]:
    """The launch scripts, most likely first; their roles are told to the context."""
    scripts = []
    for family in list(scene.open_families()):
        for path in scene.sampled(family):
            if scene.look.kind(path) == "script":
                named = launch.started_files(scene, path)
                scripts.append(path)
                evidence = f"a script that starts {named[0]}" if named else "a script"
                scene.cover("scripts", globs.escape(path), evidence, Sure.SURE if named else Sure.LIKELY)
    return scripts


def find_programs(scene: InferenceContext, scripts: list[str]) -> None:
    """Tell the context which files the scripts execute, and what tells their versions."""
    started = {name: script for script in scripts for name in launch.started_files(scene, script)}
    program_folders: dict[str, list[str]] = defaultdict(list)
    for family in list(scene.open_families()):
        for path in scene.sampled(family):
            kind = scene.look.kind(path)
            if path in started and path not in scripts:
                scene.programs.append(path)
                scene.cover("engine", numbered_glob(path), f"the program that {started[path]} executes")
                if kind == "zip" and family.folder:
                    evidence = f"an archive beside {path}"
                    scene.cover("engine", suffix_glob(path), evidence, Sure.LIKELY)
                if kind == "text":
                    _manifest_of_program(scene, path)
                if kind == "text" and family.folder:  # interpreted: what stands beside it is of it
                    evidence = f"{started[path]} has {path} interpreted, and this stands beside it"
                    scene.cover("engine", f"{globs.escape(family.folder)}/**", evidence, Sure.LIKELY)
            elif kind == "program":
                program_folders[family.folder].append(path)
    for folder, paths in program_folders.items():
        _program_folder(scene, folder, [path for path in paths if not scene.is_covered(path)])
    for family in list(scene.open_families()):
        for path in scene.sampled(family):
            _version_file(scene, path)
            _overlay(scene, path)


def _manifest_of_program(scene: InferenceContext, path: str) -> None:
    """What tells the version of a program that is interpreted: a manifest beside it, or above it."""
    folder = path
    while folder:
        folder = folder.rpartition("/")[0]
        for other in scene.paths if not folder else scene.below(folder):
            if (
                other.rpartition("/")[0] == folder
                and other not in scene.dirs
                and scene.look.kind(other) in ("json", "toml")
            ):
                manifest = read_facts(scene.look, other)
                if isinstance(manifest.get("version"), str) and manifest.get("name"):
                    scene.manifests_of_programs.append(other)
                    scene.cover("engine", globs.escape(other), f"it tells the version of {path}", Sure.LIKELY)
                    return


def _program_folder(scene: InferenceContext, folder: str, paths: list[str]) -> None:
    beside = sum(len(family.members) for family in scene.families if family.folder == folder)
    if folder and paths and len(paths) >= 0.5 * beside:
        scene.cover("engine", f"{globs.escape(folder)}/**", f"{len(paths)} program files of {beside} in it")
        return
    for path in paths:
        scene.cover("engine", numbered_glob(path), "a program or library", Sure.LIKELY)


def _version_file(scene: InferenceContext, path: str) -> None:
    ours = ["", *(program.rpartition("/")[0] for program in scene.programs)]
    if path.rpartition("/")[0] not in ours or scene.look.size(path) > 2000 or scene.look.kind(path) != "text":
        return
    name = path.rpartition("/")[2].rsplit(".", 1)[0].lower()
    if re.fullmatch(r"version|release|build", name) and VERSION.search(scene.look.text(path)):
        scene.cover("engine", globs.escape(path), "tells the engine's version")


def _overlay(scene: InferenceContext, path: str) -> None:
    """An archive whose members lie in the folder: a framework laid over the engine."""
    if scene.look.kind(path) != "zip" or scene.is_covered(path):
        return
    members = scene.look.members(path)
    there = [name for name in members if name in scene.tree.entries()]
    if members and len(there) >= max(1, len(members) // 2):
        evidence = f"an overlay: {len(there)} of its {len(members)} files lie in the server folder"
        scene.cover("engine", numbered_glob(path), evidence, Sure.LIKELY)
