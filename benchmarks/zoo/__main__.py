"""How much adopt understands of servers that nobody prepared: families of made-up games, with facts.

    python benchmarks/zoo [--kept] [--only FAMILY] [--style N] [--show] [--part N/M]
    python benchmarks/zoo --real [--show]

Every family is built as it stands and in three other guises (words, names, sizes, times changed, decoys added), adopted as a
user would, and what was found is held against what is true. --kept takes the families that are kept back; --real takes no made-up ones, but
real servers of Debian's that are installed here.
"""

from __future__ import annotations

import argparse
import tempfile
from collections import Counter, defaultdict
from pathlib import Path

from families import OPEN, STYLES, build, by_name
from further import FURTHER, build_shape
from ground import Ground, Style
from judge import LACKING, RIGHT, WRONG, Judge, Verdict
from kept import SHAPES
from later import LATER
from real import built as built_real


def main() -> None:
    """Print the table and the calibration."""
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--kept", action="store_true")
    parser.add_argument("--real", action="store_true")
    parser.add_argument("--only", default="", help="families, with commas between")
    parser.add_argument("--style", type=int, default=-1)
    parser.add_argument("--show", action="store_true", help="every fact that is not right")
    parser.add_argument("--part", default="1/1", help="every M-th folder, from the N-th")
    args = parser.parse_args()
    first, of = map(int, args.part.split("/"))
    names = list(SHAPES) if args.kept else [*(family.name for family in OPEN), *FURTHER, *LATER]
    folders = [(name, at, style) for name in names for at, style in enumerate(STYLES)] if not args.real else []
    every: list[Verdict] = []
    with tempfile.TemporaryDirectory() as room:
        for ground in built_real(Path(room)) if args.real else ():
            found = Judge(ground, Path(room)).verdicts()
            every += found
            if args.show:
                _show(ground.family, found)
        for name, at, style in folders[first - 1 :: of]:
            if (not args.only or name in args.only.split(",")) and args.style in (-1, at):
                root = Path(room) / f"{name}-{at}"
                root.mkdir()
                ground = _built(name, root, style)
                found = Judge(ground, Path(room)).verdicts()
                every += found
                if args.show:
                    _show(f"{name} {at}", found)
    _table(every)
    _calibration(every)


def _built(name: str, root: Path, style: Style) -> Ground:
    shapes = {**FURTHER, **LATER, **SHAPES}
    return build_shape(shapes, name, root, style) if name in shapes else build(by_name(name), root, style)


def _show(name: str, found: list[Verdict]) -> None:
    for one in found:
        if one.verdict != RIGHT:
            print(
                f"{name}: {one.verdict} {one.sure}: {one.fact.kind} ({one.fact.about}): {one.said or '-'}; is {', '.join(one.fact.expected[:2])}"[
                    :230
                ]
            )


def _table(every: list[Verdict]) -> None:
    kinds: dict[str, Counter[str]] = defaultdict(Counter)
    for one in every:
        kinds[one.fact.kind][one.verdict] += 1
    print(f"\n{'kind of fact':<18}{'right':>7}{'wrong':>7}{'not found':>11}{'of':>7}")
    for kind, counts in sorted(kinds.items()):
        print(f"{kind:<18}{counts[RIGHT]:>7}{counts[WRONG]:>7}{counts[LACKING]:>11}{counts.total():>7}")
    whole = Counter(one.verdict for one in every)
    print(
        f"{'all':<18}{whole[RIGHT]:>7}{whole[WRONG]:>7}{whole[LACKING]:>11}{whole.total():>7}   {whole[RIGHT] / max(1, whole.total()):.1%}"
    )


def _calibration(every: list[Verdict]) -> None:
    print(f"\n{'called':<18}{'right':>7}{'wrong':>7}")
    for sure in ("sure", "likely", "guess"):
        told = Counter(one.verdict for one in every if one.sure == sure)
        print(f"{sure:<18}{told[RIGHT]:>7}{told[WRONG]:>7}   {told[RIGHT] / max(1, told[RIGHT] + told[WRONG]):.1%}")


if __name__ == "__main__":
    main()
