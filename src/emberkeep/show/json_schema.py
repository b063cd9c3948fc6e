"""The shape of what each command gives with ``--json``, as JSON Schema (draft 2020-12): made from the types of the
results, by the rules by which ``json_output`` writes them.

Loaded by documents and tests alone, as it loads nearly all there is.
"""

from __future__ import annotations

import importlib
import pkgutil
import sys
import types
import typing
from collections.abc import Mapping, Sequence, Set
from dataclasses import fields, is_dataclass
from datetime import date, datetime, timedelta
from decimal import Decimal
from enum import Enum
from functools import cache
from pathlib import Path
from typing import Any

from emberkeep.comparing.files import FoundFile, RoleCount, TreeDifference
from emberkeep.detection.findings import Adoption
from emberkeep.errors import Fault
from emberkeep.fs.trees import Entry, Skipped
from emberkeep.keep.reference import Table
from emberkeep.merging.answers import Answer
from emberkeep.merging.intents import Intents
from emberkeep.merging.orders import Order
from emberkeep.merging.results import FileMerge, Merge
from emberkeep.operations.engine.preview import Preview
from emberkeep.operations.engine.restore_plan import RestorePlan
from emberkeep.operations.flows import due, update, wipe, wipe_preview
from emberkeep.operations.flows.drill import Drill
from emberkeep.operations.flows.keep_map import Keeping
from emberkeep.operations.flows.readiness import Readiness
from emberkeep.operations.flows.send import Asked, SendPlan
from emberkeep.operations.record import databases
from emberkeep.operations.record.defaults import Recorded
from emberkeep.operations.record.drills import DrillRecord
from emberkeep.operations.record.facts import Run
from emberkeep.operations.upkeep import fetch_plan, sharing
from emberkeep.operations.upkeep.fetch import Fetched
from emberkeep.process.announce import Told
from emberkeep.process.forecast import Forecast
from emberkeep.process.lifecycle import Stopped
from emberkeep.process.watch import Watched
from emberkeep.retention.growth import Growth
from emberkeep.retention.ladder import Verdict
from emberkeep.schedule.attendance import Attendance
from emberkeep.show.json_output import FORMAT, PARTS_OF_MERGE
from emberkeep.store.compact import Freed
from emberkeep.store.manifest import About
from emberkeep.store.repair import Repair
from emberkeep.store.verify import Verification
from emberkeep.store.writer import Dumped
from emberkeep.survey.survey import Survey
from emberkeep.transfer.protocol import RemoteEntry
from emberkeep.vault import checking
from emberkeep.vault.sending import Sent
from emberkeep.wiping.leftovers import Leftover
from emberkeep.wiping.values import Wiped

_RUN = {"run": Run | None, "done": bool}
_BY_TYPE = {**_RUN, "preview": Preview, "before": About | None}
RESULTS: Mapping[str, Mapping[str, Any]] = {
    "demo": {"folder": Path, "server": Path, "size": str},
    "adopt": {
        "keep": Path,
        "adoption": Adoption,
        "fetched": Fetched,
        "asked": list[str],
        "answered": int,
        "proposals": list[dict[str, str]],
        "idle": list[str],
        "written": bool,
    },
    "survey": {
        "survey": Survey,
        "faults": list[str],
        "coming": list[str],
        "waiting": list[str],
        "far": fetch_plan.Standing | None,
        "databases": list[databases.Standing],
        "vaults": list[checking.Standing],
        "drill": DrillRecord | None,
    },
    "snapshot": {
        "snapshot": About,
        "skipped": list[Skipped],
        "dumped": list[Dumped],
        "differ_only_in_case": list[tuple[str, str]],
    },
    "history": {
        "snapshots": list[About],
        "runs": list[Run],
        "drills": list[DrillRecord],
        "faults": list[str],
        "run": Run,
        "growth": Growth,
        "snapshot": About,
    },
    "restore": {
        **_RUN,
        "plan": RestorePlan,
        "databases": list[databases.DatabasePlan],
        "before": About | None,
        "preview": Preview,
        "database": databases.DatabasePlan,
        "dumps": list[Path],
        "left_out": list[str],
    },
    "resume": {**_RUN, "left": Preview | None, "far": Asked},
    "undo": {**_RUN, "plan": RestorePlan | None, "databases": list[str], "before": About | None, "far": Asked},
    "verify": {"verification": Verification, "repair": Repair},
    "drill": {"drill": Drill, "proven": bool, "copy": Path | None},
    "thin": {"verdicts": list[Verdict], "frees_about": int, "done": bool, "freed": Freed | None},
    "store": {**_RUN, "store": sharing.Overview, "forgotten": sharing.Member, "preview": Preview},
    "export": {"snapshot": About, "file": Path, "files": int, "bytes": int, "written": int},
    "defaults": {"recorded": Recorded, "defaults": list[About], "dropped": str},
    "diff": {
        "difference": TreeDifference,
        "by_role": list[RoleCount],
        "staying": list[str],
        "find": str,
        "found": list[FoundFile],
        "faults": list[Fault],
    },
    "orders": {"orders": Intents | list[Order], "proposed": Intents},
    "answers": {"answers": list[Answer], "withdrawn": Answer | None},
    "merge": {"summary": str, "written": bool, "before": About | None},
    "update": {"report": update.Report, "preview": Preview, "done": bool, "copy": Path},
    "migrate": {**_BY_TYPE, "missed": list[str], "recipe": str},
    "carry": {**_BY_TYPE, "verified": int, "keep": Path},
    "import": _BY_TYPE,
    "wipe": {
        **_RUN,
        "preview": wipe_preview.Preview,
        "report": wipe.Report,
        "forgotten": list[Leftover],
        "keeping": Keeping,
    },
    "calendar": {
        "coming": list[dict[str, Any]],
        "last_wipe": Wiped | None,
        "wrote": list[str],
        "attendance": Attendance,
        "files": dict[str, str],
    },
    "due": {"due": list[due.DueOutcome], "waiting": list[str], "done": bool, "notified": list[Told]},
    "start": {"watched": Watched, "preview": Preview, "checks": list[str], "done": bool},
    "stop": {"stopped": Stopped | None, "set_back": bool, "signs": list[str], "done": bool},
    "say": {"said": str, "answer": str},
    "mirror": {
        **_RUN,
        "plan": SendPlan | fetch_plan.FetchPlan,
        "fetched": Fetched,
        "new": list[str],
        "far": Asked,
        "before": About | None,
        "vaults": list[Sent],
        "checked": list[checking.Checked],
        "failed": dict[str, list[str]],
        "keep": Path,
        "brought": checking.Checked,
    },
    "watch": {"running": bool, "watched": Watched, "forecast": Forecast | None},
    "check": {"check": Readiness},
    "keep-toml": {"table": Table, "tables": list[Table]},
}
"""What a command may give beside ``command``, ``exit`` and ``format``: which of these depends on how it is called."""


def schema(command: str, *, strict: bool = False) -> dict[str, Any]:
    """The schema of a command's document. ``strict``: without room for keys that may come."""
    maker = _Maker(strict)
    return {"$schema": _DRAFT, **_document(command, maker), "$defs": maker.defined}


def whole() -> dict[str, Any]:
    """The schema of the documents of all commands."""
    maker = _Maker(strict=False)
    every = {f"command.{command}": _document(command, maker) for command in RESULTS}
    return {
        "$schema": _DRAFT,
        "title": "What Ember Keep gives with --json",
        "oneOf": [{"$ref": f"#/$defs/{name}"} for name in every],
        "$defs": every | maker.defined,
    }


def _document(command: str, maker: _Maker) -> dict[str, Any]:
    members = {key: maker.of(hint) for key, hint in RESULTS[command].items()}
    if command == "merge":
        members |= maker.of(Merge)["properties"]
    fixed = {"format": {"const": FORMAT}, "command": {"const": command}, "exit": {"type": "integer"}}
    failed = {"type": "array", "items": maker.object(_FAILURE)}
    members["faults"] = {"anyOf": [members["faults"], failed]} if "faults" in members else failed
    keeps = {"type": "array", "items": maker.object({"keep": str, "exit": int, "answer": Any, "said": str})}
    return {
        "type": "object",
        "properties": {**fixed, **members, "keeps": keeps},
        "required": ["format", "command", "exit"],
        **({"additionalProperties": False} if maker.strict else {}),
    }


class _Maker:
    """Makes schemas of types; those of dataclasses are defined once."""

    def __init__(self, strict: bool) -> None:
        self.strict = strict
        self.defined: dict[str, Any] = {}

    def of(self, hint: Any) -> dict[str, Any]:
        """The schema of what ``to_json`` makes of a value of this type."""
        if hint is FileMerge:
            return self.object({"path": str, "outcome": str, "format": str})
        if hint is Merge:
            return self._merge()
        if isinstance(hint, type) and not typing.get_args(hint):
            return self._of_class(hint)
        origin, arguments = typing.get_origin(hint), typing.get_args(hint)
        if origin in (typing.Union, types.UnionType):
            return {"anyOf": [self.of(one) for one in arguments]}
        if origin is typing.Literal:
            return {"enum": list(arguments)}
        if isinstance(origin, type) and issubclass(origin, Mapping):
            return {"type": "object", "additionalProperties": self.of(arguments[1])}
        if origin is tuple and arguments and arguments[-1] is not Ellipsis:
            return {"type": "array", "prefixItems": [self.of(one) for one in arguments], "items": False}
        if isinstance(origin, type) and issubclass(origin, (Sequence, Set)):
            return {"type": "array", "items": self.of(arguments[0])}
        return {}

    def _of_class(self, kind: type) -> dict[str, Any]:
        if is_dataclass(kind) or kind in (Entry, RemoteEntry):
            return self._defined(kind)
        if issubclass(kind, Enum):
            return {"enum": [one.value for one in kind]}
        if issubclass(kind, tuple) and hasattr(kind, "_fields"):
            return {"type": "array", "prefixItems": [self.of(hint) for hint in _hints(kind).values()], "items": False}
        for known, name in _PLAIN:
            if issubclass(kind, known):
                return {"type": name}
        return {}

    def _defined(self, kind: type) -> dict[str, Any]:
        name = f"{kind.__module__.rpartition('.')[2]}.{kind.__name__}"
        if name not in self.defined:
            self.defined[name] = {}  # so that one within itself ends
            hints = _hints(kind)
            names = [item.name for item in fields(kind)] if is_dataclass(kind) else list(hints)
            self.defined[name] = self.object({one: hints[one] for one in names})
        return {"$ref": f"#/$defs/{name}"}

    def object(self, hints: Mapping[str, Any]) -> dict[str, Any]:
        """The schema of an object with these members, all of them there."""
        made: dict[str, Any] = {
            "type": "object",
            "properties": {name: self.of(hint) for name, hint in hints.items()},
            "required": list(hints),
        }
        return {**made, "additionalProperties": False} if self.strict else made

    def _merge(self) -> dict[str, Any]:
        hints = {**_hints(Merge), **{name: _returned(Merge, name) for name in vars(Merge) if _is_property(Merge, name)}}
        made = self.object({key: hints[name] for key, name in PARTS_OF_MERGE.items()} | {"open": int})
        unused, alone = {"file": str, "record": str, "field": str}, {"file": str, "role": str}
        made["properties"]["unused_answers"] = {"type": "array", "items": self.object(unused)}
        made["properties"]["left_alone"] = {"type": "array", "items": self.object(alone)}
        return made


def _is_property(kind: type, name: str) -> bool:
    return isinstance(vars(kind)[name], property)


def _returned(kind: type, name: str) -> Any:
    return typing.get_type_hints(vars(kind)[name].fget, localns=_names_in(kind))["return"]


def _names_in(kind: type) -> dict[str, Any]:
    return {**_names(), **vars(sys.modules[kind.__module__])}


PACKAGE = Path(__file__).parent.parent
"""Where the sources lie."""
_DRAFT = "https://json-schema.org/draft/2020-12/schema"
_FAILURE = {"what": str, "file": str | None, "line": int | None, "column": int | None, "next": str}
"""A fault of a command that ended by one."""
_PLAIN: tuple[tuple[Any, str], ...] = (
    (bool, "boolean"),
    (int, "integer"),
    ((float, Decimal, timedelta), "number"),
    ((str, Path, date, datetime), "string"),
    (type(None), "null"),
    (dict, "object"),
    ((list, tuple, set, frozenset), "array"),
)


@cache
def _hints(kind: type) -> dict[str, Any]:
    """The types of a class's fields, also those that its module loads for type checkers alone."""
    return typing.get_type_hints(kind, localns=_names_in(kind))


@cache
def _names() -> dict[str, Any]:
    """Every class of the package, by name, and what annotations take from the standard library."""
    found: dict[str, Any] = {}
    for module in pkgutil.walk_packages([str(PACKAGE)], "emberkeep."):
        if not module.name.endswith("__main__"):
            for name, value in vars(importlib.import_module(module.name)).items():
                if isinstance(value, (type, types.GenericAlias, types.UnionType)):
                    found.setdefault(name, value)
    return found
