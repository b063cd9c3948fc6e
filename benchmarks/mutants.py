"""Single faults put into the product, one at a time, and whether a test notices: does the suite bite?

    python benchmarks/mutants.py [--modules GLOB …] [--budget 200] [--seed 1] [--jobs 2] [--seconds 60] [--map FILE]
                                 [--at MODULE:LINE … | --again OUT] [--long] [--list] [--out FILE]

A *mutant* is a module with one fault: a condition flipped, a bound moved by one, a call dropped (a sync is one), a function that
returns early, an exception caught too widely. ``--budget`` of them are drawn by ``--seed`` from the modules that
``--modules`` names (by default those that people's worlds rest on). Each is put into a copy of the package, and the tests that
ran the faulty line, as a first run with coverage learned (kept in ``--map`` for the next time), are run against it in a process
of its own, the quick ones first, until one fails. A mutant that is *killed* made a test fail or hang; one that *survived* shows
a line that no test holds. With ``--long`` the tests are those of the long form; give it a ``--map`` of its own.

Survivors that change nothing anybody could see stand, each with its reason, in ``mutants_accepted.toml``; they are told apart,
and one that is killed after all, or fits nothing any more, is told too. Exit code 1 when fewer than 95 % of the others were
killed. Needs the development packages (``pip install '.[dev]'``); POSIX only, as it forks.
"""

from __future__ import annotations

import argparse
import ast
import contextlib
import difflib
import fnmatch
import functools
import hashlib
import importlib
import json
import os
import random
import shutil
import signal
import subprocess
import sys
import tempfile
import time
import tomllib
from collections import Counter
from collections.abc import Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import asdict, dataclass, field
from pathlib import Path

import pytest

ROOT = Path(__file__).resolve().parent.parent
PACKAGE = ROOT / "src" / "emberkeep"
ACCEPTED = Path(__file__).with_name("mutants_accepted.toml")
MODULES = (
    "merging/*", "documents/*", "store/*", "fs/*", "operations/*", "retention/*", "schedule/*", "wiping/*",
    "migrating/*", "keep/recurrence.py", "transfer/*", "vault/*", "process/watch.py",
)  # fmt: skip
AIM = 0.95


# --- faults --------------------------------------------------------------------------------------------------------------


@dataclass(frozen=True)
class Mutant:
    """One fault. ``start``, ``end``: offsets in the module's UTF-8 bytes that ``text`` stands in for; ``where``: the function."""

    module: str
    where: str
    line: int
    kind: str
    start: int
    end: int
    text: str
    was: str

    @property
    def name(self) -> str:
        """What tells it apart from others, also when lines have moved."""
        return f"{self.module}:{self.where}: {self.kind}: {' '.join(self.was.split())[:100]}"

    def applied(self, source: bytes) -> bytes:
        """The module with the fault."""
        return source[: self.start] + self.text.encode() + source[self.end :]


FLIPPED = {
    ast.Lt: ">=", ast.LtE: ">", ast.Gt: "<=", ast.GtE: "<", ast.Eq: "!=", ast.NotEq: "==", ast.In: "not in", ast.NotIn: "in",
    ast.Is: "is not", ast.IsNot: "is",
}  # fmt: skip
MOVED = {ast.Lt: "<=", ast.LtE: "<", ast.Gt: ">=", ast.GtE: ">"}


class Finder(ast.NodeVisitor):
    """All faults that a module's text can be given: conditions flipped, calls dropped (syncs among them), bounds moved by one,
    functions that return early, exceptions caught too widely."""

    def __init__(self, module: str, source: bytes) -> None:
        self.module, self.source = module, source
        self.found: list[Mutant] = []
        self._where: list[str] = []
        starts = [0]
        for line in source.splitlines(keepends=True):
            starts.append(starts[-1] + len(line))
        self._starts = starts
        self.visit(ast.parse(source))

    def _span(self, node: ast.expr | ast.stmt) -> tuple[int, int]:
        assert node.end_lineno is not None and node.end_col_offset is not None
        return self._starts[node.lineno - 1] + node.col_offset, self._starts[node.end_lineno - 1] + node.end_col_offset

    def _text(self, node: ast.expr | ast.stmt) -> str:
        start, end = self._span(node)
        return self.source[start:end].decode()

    def _add(self, kind: str, node: ast.expr | ast.stmt, text: str) -> None:
        start, end = self._span(node)
        where = ".".join(self._where) or "(top)"
        self.found.append(Mutant(self.module, where, node.lineno, kind, start, end, text, self._text(node)))

    def visit_FunctionDef(self, node: ast.FunctionDef) -> None:
        self._where.append(node.name)
        first = node.body[1] if ast.get_docstring(node) is not None and len(node.body) > 1 else node.body[0]
        gives_nothing = isinstance(node.returns, ast.Constant) and node.returns.value is None
        if gives_nothing and not isinstance(first, ast.Expr | ast.Pass):
            self._add(EARLY, first, f"return\n{' ' * first.col_offset}{self._text(first)}")
        for inner in node.body:  # not its decorators, defaults and annotations
            self.visit(inner)
        self._where.pop()

    def visit_ClassDef(self, node: ast.ClassDef) -> None:
        self._where.append(node.name)
        for inner in node.body:
            self.visit(inner)
        self._where.pop()

    def visit_Assert(self, node: ast.Assert) -> None:
        """Assertions are for the type checker."""

    def visit_AnnAssign(self, node: ast.AnnAssign) -> None:
        if node.value is not None:
            self.visit(node.value)

    def visit_JoinedStr(self, node: ast.JoinedStr) -> None:
        """Words to users are not held to the letter."""

    def visit_If(self, node: ast.If) -> None:
        if self._text(node.test) != "TYPE_CHECKING":
            self._flipped(node.test)
            self.generic_visit(node)

    def visit_While(self, node: ast.While) -> None:
        self._flipped(node.test)
        self.generic_visit(node)

    def visit_IfExp(self, node: ast.IfExp) -> None:
        self._flipped(node.test)
        self.generic_visit(node)

    def visit_comprehension(self, node: ast.comprehension) -> None:
        for test in node.ifs:
            self._flipped(test)
        self.generic_visit(node)

    def _flipped(self, test: ast.expr) -> None:
        if not isinstance(test, ast.Compare | ast.Constant):  # a comparison is flipped wherever it stands
            self._add(FLIP, test, f"(not ({self._text(test)}))")

    def visit_Compare(self, node: ast.Compare) -> None:
        if len(node.ops) == 1:
            (operator,), (right,) = node.ops, node.comparators
            for kind, table in ((FLIP, FLIPPED), (BOUND, MOVED)):
                if type(operator) in table:
                    self._add(kind, node, f"({self._text(node.left)} {table[type(operator)]} {self._text(right)})")
        for side in (node.left, *node.comparators):
            if isinstance(side, ast.Constant) and type(side.value) is int:
                self._add(BOUND, side, str(side.value + 1))
        self.generic_visit(node)

    def visit_Expr(self, node: ast.Expr) -> None:
        if isinstance(node.value, ast.Call):
            self._add(DROP, node, "pass")
        if not isinstance(node.value, ast.Constant):
            self.generic_visit(node)

    def visit_Return(self, node: ast.Return) -> None:
        if node.value is not None and not isinstance(node.value, ast.Constant):
            self._add(EARLY, node, "return None")
        self.generic_visit(node)

    def visit_ExceptHandler(self, node: ast.ExceptHandler) -> None:
        if node.type is not None and self._text(node.type) not in ("BaseException", "Exception"):
            self._add(WIDE, node.type, "Exception")
        for inner in node.body:
            self.visit(inner)


FLIP, DROP, BOUND, EARLY, WIDE = (
    "condition flipped",
    "call dropped",
    "bound moved",
    "returns early",
    "caught too widely",
)


def mutants(globs: Sequence[str]) -> list[Mutant]:
    """All faults of the modules that ``globs`` name."""
    return [fault for module in _modules(globs) for fault in Finder(module, (PACKAGE / module).read_bytes()).found]


def _modules(globs: Sequence[str]) -> list[str]:
    every = sorted(path.relative_to(PACKAGE).as_posix() for path in PACKAGE.rglob("*.py"))
    return [module for module in every if any(fnmatch.fnmatch(module, pattern) for pattern in globs)]


# --- which tests ran which line --------------------------------------------------------------------------------------------


@functools.cache
def _imports(file: str) -> frozenset[str]:
    """The modules that a test module imports by name, and what it imports of them, which may be modules too."""
    found: set[str] = set()
    for node in ast.walk(ast.parse((ROOT / file).read_bytes())):
        if isinstance(node, ast.Import):
            found.update(alias.name for alias in node.names)
        elif isinstance(node, ast.ImportFrom) and node.module:
            found.update({node.module, *(f"{node.module}.{alias.name}" for alias in node.names)})
    return frozenset(found)


READS_THE_SOURCE = "tests/test_source.py::test_exceptions_are_caught_by_name"
"""What notices that an exception is caught too widely: no line that runs shows it but in a fault that nobody thought of."""


@dataclass(frozen=True)
class Coverage:
    """``lines``: by module and line the tests that ran it; ``seconds``: how long each test took."""

    lines: dict[str, dict[int, list[str]]]
    seconds: dict[str, float]

    def tests(self, mutant: Mutant) -> list[str]:
        """The tests that ran a mutant's line: those of test modules that import its module first, the quick ones of each."""
        if mutant.kind == WIDE:
            return [READS_THE_SOURCE]
        found = self.lines.get(mutant.module, {}).get(mutant.line, [])
        dotted = "emberkeep." + mutant.module.removesuffix(".py").replace("/", ".").removesuffix(".__init__")
        return sorted(
            found, key=lambda test: (dotted not in _imports(test.partition("::")[0]), self.seconds.get(test, 1.0))
        )

    def without(self, tests: set[str]) -> Coverage:
        """The same as if there were no such tests."""
        lines = {
            module: {line: [name for name in names if name not in tests] for line, names in found.items()}
            for module, found in self.lines.items()
        }
        return Coverage(lines, self.seconds)


def coverage(saved: Path, jobs: int, form: Sequence[str]) -> Coverage:
    """What ``saved`` holds, learned anew for test modules that have changed since by running these; lines of a module of the
    product that has changed since are followed to where they stand now. ``form``: words to pytest, ``--long`` or none."""
    told = json.loads(saved.read_text()) if saved.exists() else {"lines": {}, "seconds": {}, "tests": {}, "sources": {}}
    now = {
        path.relative_to(ROOT).as_posix(): hashlib.blake2b(path.read_bytes()).hexdigest()
        for path in ROOT.glob("tests/**/test_*.py")
    }
    changed = sorted(name for name, digest in now.items() if told["tests"].get(name) != digest)
    sources = {
        module: (PACKAGE / module).read_text()
        for module in {*told["sources"], *_modules(("*",))}
        if (PACKAGE / module).exists()
    }
    lines: dict[str, dict[int, set[str]]] = {}
    for module, found in told["lines"].items():
        moved = _moved_lines(told["sources"].get(module, ""), sources.get(module, ""))
        for line, tests in found.items():
            if int(line) in moved:
                kept = {test for test in tests if test.partition("::")[0] not in changed}
                lines.setdefault(module, {}).setdefault(moved[int(line)], set()).update(kept)
    seconds = dict(told["seconds"])
    if changed:
        print(f"learning which test of {len(changed)} modules runs which line …", flush=True)
        fresh, took = _learned(changed, jobs, form)
        seconds |= took
        for module, ran in fresh.items():
            for line, tests in ran.items():
                lines.setdefault(module, {}).setdefault(line, set()).update(tests)
    sorted_lines = {module: {line: sorted(tests) for line, tests in found.items()} for module, found in lines.items()}
    saved.write_text(json.dumps({"lines": sorted_lines, "seconds": seconds, "tests": now, "sources": sources}))
    return Coverage(sorted_lines, seconds)


def _moved_lines(before: str, after: str) -> dict[int, int]:
    """Where the lines of an earlier text stand now, both counted from 1."""
    matching = difflib.SequenceMatcher(None, before.splitlines(), after.splitlines(), autojunk=False)
    return {a + at + 1: b + at + 1 for a, b, size in matching.get_matching_blocks() for at in range(size)}


def _learned(
    tests: Sequence[str], jobs: int, form: Sequence[str]
) -> tuple[dict[str, dict[int, set[str]]], dict[str, float]]:
    import coverage as library

    with tempfile.TemporaryDirectory() as room:
        junit, data = Path(room) / "tests.xml", Path(room) / "coverage"
        line = [sys.executable, "-m", "pytest", "-n", str(jobs), f"--junit-xml={junit}", "-o", "junit_family=xunit1"]
        line += [f"--cov={PACKAGE}", "--cov-context=test", "--cov-report=", "-p", "no:randomly", *form, *tests]
        subprocess.run(
            line, cwd=ROOT, env={**os.environ, "COVERAGE_FILE": str(data)}, stdout=subprocess.DEVNULL, check=True
        )
        found = library.CoverageData(str(data))
        found.read()
        lines = {
            Path(file).relative_to(PACKAGE).as_posix(): {
                number: {context.rpartition("|")[0] for context in contexts if context}
                for number, contexts in found.contexts_by_lineno(file).items()
            }
            for file in found.measured_files()
        }
        return lines, _seconds(junit)


def _seconds(junit: Path) -> dict[str, float]:
    from xml.etree import ElementTree

    return {
        f"{case.get('file')}::{case.get('name')}": float(case.get("time", "0"))
        for case in ElementTree.parse(junit).iter("testcase")
    }


# --- trying them -------------------------------------------------------------------------------------------------------


LIVED = ("survived", "never run")


@dataclass
class Verdict:
    """What became of a mutant: ``killed``, ``hung``, ``survived`` or ``never run``; ``tried``: tests that ran it."""

    mutant: Mutant
    how: str
    tried: int = 0
    by: str = ""


@dataclass
class Bench:
    """One copy of the project, in which one mutant at a time stands."""

    room: Path
    seconds: float
    form: Sequence[str] = ()
    source: Path = field(init=False)

    def __post_init__(self) -> None:
        self.source = self.room / "copy" / "src"
        left_out = shutil.ignore_patterns("__pycache__", "*.egg-info", ".git", ".*_cache", "build", "screenshots")
        shutil.copytree(ROOT, self.source.parent, ignore=left_out)

    def tried(self, mutant: Mutant, known: Coverage) -> Verdict:
        """Run the tests that run its line; the copy is whole again afterwards."""
        tests = known.tests(mutant)
        if not tests:
            return Verdict(mutant, "never run")
        chosen, total = self._chosen(tests, known)
        limit = _limit(total)
        failed = self._against(mutant, chosen, limit)
        if failed is None:  # the machine may be slow: it hangs if it takes far longer than the same tests unharmed
            began = time.monotonic()
            self.failing(chosen, 3600)
            limit = max(limit, _limit(time.monotonic() - began))
            failed = self._against(mutant, chosen, limit)
        how = "hung" if failed is None else "killed" if failed else "survived"
        return Verdict(mutant, how, len(chosen), failed[0] if failed else "")

    def _against(self, mutant: Mutant, tests: Sequence[str], seconds: float) -> list[str] | None:
        """Which test fails first on the package with that fault; as :meth:`failing`."""
        path = self.source / "emberkeep" / mutant.module
        whole = path.read_bytes()
        path.write_bytes(mutant.applied(whole))
        shutil.rmtree(path.parent / "__pycache__", ignore_errors=True)
        try:
            return self.failing(tests, seconds)
        finally:
            path.write_bytes(whole)
            shutil.rmtree(path.parent / "__pycache__", ignore_errors=True)

    def _chosen(self, tests: Sequence[str], known: Coverage) -> tuple[list[str], float]:
        """The tests that are run, quick ones first, and how many seconds they are thought to take."""
        chosen: list[str] = []
        total = 0.0
        for test in tests:
            total += known.seconds.get(test, 1.0) + 0.05
            if chosen and total > self.seconds:
                break
            chosen.append(test)
        return chosen, total

    def failing(self, tests: Sequence[str], seconds: float, *, first: bool = True) -> list[str] | None:
        """The tests that fail against the copy as it stands, by default the first only; None when they take longer than
        that. A copy that cannot even be loaded fails by the name ``(loading)``."""
        log = self.room / "failed"
        log.unlink(missing_ok=True)
        process = _forked(self, tests, log, first)
        try:
            if not _ended(process, seconds):
                return None
        finally:
            with contextlib.suppress(ProcessLookupError):  # it, and whatever it left running
                os.killpg(process, signal.SIGKILL)
        return list(json.loads(log.read_text())) if log.exists() else ["(loading)"]


def _limit(seconds: float) -> float:
    """How long tests may take that take so long unharmed."""
    return 20 + 4 * seconds


def _ended(process: int, seconds: float) -> bool:
    """Whether a process ended by itself within so many seconds."""
    limit = time.monotonic() + seconds
    while not os.waitid(os.P_PID, process, os.WEXITED | os.WNOHANG):
        if time.monotonic() > limit:
            os.kill(process, signal.SIGKILL)
            os.waitid(os.P_PID, process, os.WEXITED)
            return False
        time.sleep(0.02)
    return True


class Failing:
    """A pytest plugin: which tests failed."""

    def __init__(self) -> None:
        self.names: list[str] = []

    def pytest_runtest_logreport(self, report: pytest.TestReport) -> None:
        if report.failed:
            self.names.append(report.nodeid)

    def pytest_collectreport(self, report: pytest.CollectReport) -> None:
        if report.failed:
            self.names.append("(loading)")


def _forked(bench: Bench, tests: Sequence[str], log: Path, first: bool) -> int:
    """A process that runs tests against the copy and writes down which failed; it has loaded what all of them need."""
    process = os.fork()
    if process:
        with contextlib.suppress(OSError):
            os.setpgid(process, process)
        return process
    try:
        os.setpgid(0, 0)
        descriptor = os.open(bench.room / "log", os.O_WRONLY | os.O_CREAT | os.O_TRUNC)
        for number in (1, 2):
            os.dup2(descriptor, number)
        os.chdir(bench.source.parent)
        os.environ |= {
            "PYTHONPATH": str(bench.source), "PYTHONDONTWRITEBYTECODE": "1", "EMBERKEEP_NO_SHRINK": "1",
            "HYPOTHESIS_STORAGE_DIRECTORY": str(bench.room / "hypothesis"),
        }  # fmt: skip
        sys.dont_write_bytecode = True
        sys.path[:0] = [str(bench.source), str(bench.source.parent)]
        words = ["-q", "--tb=short", "-p", "no:cacheprovider", "-p", "no:xdist", "-p", "no:randomly", "-o", "addopts="]
        words += [*(["-x"] if first else []), f"--basetemp={bench.room / 'tests'}"]
        failing = Failing()
        code = pytest.main([*words, *bench.form, *tests], [failing])
        if code in (pytest.ExitCode.OK, pytest.ExitCode.TESTS_FAILED, pytest.ExitCode.INTERRUPTED):
            log.write_text(json.dumps(failing.names))
    finally:
        os._exit(0)


def verdicts(
    chosen: Sequence[Mutant], known: Coverage, jobs: int, seconds: float, form: Sequence[str]
) -> list[Verdict]:
    """Each mutant tried. A test that also fails against the whole package proves nothing: what it killed is tried again
    without it."""
    with tempfile.TemporaryDirectory() as room, ThreadPoolExecutor(jobs) as pool:
        benches = [Bench(Path(room) / str(number), seconds, form) for number in range(jobs)]
        done = 0

        def one(mutant: Mutant) -> Verdict:
            nonlocal done
            bench = benches.pop()
            try:
                verdict = bench.tried(mutant, known)
            finally:
                benches.append(bench)
            done += 1
            print(f"{done} of {len(chosen)}: {verdict.how:9} {mutant.name}", file=sys.stderr, flush=True)
            return verdict

        found = list(pool.map(one, chosen))
        while True:
            killers = sorted({verdict.by for verdict in found} - {"", "(loading)"})
            unfit = set(benches[0].failing(killers, 3600, first=False) or ()) if killers else set()
            if not unfit:
                return found
            print(f"\nfails without a fault too, and is left out: {', '.join(sorted(unfit))}", file=sys.stderr)
            known = known.without(unfit)
            found = [one(verdict.mutant) if verdict.by in unfit else verdict for verdict in found]


def warmed() -> None:
    """Load what tests need beside the product, once for all of them."""
    for name in ("hypothesis.strategies", "numpy", "paramiko", "rich.progress", "yaml", "zstandard", "psutil"):
        importlib.import_module(name)
    assert "emberkeep" not in sys.modules


# --- the table -----------------------------------------------------------------------------------------------------------


def accepted() -> dict[str, str]:
    """Survivors that are accepted, by name, and why."""
    told = tomllib.loads(ACCEPTED.read_text()) if ACCEPTED.exists() else {}
    return {one["mutant"]: one["why"] for one in told.get("accepted", [])}


def area(module: str) -> str:
    """What a module counts towards in the table."""
    return module.rpartition("/")[0] or module


def report(found: Sequence[Verdict], known: dict[str, str]) -> float:
    """Print the table and every survivor; the share that was killed of those not accepted."""
    areas: dict[str, Counter[str]] = {}
    for one in found:
        lived = one.how in LIVED
        how = "accepted" if lived and one.mutant.name in known else one.how
        areas.setdefault(area(one.mutant.module), Counter())[how] += 1
    columns = ("killed", "hung", "survived", "never run", "accepted")
    print(f"\n{'':24}{''.join(f'{name:>11}' for name in columns)}{'share':>9}")
    everything: Counter[str] = sum(areas.values(), Counter())
    for name, counts in [*sorted(areas.items()), ("all", everything)]:
        print(f"{name:24}{''.join(f'{counts[column]:11}' for column in columns)}{_share(counts):9.1%}")
    for one in found:
        if one.how in LIVED and one.mutant.name not in known:
            mutant = one.mutant
            print(f"\n{mutant.module}:{mutant.line} {mutant.where}: {mutant.kind} ({one.how}, {one.tried} tests)")
            print(f"    - {' '.join(mutant.was.split())[:150]}\n    + {' '.join(mutant.text.split())[:150]}")
        elif one.mutant.name in known and one.how not in LIVED:
            print(f"\naccepted, and killed all the same: {one.mutant.name}")
    return _share(everything)


def _share(counts: Counter[str]) -> float:
    dead = counts["killed"] + counts["hung"]
    every = dead + counts["survived"] + counts["never run"]
    return dead / every if every else 1.0


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--modules", nargs="+", default=MODULES, metavar="GLOB", help="paths below src/emberkeep")
    parser.add_argument("--budget", type=int, default=200, help="how many faults are tried")
    parser.add_argument("--seed", type=int, default=1, help="which of them")
    parser.add_argument("--jobs", type=int, default=os.cpu_count() or 1, help="how many at a time")
    parser.add_argument("--seconds", type=float, default=60, help="how long one is tried, by what tests take unharmed")
    parser.add_argument("--map", type=Path, help="where it is kept which test runs which line")
    parser.add_argument("--at", nargs="+", default=[], metavar="MODULE:LINE", help="all faults of these lines instead")
    parser.add_argument("--again", type=Path, metavar="OUT", help="those that survived, by an earlier --out, instead")
    parser.add_argument("--long", action="store_true", help="by the tests of the long form")
    parser.add_argument("--list", action="store_true", help="only list them")
    parser.add_argument("--out", type=Path, help="write every verdict here, as JSON")
    args = parser.parse_args()
    signal.signal(signal.SIGTERM, lambda number, frame: sys.exit(f"ended by signal {number}"))
    every = mutants(args.modules)
    known = accepted()
    names = {mutant.name for mutant in mutants(("*",))}
    for name in known.keys() - names:
        print(f"accepted, and not there any more: {name}")
    if args.at:
        chosen = [mutant for mutant in mutants(("*",)) if f"{mutant.module}:{mutant.line}" in args.at]
    elif args.again:
        lived = {one["name"] for one in json.loads(args.again.read_text()) if one["how"] in LIVED}
        chosen = [mutant for mutant in mutants(("*",)) if mutant.name in lived]
    else:
        chosen = random.Random(args.seed).sample(every, min(args.budget, len(every)))
    print(f"{len(every)} faults in {len({mutant.module for mutant in every})} modules; {len(chosen)} of them are tried")
    if args.list:
        for mutant in chosen:
            print(mutant.name)
        return 0
    warmed()
    with tempfile.TemporaryDirectory() as room:
        form = ["--long"] if args.long else []
        told = coverage(args.map or Path(room) / "map.json", args.jobs, form)
        found = verdicts(chosen, told, args.jobs, args.seconds, form)
    share = report(found, known)
    if args.out:
        args.out.write_text(json.dumps([{**asdict(one), "name": one.mutant.name} for one in found], indent=1))
    return 0 if share >= AIM else 1


if __name__ == "__main__":
    sys.exit(main())
