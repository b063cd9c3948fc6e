"""Which version numbers a server has, and the pattern by which each is found again."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence

from emberkeep.detection import launch
from emberkeep.detection.context import InferenceContext, numbered_glob
from emberkeep.detection.findings import Sure, VersionFinding, WorldFinding, log_glob
from emberkeep.fs import globs
from emberkeep.inventory.extensions import Extension
from emberkeep.inventory.versions import VERSION

_OF_A_HOST = r"(?:(?:127|10)\.\d+|0\.0|192\.168|172\.(?:1[6-9]|2\d|3[01]))\.\d+\.\d"
"""Addresses by which nobody numbers a release."""
_NAMED = re.compile(rf"([A-Za-z][\w-]*)[ _-]v?(?!{_OF_A_HOST})(\d+(?:\.\d+)+)(?![\d.]*(?::\d|[/\\]))")
_PATTERN = r"(\d+(?:\.\d+)+)"


def versions(scene: InferenceContext, world: WorldFinding, extensions: Sequence[Extension]) -> Iterator[VersionFinding]:
    """The engine's, the framework's, the save's and the databases' formats, and each extension's."""
    yield from _engine(scene)
    yield from _frameworks(scene)
    if world.numbered:
        yield _save(scene, world)
    yield from _database_formats(scene)
    for extension in extensions:
        found = _extension(extension)
        if found is not None:
            yield found


def _engine(scene: InferenceContext) -> Iterator[VersionFinding]:
    programs = [path for path in scene.of_role("engine") if scene.look.kind(path) in ("program", "binary")]
    engines = [*scene.programs, *programs]
    named = [(path, found[1]) for path in engines if (found := VERSION.search(path.rsplit("/", 1)[-1]))]
    if named:
        yield _by_file_name(scene, *named[0])
        return
    versions = [*_told(scene)] or [*_by_contents(scene)] or [*_by_folder(scene)] or [*_by_image(scene)]
    yield from versions


def _by_folder(scene: InferenceContext) -> Iterator[VersionFinding]:
    """A version in the name of a folder that the program lies in."""
    for path in scene.programs:
        folder = path.rpartition("/")[0]
        for part in reversed(folder.split("/")):
            found = VERSION.search(part)
            if found is None:
                continue
            before, behind = (re.escape(text).replace(r"\-", "-") for text in part.split(found[1], 1))
            opened = globs.escape(path).replace(globs.escape(found[1]), "*", 1)
            within = opened if sum(1 for _ in scene.matching(opened)) == 1 else globs.escape(path)
            pattern = rf"(?:^|/){before}{_PATTERN}{behind}/"
            yield VersionFinding("engine", pattern, (within,), found[1], f"{path} lies in {part}", Sure.LIKELY)
            return


_IN_MANIFEST = re.compile(rf"(?im)^((?:Implementation|Bundle|Specification)-Version: *){_PATTERN}\s*$")
_IN_FACTS = re.compile(rf"""(?i)(["']?version["']?\s*[:=]\s*["']){_PATTERN}["']""")
_IN_CODE = re.compile(rf"(?im)^((?:__)?version(?:__)?\s*=\s*[\"']){_PATTERN}[\"']")


def _by_contents(scene: InferenceContext) -> Iterator[VersionFinding]:
    """A version in the manifest of a program that is an archive, or of one that is interpreted, or in the first lines
    of that."""
    for path in scene.manifests_of_programs:
        found = _IN_FACTS.search(scene.look.text(path))
        if found:
            pattern = rf"{re.escape(found[1])}{_PATTERN}"
            evidence = f"{found[0].strip()} in {path}"
            yield VersionFinding("engine", pattern, (globs.escape(path),), found[2], evidence, Sure.LIKELY)
            return
    for path in scene.of_role("engine"):
        kind = scene.look.kind(path)
        texts = [(path, scene.look.text(path))] if kind in ("text", "toml", "ini", "properties") else []
        if kind == "zip":
            texts = [
                (f"{path}!{name}", scene.look.member_text(path, name))
                for name in scene.look.members(path)
                if name.endswith(".MF")
            ]
        for where, text in texts:
            found = (_IN_MANIFEST if kind == "zip" else _IN_CODE).search(text)
            if found:
                pattern = rf"(?m)^{re.escape(found[1])}{_PATTERN}"
                evidence = f"{found[0].strip()} in {where}"
                yield VersionFinding("engine", pattern, (globs.escape(path),), found[2], evidence, Sure.LIKELY)
                return


_IMAGE = re.compile(rf"([\w.-]+(?:[/:][\w.-]+)*:v?){_PATTERN}")
_IMAGE_LINE = re.compile(r"(?m)^\s*image\s*:\s*[\"']?([^\s\"']+)[\"']?\s*$")


def _by_image(scene: InferenceContext) -> Iterator[VersionFinding]:
    """A version in the name of the only image of a container that has one, in what describes it or starts it."""
    yamls = [path for path in scene.of_role("settings") if scene.look.kind(path) == "yaml"]
    images = [(path, image) for path in yamls for image in _IMAGE_LINE.findall(scene.look.text(path))]
    for path in scene.of_role("scripts"):
        words = (word for command in launch.container_commands(scene, path) for word in command)
        images += [(path, word) for word in words if word in scene.look.text(path)]
    named = [(path, found) for path, image in images if (found := _IMAGE.fullmatch(image))]
    if len(named) == 1:
        ((path, found),) = named
        pattern, evidence = rf"{re.escape(found[1])}{_PATTERN}", f"{found[0]} in {path}"
        yield VersionFinding("engine", pattern, (globs.escape(path),), found[2], evidence, Sure.LIKELY)


def _by_file_name(scene: InferenceContext, path: str, version: str) -> VersionFinding:
    where, word = [numbered_glob(path)], ""
    candidates = _texts(scene)
    for other in candidates:
        if found := re.search(rf"([A-Za-z][\w-]*)[ -]v?{re.escape(version)}", scene.look.text(other)[:4000]):
            word = word or found[1]
            where.append(globs.escape(other))
    name = path.rsplit("/", 1)[-1]
    prefix = name[: name.index(version)].rstrip("-_ .")
    words = "|".join(dict.fromkeys(re.escape(part) for part in (prefix, word) if part))
    pattern = rf"(?:{words})[-_ ]v?{_PATTERN}" if words else _PATTERN
    evidence = f"{version} in the name of {path}" + (f" and in {', '.join(where[1:])}" if where[1:] else "")
    return VersionFinding("engine", pattern, tuple(where), version, evidence, Sure.SURE)


def _texts(scene: InferenceContext) -> list[str]:
    """What may tell a version in words: texts of the engine, and logs."""
    logged = [path for path in scene.of_role("logs") if scene.look.kind(path) in ("text", "json")]
    return [*(path for path in scene.of_role("engine") if scene.look.kind(path) == "text"), *logged]


def _told(scene: InferenceContext) -> Iterator[VersionFinding]:
    """A name with a version in a version file or early in a log, or a file that holds a version alone: a guess from one
    place, likely from a version file, sure where two say the same."""
    texts = _texts(scene)
    named: dict[tuple[str, str], list[str]] = {}
    bare: dict[str, list[str]] = {}
    for path in texts:
        text = scene.look.text(path)[:2000]
        if re.fullmatch(r"v?\d+(?:\.\d+)+", text.strip()):
            bare.setdefault(text.strip().lstrip("v"), []).append(path)
        elif matches := list(_NAMED.finditer(text)):
            match = next((match for match in matches if _is_programs(scene, match[1])), matches[0])
            named.setdefault((match[1], match[2]), []).append(path)
    if named:
        (word, version), places = max(
            named.items(), key=lambda item: (item[0][1] in bare, _is_programs(scene, item[0][0]), len(item[1]))
        )
        alone = bare.get(version, [])
        pattern = rf"(?:^|{re.escape(word)}[ _-])v?{_PATTERN}" if alone else rf"{re.escape(word)}[ _-]v?{_PATTERN}"
        evidence = f"'{word} {version}' in {', '.join(places)}" + (
            f"; {', '.join(alone)} holds it alone" if alone else ""
        )
        logged = {path for path in places if path in scene.of_role("logs")}
        apart = len(places) - len(logged) + bool(logged)  # a program says the same in all of its logs
        likely = len(places) > 1 or _is_programs(scene, word)
        sure = Sure.SURE if alone or apart > 1 else Sure.LIKELY if likely else Sure.GUESS
        within = [log_glob(path) if path in logged else globs.escape(path) for path in (*alone, *places)]
        yield VersionFinding("engine", pattern, tuple(dict.fromkeys(within)), version, evidence, sure)
    elif bare:
        version, places = next(iter(bare.items()))
        evidence = f"{', '.join(places)} holds it alone"
        yield VersionFinding(
            "engine", rf"^v?{_PATTERN}", tuple(map(globs.escape, places)), version, evidence, Sure.LIKELY
        )


def _is_programs(scene: InferenceContext, word: str) -> bool:
    """Whether a program is called by a word, or begins or ends so."""
    names = [path.rpartition("/")[2].partition(".")[0].lower() for path in scene.programs]
    return len(word) > 2 and any(name.startswith(word.lower()) or name.endswith(word.lower()) for name in names)


def _frameworks(scene: InferenceContext) -> Iterator[VersionFinding]:
    """Overlay archives over the engine, by the version in their names, and where else name and version stand."""
    for finding in scene.findings:
        if finding.role != "engine" or not finding.evidence.startswith("an overlay"):
            continue
        path = next(iter(scene.matching(finding.glob)))
        name = path.rsplit("/", 1)[-1]
        found = VERSION.search(name)
        if not found:
            continue
        word = name[: found.start()].rstrip("-_ .")
        texts = _texts(scene)
        pattern = re.compile(rf"{re.escape(word)}[-_ ]v?{re.escape(found[1])}", re.IGNORECASE)
        where = [finding.glob, *(globs.escape(p) for p in texts if pattern.search(scene.look.text(p)))]
        evidence = f"{found[1]} in the name of the overlay {path}" + (
            f" and in {', '.join(where[1:])}" if where[1:] else ""
        )
        sure = Sure.SURE if where[1:] else Sure.LIKELY
        yield VersionFinding(
            "framework", rf"(?i:{re.escape(word)})[-_ ]v?{_PATTERN}", tuple(where), found[1], evidence, sure
        )


def _save(scene: InferenceContext, world: WorldFinding) -> VersionFinding:
    below = f"{globs.escape(world.base)}/" if world.base else ""
    names = below + world.numbered.replace("{number}", "*")
    pattern = re.escape(world.numbered.rsplit("/", 1)[-1])
    if pattern.startswith(r"\*"):
        pattern = "[^/]*" + pattern[2:]  # whatever the save is called; the other stars stand for numbers
    pattern = pattern.replace(r"\*", r"\d+").replace(r"\{number\}", r"(\d+)") + "$"
    path = next(iter(scene.matching(names)))
    version = re.search(pattern, path)
    evidence = f"the number in {path} that no setting gives"
    return VersionFinding("save", pattern, (names,), version[1] if version else "", evidence, Sure.LIKELY)


def _database_formats(scene: InferenceContext) -> Iterator[VersionFinding]:
    """Databases with a number of their own in their names."""
    for path in scene.of_role("progress", "databases"):
        name = path.rsplit("/", 1)[-1]
        found = re.fullmatch(r"([A-Za-z][\w-]*?)[._-](\d+)(\.\w+)", name)
        if found and scene.look.kind(path) == "sqlite":
            pattern = rf"{re.escape(found[1])}[._-](\d+){re.escape(found[3])}$"
            evidence = f"the number in the name of the database {path}"
            yield VersionFinding(found[1].lower(), pattern, (numbered_glob(path),), found[2], evidence, Sure.LIKELY)


def _extension(extension: Extension) -> VersionFinding | None:
    """An extension's version where its file's name tells it; its manifest is read anyway."""
    name = extension.path.rsplit("/", 1)[-1]
    if extension.version not in name:
        return None
    before, _, behind = name.partition(extension.version)
    pattern = rf"{re.escape(before)}(\d+(?:\.\d+)*){re.escape(behind)}$"
    evidence = f"its manifest says {extension.version}, as its name does"
    folder = extension.path.rpartition("/")[0]
    within = (
        f"{globs.escape(folder)}/{globs.escape(before)}*{globs.escape(behind)}"
        if folder
        else f"{globs.escape(before)}*{globs.escape(behind)}"
    )
    return VersionFinding(extension.name, pattern, (within,), extension.version, evidence, Sure.SURE)
