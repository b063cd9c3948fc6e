"""Whoever keeps a vault's files may lose them or change them, and neither goes unseen nor gets anything readable."""

from __future__ import annotations

import json
import shutil

import pytest

from emberkeep.vault import encryption
from tests import depth
from tests.test_vault import Kept, folder_vault, kept

assert kept  # the fixture


@pytest.mark.parametrize(
    "head",
    [
        {"format": 1, "salt": "00", "costs": [2, 1, 1]},
        {"format": 1, "salt": "00" * 32, "costs": list(encryption.COSTS)},
        {"format": 1, "salt": "00" * 32, "costs": [1 << 16, 8, 1]},
        {"format": 1},
    ],
)
@pytest.mark.parametrize("listed", depth.some([True, False], 1))
def test_nothing_is_sealed_with_what_the_host_chose(kept: Kept, head: dict[str, object], listed: bool) -> None:
    place, words = folder_vault(kept)
    (place / "vault").write_text(json.dumps(head))
    if not listed:
        (place / "list").unlink()
    before = {path: path.read_bytes() for path in place.rglob("*") if path.is_file()}
    kept.play()
    for more in ((), ("--check",)):
        refused = kept.vault("v", *words, *more)
        assert (refused.code, "Traceback" in refused.err) == (3, False), refused.err + refused.out
    assert {path: path.read_bytes() for path in place.rglob("*") if path.is_file()} == before


def test_a_weak_seal_is_refused_where_nothing_is_known_of_the_vault(kept: Kept) -> None:
    place, words = folder_vault(kept)
    (kept.folder / "vault.json").unlink()
    told = json.loads((place / "vault").read_text())
    for weak in ({**told, "costs": [1 << 10, 8, 1]}, {**told, "salt": "00"}):
        (place / "vault").write_text(json.dumps(weak))
        refused = kept.vault("v", *words, "--check")
        assert (refused.code, "weaker seal" in refused.err) == (3, True), refused.err


def test_an_older_list_that_was_put_back_is_told(kept: Kept) -> None:
    place, words = folder_vault(kept)
    older = place.with_name("older")
    shutil.copytree(place, older)
    kept.play()
    assert kept.vault("v", *words).code == 0
    assert kept.vault("v", *words, "--check").code == 0
    shutil.rmtree(place)
    shutil.copytree(older, place)
    seen = kept.vault("v", *words, "--check")
    assert (seen.code, "an older one was put back" in seen.out) == (4, True), seen.out
    assert "All are there" not in seen.out
    sent = kept.vault("v", *words)
    assert (sent.code, "an older one was put back" in sent.out) == (1, True), sent.out
    assert kept.vault("v", *words, "--check", "--sample", "100%").code == 0
    assert kept.vault("v", *words).code == 0


def test_a_list_that_is_gone_is_told(kept: Kept) -> None:
    place, words = folder_vault(kept)
    (place / "list").unlink()
    seen = kept.vault("v", *words, "--check")
    assert (seen.code, "its list is gone" in seen.out) == (4, True), seen.out
