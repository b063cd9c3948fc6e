"""How sure a finding is: pieces of evidence for and against it, each a weight in log-odds, that add up.

The weights stand here as one table. They were fitted (logistic regression) on the first twenty families of
``benchmarks/zoo`` by its ``fit.py``; what has come since is set by hand (a setting that lists players, numbers beside,
all that the log names, what came with the program, what files say of whose they are; of worlds the log, running
programs, values of other files than the server's own, folders of which little was saved, worlds saved since another
was; of pointers the parts of a save), and what a thing is called, which the families tell too plainly, is held at the
least. None of them knows a game.
"""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass
from types import MappingProxyType

from emberkeep.detection.findings import Sure

PRIOR = "before any evidence"
SURE_FROM, LIKELY_FROM = 0.97, 0.8
"""Calibrated probabilities from which a finding is called sure, and likely."""

WEIGHTS: Mapping[str, Mapping[str, float]] = MappingProxyType(
    {
        "player ids": {
            PRIOR: -7.3,
            "shaped like ids": 4.3,
            "files are named by them": 3.4,
            "a list holds them and little else": 3.8,
            "names stand beside them": 0.1,
            "each of the files has a name in it": 4.2,
            "each of the files says what it is called by": 3.4,
            "the log names them": 6.1,
            "all that the log names are among them": 2.0,
            "a setting lists them": 1.0,
            "they stand in two places": 3.9,
            "they stand in three places": 4.8,
            "a large family of files holds them": -4.4,
            "small numbers": -4.6,
            "numbers stand beside them": -5.0,
            "none of it was written since the program came": -5.0,
        },
        "world": {
            PRIOR: -2.9,
            "a setting leads to it": 6.0,
            "some value leads to it": 3.0,
            "a running program writes it": 3.5,
            "the log names it": 3.0,
            "a setting leads to another": -5.1,
            "the newest save is in it": 0.8,
            "others were saved later": -2.6,
            "tiles": 2.1,
            "a key-value store": 2.5,
            "most of what is saved": 2.6,
            "as old as the program": -4.5,
            "another was saved since": -3.0,
            "little of what is in it was saved": -4.0,
            "older copies stand beside it": 2.0,
            "a copy of another": -5.1,
            "called as worlds are": 0.5,
        },
        "pointer": {
            PRIOR: -1.2,
            "its value leads to the world": 2.0,
            "its file is the server's": 4.8,
            "the script passes it": 3.0,
            "another leads there too": -3.6,
            "it names one part": -3.0,
            "it cannot be read again": -0.7,
        },
    }
)


@dataclass(frozen=True)
class Evidence:
    """One piece: its name in the table of weights, and what was seen, in words."""

    name: str
    seen: str = ""


@dataclass(frozen=True)
class Hypothesis:
    """Something that may be so, with what speaks for and against it. ``kind``: a table of weights."""

    kind: str
    subject: str
    evidence: tuple[Evidence, ...]

    @property
    def log_odds(self) -> float:
        """All of its weights together, in nats."""
        table = WEIGHTS[self.kind]
        return table[PRIOR] + sum(table[item.name] for item in self.evidence)

    @property
    def probability(self) -> float:
        """How likely it is, 0 to 1."""
        return 1 / (1 + math.exp(-self.log_odds))

    @property
    def sure(self) -> Sure:
        """The word for that."""
        return (
            Sure.SURE
            if self.probability >= SURE_FROM
            else Sure.LIKELY
            if self.probability >= LIKELY_FROM
            else Sure.GUESS
        )

    @property
    def reasons(self) -> str:
        """The two strongest reasons, and the strongest doubt."""
        table = WEIGHTS[self.kind]
        ranked = sorted(self.evidence, key=lambda item: -table[item.name])
        best = [item.seen or item.name for item in ranked[:2] if table[item.name] > 0]
        doubt = [item.seen or item.name for item in ranked[-1:] if table[item.name] < 0]
        return "; ".join(best) + (f"; but {doubt[0]}" if doubt else "")
