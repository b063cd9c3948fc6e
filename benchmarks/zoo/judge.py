"""What adopt found in a folder of the zoo, held against what is true of it."""

from __future__ import annotations

import re
import shutil
from collections.abc import Iterator
from contextlib import suppress
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path

from ground import NOW, Fact, Ground

from emberkeep.detection.adopt import adopt
from emberkeep.detection.draft import draft
from emberkeep.detection.findings import ORDER, Adoption
from emberkeep.errors import EmberKeepError
from emberkeep.fs import globs
from emberkeep.inventory.roles import Roles
from emberkeep.keep.keep import Keep
from emberkeep.keep.tables.server import UNSORTED
from emberkeep.operations.flows import wipe_preview

RIGHT, WRONG, LACKING = "right", "wrong", "not found"
WEAKEST = ("guess", "likely", "sure")
MOMENT = datetime.fromtimestamp(NOW, UTC)


@dataclass(frozen=True)
class Verdict:
    """How a fact came out. ``sure``: sure, likely or guess, "" where nothing was said; ``said``: what was."""

    family: str
    fact: Fact
    verdict: str
    sure: str = ""
    said: str = ""


class Judge:
    """One folder, adopted as a user would, with the draft as it stands and nothing put right in it."""

    def __init__(self, ground: Ground, room: Path) -> None:
        self.ground = ground
        self.found: Adoption = adopt(ground.root)
        found = self.found
        self.roles = Roles([(role, [item.glob for item in found.roles if item.role == role]) for role in ORDER])
        self.globs = [
            (globs.compiled(item.glob), item) for item in sorted(found.roles, key=lambda item: ORDER.index(item.role))
        ]
        self.keep_folder = room / f"{ground.root.name}-keep"
        self._cleared: dict[str, tuple[set[str], set[str]] | None] = {}

    def verdicts(self) -> list[Verdict]:
        """All facts, judged."""
        try:
            return [self._judged(fact) for fact in self.ground.facts]
        finally:
            shutil.rmtree(self.keep_folder, ignore_errors=True)

    def _judged(self, fact: Fact) -> Verdict:
        kind = fact.kind.replace(" ", "_")
        if kind.startswith(("clears_", "leaves_")):
            verdict, sure, said = self._wiped(fact)
        else:
            verdict, sure, said = getattr(self, f"_{kind}", self._argument)(fact)
        return Verdict(self.ground.family, fact, verdict, str(sure), said)

    # --- files -------------------------------------------------------------------

    def _sure_of(self, path: str) -> str:
        return next((str(item.sure) for pattern, item in self.globs if pattern.fullmatch(path)), "")

    def _weakest(self, paths: Iterator[str] | list[str]) -> str:
        return min(
            (self._sure_of(path) for path in paths), key=lambda sure: WEAKEST.index(sure) if sure else 9, default=""
        )

    def _role(self, fact: Fact) -> tuple[str, str, str]:
        got = {path: self.roles.of(path) for path in fact.paths}
        bad = [path for path, role in got.items() if role not in fact.expected]
        if not bad:
            return RIGHT, self._weakest(list(fact.paths)), ""
        if all(got[path] == UNSORTED for path in bad):
            return LACKING, "", bad[0]
        worst = next(path for path in bad if got[path] != UNSORTED)
        return WRONG, self._sure_of(worst), f"{worst} is {got[worst]}"

    def _bound(self, fact: Fact) -> tuple[str, str, str]:
        patterns = [(globs.compiled(item.glob), str(item.sure)) for item in self.found.player_bound]
        sures = []
        for path in fact.expected:
            sure = next((sure for pattern, sure in patterns if pattern.fullmatch(path)), "")
            if not sure and self.roles.of(path) in ("players", "progress"):
                sure = self._sure_of(path)
            if not sure:
                return LACKING, "", path
            sures.append(sure)
        return RIGHT, min(sures, key=WEAKEST.index), ""

    # --- the world ---------------------------------------------------------------

    def _world(self, fact: Fact) -> tuple[str, str, str]:
        world = self.found.world
        return self._one(world.folder if world.evidence else "", world.sure, fact)

    def _pointer(self, fact: Fact) -> tuple[str, str, str]:
        world = self.found.world
        if not world.pointer_file:
            return LACKING, "", ""
        file, _, key = fact.expected[0].partition(":")
        same = world.pointer_file == file and re.split(r"[^\w-]+", world.pointer_key)[-1].strip("-") == key.strip("-")
        return (RIGHT if same else WRONG), self._pointer_sure(), f"{world.pointer_file}:{world.pointer_key}"

    def _pointer_sure(self) -> str:
        return str(getattr(self.found.world, "pointer_sure", "sure"))

    def _not_pointer(self, fact: Fact) -> tuple[str, str, str]:
        bad = self.found.world.pointer_file == fact.expected[0]
        return (WRONG, self._pointer_sure(), self.found.world.pointer_key) if bad else (RIGHT, "", "")

    def _not_world(self, fact: Fact) -> tuple[str, str, str]:
        bad = self.found.world.folder == fact.expected[0]
        return (WRONG, str(self.found.world.sure), "") if bad else (RIGHT, "", "")

    def _no_world(self, fact: Fact) -> tuple[str, str, str]:
        world = self.found.world
        return (WRONG, str(world.sure), world.folder) if world.evidence else (RIGHT, "", "")

    def _tiles(self, fact: Fact) -> tuple[str, str, str]:
        return self._one(self.found.world.tiles, self.found.world.sure, fact)

    def _number(self, fact: Fact) -> tuple[str, str, str]:
        world = self.found.world
        if not world.numbered:
            return LACKING, "", ""
        folder = world.folder if (self.ground.root / world.folder).is_dir() else world.folder.rpartition("/")[0]
        pattern = re.compile(
            re.escape(f"{folder}/{world.numbered}").replace(r"\*", "[^/]*").replace(r"\{number\}", r"(\d+)")
        )
        numbers = {told[1] for path in self.found_paths() if (told := pattern.fullmatch(path))}
        return (RIGHT if numbers == set(fact.expected) else WRONG), str(world.sure), world.numbered

    def found_paths(self) -> list[str]:
        """All files of the folder."""
        root = self.ground.root
        return [path.relative_to(root).as_posix() for path in root.rglob("*") if path.is_file()]

    # --- the rest ------------------------------------------------------------------

    def _one(self, said: str, sure: object, fact: Fact) -> tuple[str, str, str]:
        if not said:
            return LACKING, "", ""
        return (RIGHT if said in fact.expected else WRONG), str(sure), said

    def _script(self, fact: Fact) -> tuple[str, str, str]:
        launch = self.found.launch
        return self._one(launch.script if launch else "", launch.sure if launch else "", fact)

    def _program(self, fact: Fact) -> tuple[str, str, str]:
        launch = self.found.launch
        return self._one(launch.program if launch else "", launch.sure if launch else "", fact)

    def _argument(self, fact: Fact) -> tuple[str, str, str]:
        """seed, size, port."""
        launch = self.found.launch
        told = next((item for item in (launch.arguments if launch else ()) if item.purpose == fact.kind), None)
        return self._one(told.value if told else "", told.sure if told else "", fact)

    def _name(self, fact: Fact) -> tuple[str, str, str]:
        sure = self.found.name_evidence.partition(":")[0]
        return (RIGHT if self.found.name in fact.expected else WRONG), sure, self.found.name

    def _version(self, fact: Fact) -> tuple[str, str, str]:
        told = next((item for item in self.found.versions if item.name == "engine"), None)
        return self._one(told.version if told else "", told.sure if told else "", fact)

    def _players(self, fact: Fact) -> tuple[str, str, str]:
        count = str(self.found.players)
        if count == "0":
            return LACKING, "", ""
        return (RIGHT if count in fact.expected else WRONG), "likely", count

    def _extension(self, fact: Fact) -> tuple[str, str, str]:
        told = next((item for item in self.found.extensions if item.name == fact.about), None)
        return self._one(told.version if told else "", "sure", fact)

    def _record(self, fact: Fact) -> tuple[str, str, str]:
        told = next((item for item in self.found.records if f"{item.file}:{item.path}" == fact.about), None)
        return self._one("+".join(told.rule) if told else "", told.sure if told else "", fact)

    def _tables(self, fact: Fact) -> tuple[str, str, str]:
        """Which tables of a database are of players."""
        rows = getattr(self.found, "tables", ())
        told = sorted(item.table for item in rows if item.database == fact.about)
        sure = next((str(item.sure) for item in rows if item.database == fact.about), "")
        return self._one("+".join(told), sure, fact)

    def _ready(self, fact: Fact) -> tuple[str, str, str]:
        return self._line("ready", fact)

    def _joined(self, fact: Fact) -> tuple[str, str, str]:
        return self._line("joined", fact)

    def _line(self, kind: str, fact: Fact) -> tuple[str, str, str]:
        log = self.found.log
        told = next((line for line in (log.lines if log else ()) if line.kind == kind), None)
        if told is None:
            return LACKING, "", ""
        return (RIGHT if re.search(told.pattern, fact.expected[0]) else WRONG), str(told.sure), told.pattern

    # --- what a wipe would do ----------------------------------------------------------

    def _cleared_by(self, scope: str) -> tuple[set[str], set[str]] | None:
        """Files, and tables of databases (``file:table``), all of whose rows go; None where nothing can be cleared."""
        if scope not in self._cleared:
            self._cleared[scope] = None
            with suppress(EmberKeepError):
                self._cleared[scope] = self._preview(scope)
        return self._cleared[scope]

    def _preview(self, scope: str) -> tuple[set[str], set[str]]:
        if not self.keep_folder.exists():
            self.keep_folder.mkdir()
            (self.keep_folder / "keep.toml").write_text(
                draft(self.found, str(self.ground.root), "UTC"), encoding="utf-8"
            )
        keep = Keep(self.keep_folder, {})
        request = wipe_preview.request_of(keep, (scope,), MOMENT, warn=False, start=False)
        found = wipe_preview.preview(keep, request, {}, MOMENT)
        files = {path for cleared in found.cleared.scopes for path in cleared.files}
        rows = [one for cleared in found.cleared.scopes for one in cleared.rows]
        return files, {f"{one.database}:{one.table}" for one in rows if one.count == one.of}

    def _wiped(self, fact: Fact) -> tuple[str, str, str]:
        kind, scope, *of_rows = fact.kind.split()
        both = self._cleared_by(scope)
        if both is None:
            return (LACKING if kind == "clears" else RIGHT), "", ""
        cleared = both[1] if of_rows else both[0]
        gone = [path for path in fact.expected if path in cleared]
        if kind == "leaves":
            return (WRONG, self._sure_of(gone[0]), f"{gone[0]} would go") if gone else (RIGHT, "", "")
        if len(gone) == len(fact.expected):
            return RIGHT, self._weakest(gone), ""
        stays = next(path for path in fact.expected if path not in cleared)
        return (WRONG if gone else LACKING), self._weakest(gone), f"{stays} would stay"
