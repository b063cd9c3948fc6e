"""The corpus: every clean case comes out to the byte, every true overlap is asked, nothing else is."""

from __future__ import annotations

import shutil
import subprocess
from pathlib import Path

import pytest

from emberkeep.merging.merge import merge_file
from tests import corpus, depth

SEEDS = depth.number("CASES", 5, 25)


@pytest.mark.parametrize("format_name", corpus.FORMATS)
@pytest.mark.parametrize("kind", corpus.KINDS_OF_CASE)
def test_every_case_comes_out_to_the_byte(kind: str, format_name: str) -> None:
    for seed in range(SEEDS):
        made = corpus.case(kind, format_name, seed)
        result = merge_file(made.path, made.old, made.mine, made.new)
        where = f"{kind}, {format_name}, seed {seed}"
        assert result.fault is None, where
        assert not result.warnings, where
        if made.asked:
            spots = {(question.record, question.field) for question in result.open}
            assert len(spots) == len(made.asked), where
            for ident, name in made.asked:
                assert any(
                    ident.replace("-", "_") in f"{spot}".replace("-", "_") and name in f"{spot}" for spot in spots
                ), where
        else:
            assert not result.questions, where
        assert (made.mine if result.data is None else result.data) == made.expected, where


@pytest.mark.skipif(shutil.which("git") is None, reason="git is not installed")
def test_line_merging_fails_where_records_do_not(tmp_path: Path) -> None:
    """What the corpus is for: on these very cases merging by line gives conflicts."""
    conflicts = 0
    for seed in range(20):
        made = corpus.case("different values", "XML, values as attributes", seed)
        paths = []
        for name in ("mine", "old", "new"):
            paths.append(tmp_path / name)
            paths[-1].write_bytes(getattr(made, name))
        done = subprocess.run(["git", "merge-file", "-p", *map(str, paths)], capture_output=True, check=False)
        conflicts += done.returncode != 0
    assert conflicts > 10
