"""The server's log: which of its lines say version, ready, extension loaded, extension failed, error, the world's seed,
and that a player came or left.

Lines are known by what is known already: the engine's version, the extensions' names, the players' names. A pattern is
an example line with what varies left open and its time left out.
"""

from __future__ import annotations

import re
from collections import Counter, defaultdict
from collections.abc import Collection, Iterable, Iterator, Sequence
from dataclasses import replace
from itertools import pairwise

from emberkeep.detection.context import InferenceContext
from emberkeep.detection.findings import LogFinding, LogLine, Sure, VersionFinding
from emberkeep.inventory.extensions import Extension
from emberkeep.inventory.probe import IDENT
from emberkeep.process.watch import bare_line

_TIME = re.compile(
    r"^(?:[\[(]?(?:\d{4}[-/.]\d\d[-/.]\d\d[T ])?\d\d?:\d\d(?::\d\d(?:[.,]\d+)?)?(?:Z|[+-]\d\d:?\d\d)?[\])]?:?\s*"
    r"|(?:[A-Z][a-z]{2} )?[A-Z][a-z]{2} [ \d]\d \d\d:\d\d:\d\d(?: \d{4})?\s+"
    r"|\[?1\d{9}(?:\d{3})?(?:\.\d+)?\]?\s+"
    r"|(?=(?:[^\d\s]?[ T]?\d){10})[\[(]?\d{2,4}(?:[-/.:T ]\d{2,6}){2,}(?:[.,]\d+)?[\])]?:?\s+)"
)
_NUMBER = re.compile(r"\d+(?:\.\d+)*")
_VERSION = re.compile(r"\d+(?:\.\d+)+")
_DURATION = re.compile(r"\b(\d+(?:\.\d+)?) ?(?:s|ms|sec|secs|seconds|min|minutes)\b", re.IGNORECASE)
_READY = re.compile(
    r"\b(?:ready|done|started|listening|online|open for|accepting|complete|waiting for|initiali[sz]ed)\b", re.IGNORECASE
)
_TROUBLE = re.compile(
    r"\b(?:warn(?:ing)?|error|severe|fatal|exception|failed|retry(?:ing)?"
    r"|stopp(?:ed|ing)|shut(?:ting)? ?down|terminat(?:ed|ing)|clos(?:ed|ing))\b",
    re.IGNORECASE,
)
"""What goes wrong, or ends, does not say that a server is ready."""
_IDS = re.compile(rf"(?<![\w-])(?:{IDENT.pattern})(?![\w-])")
_COUNT = re.compile(r"(?<!\w)\d+(?!\w)")
_PARTS = re.compile(r"\w+|[^\w\s]")
_CALLED = re.compile(r"[^\W\d]\w{2,31}")
_FAILED = re.compile(
    r"\b(?:fail(?:s|ed|ure)?|could not|cannot|can't|unable|refused|incompatible|not loaded|missing|disabled)\b",
    re.IGNORECASE,
)
_FAILURES = r"\b(?:fail(?:s|ed|ure)?|could not|cannot|unable|refused|incompatible|not loaded)\b"
_ERROR = re.compile(r"\b(error|severe|fatal|exception|panic|critical)\b", re.IGNORECASE)
_SEVERITIES = r"(?i)\b(?:error|severe|fatal|exception|panic|critical)\b"


def is_log(text: str) -> bool:
    """Whether a text is a log by what it holds: most of its first lines begin with a time."""
    lines = [line for line in map(bare_line, text.splitlines()[:40]) if line.strip()]
    return len(lines) >= 3 and sum(_TIME.match(line) is not None for line in lines) >= MOSTLY * len(lines)


def called(scene: InferenceContext) -> frozenset[str]:
    """Words of the newest logs that stand where names of players do, and such that are shaped as ids are."""
    files = [path for path in scene.of_role("logs") if scene.look.kind(path) in ("text", "json")]
    newest = sorted(files, key=lambda path: -scene.tree.entries()[path].mtime_ns)[:4]
    found: set[str] = set()
    for path in newest:
        text = scene.look.text(path)
        found |= visitors(*_apart(text))
        found.update(match[0] for match in _IDS.finditer(text))
    return frozenset(found)


def log(
    scene: InferenceContext, engine: VersionFinding | None, extensions: Sequence[Extension], seed: str = ""
) -> LogFinding | None:
    """What the newest log tells; None without one. ``engine``: its version; ``seed``: the world's, "" when unknown."""
    files = [
        path for path in scene.of_role("logs") if scene.look.kind(path) in ("text", "json") and scene.look.size(path)
    ]
    if not files:
        return None
    newest = max(files, key=lambda path: (scene.tree.entries()[path].mtime_ns, path))
    lines, times = _apart(scene.look.text(newest))
    people = scene.names | visitors(lines, times)
    return LogFinding(newest, tuple(_lines(lines, engine, extensions, people, seed)))


def _apart(text: str) -> tuple[list[str], list[str]]:
    """The lines of a log without their times, and those."""
    lines = [line for line in map(bare_line, text.splitlines()) if line.strip()]
    times = [found[0] if (found := _TIME.match(line)) else "" for line in lines]
    return [line[len(time) :] for line, time in zip(lines, times, strict=True)], times


def _lines(
    lines: Sequence[str], engine: VersionFinding | None, extensions: Sequence[Extension], people: set[str], seed: str
) -> Iterator[LogLine]:
    version = next((line for line in lines if engine and engine.version in _VERSION.findall(line)), "")
    if version and engine:
        evidence = f"it carries the engine's version {engine.version}"
        yield LogLine("version", _left_open(version, engine.version), version, evidence, engine.sure)
    loaded = _about_extensions(lines, extensions, failed=False)
    if loaded:
        line, extension, count = loaded
        evidence = f"it names {extension.name} {extension.version}" + (f"; {count} such lines" if count > 1 else "")
        yield LogLine(
            "loaded", _extension_pattern(line, extension), line, evidence, Sure.SURE if count > 1 else Sure.LIKELY
        )
    # the line that tells the version may say that it is ready, too
    after = lines.index(loaded[0]) if loaded else lines.index(version) - 1 if version else -1
    begins = [at for at, line in enumerate(lines) if version and _loosely(line) == _loosely(version)]
    ready = _ready(lines, after, people, begins)
    if ready:
        guessed = bool(version and engine and engine.sure is Sure.GUESS)  # then so is where the start begins
        yield replace(ready, sure=Sure.GUESS) if guessed else ready
    failed = _about_extensions(lines, extensions, failed=True)
    if failed:
        line, extension, _ = failed
        yield LogLine(
            "failed", _extension_pattern(line, extension), line, f"it names {extension.name} and says so", Sure.LIKELY
        )
    elif loaded and (before := loaded[0].partition(loaded[1].name)[0].strip()):
        evidence = "no such line yet; the beginning of those about extensions, and words for failures"
        yield LogLine("failed", rf"{_loosely(before)} (?P<name>[\w.-]+).*{_FAILURES}", "", evidence, Sure.GUESS)
    error = next((line for line in lines if _ERROR.search(line)), "")
    if error:
        yield LogLine("error", _SEVERITIES, error, "words that programs use for errors", Sure.LIKELY)
    else:
        yield LogLine("error", _SEVERITIES, "", "no such line yet; words that programs use for errors", Sure.GUESS)
    carrying = next(
        (line for line in lines if len(seed) > 3 and re.search(rf"(?<![\w-]){re.escape(seed)}(?!\w)", line)), ""
    )
    if carrying:
        before, _, behind = carrying.partition(seed)
        pattern = rf"{_loosely(before)}(-?\w+){_loosely(behind)}"
        yield LogLine("seed", pattern, carrying, "it carries the seed of the launch script", Sure.SURE)
    yield from _comings(lines, people)


MOST_STARTS = 8
"""Starts that a log tells of, where nothing says how many."""
MOSTLY = 0.6
"""Share of players of whom a log tells that they left: some were there when it ended. Share of starts that came to
their end, too."""
A_TIME, A_WORD = 2, 3
"""How much it counts that a line tells a time, and that it says a usual word: many tell how long something took."""
LEAST_VISITORS = 2
MOST_WORDS = 48
MOST_KINDS = 40
"""Kinds of lines that are held against each other, those with the most words."""


def visitors(lines: Sequence[str], times: Sequence[str]) -> set[str]:
    """Words that stand where names of players do: of two kinds of line that differ in one word alone, the words that
    the first and then the second have. ``times``: of the lines; what is told of all of them at once is no visit."""
    worded: dict[tuple[int, tuple[str, ...]], dict[str, int]] = defaultdict(dict)
    for number, line in enumerate(lines):
        words = _PARTS.findall(_COUNT.sub("0", _IDS.sub("0", line)))
        for at, word in enumerate(words if 2 <= len(words) <= MOST_WORDS else ()):
            if _CALLED.fullmatch(word):
                worded[at, (*words[:at], *words[at + 1 :])].setdefault(word, number)
    kinds = [held for held in worded.values() if len(held) >= LEAST_VISITORS and not _at_once(held.values(), times)]
    several = sorted(kinds, key=len)[-MOST_KINDS:]
    best: set[str] = set()
    for first in several:
        for then in several:
            both = first.keys() & then.keys()
            if all(first[word] < then[word] for word in both) and _rank(both) > _rank(best):
                best = set(both)
    return best if len(best) >= LEAST_VISITORS else set()


def _at_once(numbers: Iterable[int], times: Sequence[str]) -> bool:
    moments = {times[number] for number in numbers}
    return len(moments) == 1 and moments != {""}


def _rank(words: Collection[str]) -> tuple[int, int]:
    """Of two such sets the larger one holds names, or the one with more capitals."""
    return len(words), sum(word[:1].isupper() for word in words)


def _comings(lines: Sequence[str], people: set[str]) -> Iterator[LogLine]:
    """The lines that say a player came, and left: of those that name one player and are worded alike for several, the
    pair that follow each other in turn for most players, or the one that stands first for them."""
    by_player: dict[str, list[str]] = defaultdict(list)
    worded: dict[str, set[str]] = defaultdict(set)
    examples: dict[str, str] = {}
    for line in lines:
        named = list(dict.fromkeys(_named(line, people)))
        if len(named) == 1:
            before, _, behind = line.partition(named[0])
            pattern = rf"{_beside(before)}(?P<name>[\w.-]+){_beside(behind)}$"
            by_player[named[0]].append(pattern)
            worded[pattern].add(named[0])
            examples.setdefault(pattern, line)
    first = Counter(patterns[0] for patterns in by_player.values() if len(worded[patterns[0]]) >= LEAST_VISITORS)
    if not first:
        return
    came, count = first.most_common(1)[0]
    rivals = [other for other, who in worded.items() if other != came and len(who) >= count]
    sure = Sure.LIKELY if len(rivals) < 2 else Sure.GUESS  # that one, and the one that tells of leaving
    yield LogLine("joined", came, examples[came], f"the first that names {count} players, each alike", sure)
    turns: Counter[str] = Counter()
    for patterns in by_player.values():
        for other in {*patterns} - {came}:
            pair = [pattern for pattern in patterns if pattern in (came, other)]
            turns[other] += len(pair) > 1 and all((pattern == came) == (at % 2 == 0) for at, pattern in enumerate(pair))
    times = max(turns.values(), default=0)
    if times >= LEAST_VISITORS:
        last = {pattern: at for patterns in by_player.values() for at, pattern in enumerate(patterns)}
        most = [other for other in turns if turns[other] >= max(LEAST_VISITORS, MOSTLY * times)]
        left = max(most, key=lambda other: (last[other], turns[other]))
        yield LogLine("left", left, examples[left], f"it follows that one in turn, of {times} players", sure)


def _beside(text: str) -> str:
    """What stands beside a name as a pattern: any id for each of its ids."""
    return r"[\w-]+".join(map(_loosely, _IDS.split(text)))


def _about_extensions(
    lines: Sequence[str], extensions: Sequence[Extension], *, failed: bool
) -> tuple[str, Extension, int] | None:
    """The first line that names an extension with its version, or that says it failed; and how many are like it."""
    found = []
    for line in lines:
        for extension in extensions:
            if not re.search(rf"(?<![\w-]){re.escape(extension.name)}(?![\w-])", line):
                continue
            bad = _FAILED.search(line) is not None
            if bad if failed else not bad and extension.version in line:
                found.append((line, extension))
                break
    if not found:
        return None
    pattern = re.compile(_extension_pattern(*found[0]))
    return (*found[0], sum(pattern.search(line) is not None for line, _ in found))


def _extension_pattern(line: str, extension: Extension) -> str:
    """The line with the extension's name and version left open."""
    pattern = _loosely(line)
    pattern = pattern.replace(_loosely(extension.name), r"(?P<name>[\w.-]+)", 1)
    return (
        pattern.replace(_loosely(extension.version), r"(?P<version>\d+(?:\.\d+)*)", 1)
        if extension.version in line
        else pattern
    )


def _ready(lines: Sequence[str], after: int, people: set[str], begins: Sequence[int]) -> LogLine | None:
    """The line that says the server takes players: behind the start's lines, before the first player, telling a time
    or saying a usual word, and once in each start. ``begins``: where starts begin, as far as that is known."""
    best: tuple[int, str] = (0, "")
    once = _once_a_start(lines, begins)
    for line in lines[after + 1 :]:
        if any(re.search(rf"(?<!\w){re.escape(name)}(?!\w)", line) for name in _named(line, people)):
            break
        if _TROUBLE.search(line):
            continue
        score = A_TIME * (_DURATION.search(line) is not None) + A_WORD * (_READY.search(line) is not None)
        if score and score >= best[0] and _loosely(line) in once:
            best = (score, line)
    if not best[1]:
        return None
    line = best[1]
    duration = _DURATION.search(line)
    pattern = _loosely(line)
    if duration:
        pattern = _loosely(line[: duration.start(1)]) + r"(\d+(?:\.\d+)?)" + _loosely(line[duration.end(1) :])
    evidence = "it tells a time" if duration else "it says so"
    sure = Sure.LIKELY if best[0] == A_TIME + A_WORD or after >= 0 else Sure.GUESS
    return LogLine("ready", pattern, line, f"{evidence}, and stands before the first player", sure)


def _once_a_start(lines: Sequence[str], begins: Sequence[int]) -> set[str]:
    """Kinds of lines of which most starts have one, and none has two."""
    if not begins:
        return {kind for kind, times in Counter(map(_loosely, lines)).items() if times <= MOST_STARTS}
    starts = [Counter(map(_loosely, lines[at:end])) for at, end in pairwise((*begins, len(lines)))]
    most = Counter(kind for start in starts for kind, times in start.items() if times == 1)
    twice = {kind for start in starts for kind, times in start.items() if times > 1}
    return {kind for kind, times in most.items() if times >= MOSTLY * len(starts)} - twice


def _named(line: str, people: set[str]) -> list[str]:
    """Names of people in a line, but for parts of paths."""
    return [word for word in re.findall(r"(?<![\w/\\.-])\w+", line) if word in people]


def _left_open(line: str, version: str) -> str:
    before, _, behind = line.partition(version)
    return _loosely(before) + r"(\d+(?:\.\d+)+)" + _loosely(behind)


def _loosely(text: str) -> str:
    """The text as a pattern, any number for each of its numbers."""
    parts = _NUMBER.split(text)
    return r"\d+(?:\.\d+)*".join(re.escape(part).replace(r"\ ", " ").replace(r"\-", "-") for part in parts)
