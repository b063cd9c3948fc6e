"""The library's face: its page runs, and its verbs do what the commands do."""

from __future__ import annotations

import re
from pathlib import Path

import pytest

import emberkeep
from emberkeep import Keep
from emberkeep.errors import Refused, UsageError
from tests.conftest import tree_state

PAGE = Path(__file__).parent.parent / "docs" / "library.md"


@pytest.mark.long
def test_the_example_in_the_docs_runs(
    place: Path, server: Path, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    (example,) = re.findall(r"```python\n(.*?)```", PAGE.read_text(encoding="utf-8"), re.DOTALL)
    monkeypatch.chdir(place)
    before = tree_state(server)
    exec(compile(example, str(PAGE), "exec"), {})
    told = capsys.readouterr().out
    assert re.search(r"^\d+ changes taken, \d+ edits kept, [1-9]\d* questions$", told, re.MULTILINE)
    assert "mission/economy/stores.xml" in told
    assert tree_state(server) == before


def test_the_page_names_every_verb_and_no_other() -> None:
    (named,) = re.findall(r"eleven verbs: (.*?)\.", PAGE.read_text(encoding="utf-8"), re.DOTALL)
    verbs = {name for name, value in vars(Keep).items() if not name.startswith("_") and not isinstance(value, property)}
    assert set(re.findall(r"`(\w+)`", named)) == verbs


def test_the_verbs_on_a_keep(place: Path, server: Path) -> None:
    keep = Keep.adopt(server)
    assert (keep.server, keep.folder) == (server, place / "gannet-rock.keep")
    with pytest.raises(Refused, match="is there already"):
        Keep.adopt(server)
    first = keep.snapshot("as it was")
    assert keep.survey().engine == "4.2.0"
    (server / "keeper.properties").write_text("wrecked\n")
    (server / "cast-off.sh").unlink()
    assert {item.path for item in keep.diff().files} == {"keeper.properties", "cast-off.sh"}
    assert {item.path for item in keep.diff(only=["cast-off.sh"]).files} == {"cast-off.sh"}
    keep.restore(first.label, into=place / "copy")
    assert (place / "copy" / "cast-off.sh").is_file()
    done = keep.restore(first.label, only=["keeper.properties"])
    assert [entry.path for entry in done.write] == ["keeper.properties"]
    assert [item.path for item in keep.diff(first.label).files] == ["cast-off.sh"]
    assert keep.undo().kind == "restore"
    assert (server / "keeper.properties").read_text() == "wrecked\n"
    told = keep.history()
    assert (told.snapshots[0].note, [run.state for run in told.runs]) == ("as it was", ["undone"])
    assert keep.verify(share=0.5).sound
    with pytest.raises(UsageError, match="no run to take back"):
        keep.undo()
    assert Keep.open(keep.folder).history() == told


def test_the_package_offers_its_face_and_nothing_else() -> None:
    assert emberkeep.__all__ == ["Keep", "__version__"]
    with pytest.raises(AttributeError):
        emberkeep.no_such_thing  # noqa: B018
