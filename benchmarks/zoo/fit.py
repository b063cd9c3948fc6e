"""Fit the weights of ``emberkeep.detection.evidence`` on the open families: logistic regression, told as a table.

    python benchmarks/zoo/fit.py

Every hypothesis that adopt weighed is a row: which pieces of evidence it had, and whether it was true. The weights are those
that make what is true likeliest, held near those of the source (a Gaussian prior of standard deviation 2 about each), so that
a piece that the families show seldom stays as it was.
"""

from __future__ import annotations

import tempfile
from collections import defaultdict
from pathlib import Path

import numpy
from families import OPEN, STYLES, build
from ground import Ground
from scipy.optimize import minimize

from emberkeep.detection.adopt import weighed
from emberkeep.detection.evidence import PRIOR, WEIGHTS, Hypothesis

SPREAD = 2.0


def main() -> None:
    """Print each table of weights as it is and as it fits."""
    rows: dict[str, list[tuple[Hypothesis, bool]]] = defaultdict(list)
    with tempfile.TemporaryDirectory() as room:
        for family in OPEN:
            for at, style in enumerate(STYLES):
                root = Path(room) / f"{family.name}-{at}"
                root.mkdir()
                ground = build(family, root, style)
                for told in weighed(root):
                    rows[told.kind].append((told, _is_true(told, ground)))
    for kind, held in rows.items():
        print(f"\n{kind}: {len(held)} hypotheses, {sum(true for _, true in held)} true")
        names = [PRIOR, *(name for name in WEIGHTS[kind] if name != PRIOR)]
        seen = {name: sum(any(item.name == name for item in told.evidence) for told, _ in held) for name in names}
        for name, fitted in zip(names, _fitted(kind, names, held), strict=True):
            print(f"  {name:<44}{WEIGHTS[kind][name]:>6.1f} -> {fitted:>6.1f}   in {seen[name] or len(held)}")


def _is_true(told: Hypothesis, ground: Ground) -> bool:
    expected = {answer for fact in ground.facts if fact.kind == told.kind for answer in fact.expected}
    if told.kind == "player ids":
        return any(told.subject in (one.id, one.name) for one in ground.players)
    if told.kind == "pointer":
        return any(told.subject.partition(":")[0] == answer.partition(":")[0] for answer in expected)
    return told.subject in expected


def _fitted(kind: str, names: list[str], held: list[tuple[Hypothesis, bool]]) -> list[float]:
    seen = numpy.array(
        [[name == PRIOR or any(item.name == name for item in told.evidence) for name in names] for told, _ in held],
        float,
    )
    sign = numpy.array([1.0 if true else -1.0 for _, true in held])
    before = numpy.array([WEIGHTS[kind][name] for name in names])

    def cost(weights: numpy.ndarray) -> float:
        return float(
            numpy.logaddexp(0, -sign * (seen @ weights)).sum() + ((weights - before) ** 2).sum() / (2 * SPREAD**2)
        )

    return list(minimize(cost, before, method="L-BFGS-B").x)


if __name__ == "__main__":
    main()
