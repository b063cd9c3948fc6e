"""What the pages made from the program say, and that they say it of the program there is."""

import importlib.util
import json
import re
import shlex
import shutil
import subprocess
import sys
import tomllib
from pathlib import Path
from typing import Any

import pytest
from jsonschema import Draft202012Validator

from emberkeep.cli.main import COMMANDS, command_module, command_of, parser_for
from emberkeep.errors import EmberKeepError
from emberkeep.keep import reference
from emberkeep.keep.config import check_text
from emberkeep.keep.reference import CHOSEN, Key, Table
from tests.program import Program

DOCS = Path(__file__).parent.parent / "docs"
SHARE = DOCS.parent / "share"
TABLES = reference.tables()
KEYS = [(table, key) for table in TABLES for key in table.keys]
TEXT = (Path(reference.__file__).parent / "reference.toml").read_text(encoding="utf-8")
SCHEMA = Draft202012Validator(reference.schema())


def generator() -> Any:
    if str(DOCS) not in sys.path:
        sys.path.append(str(DOCS))  # as for a script that stands there
    spec = importlib.util.spec_from_file_location("generate", DOCS / "generate.py")
    assert spec and spec.loader
    module = importlib.util.module_from_spec(spec)
    sys.modules[spec.name] = module  # dataclasses look there
    spec.loader.exec_module(module)
    return module


@pytest.mark.long
def test_what_is_made_from_the_program_is_of_this_program() -> None:
    """Pages, schemas, completion and manual pages; and nothing else lies beside those."""
    made = generator().made()
    assert [str(path) for path, text in made.items() if path.read_text(encoding="utf-8") != text] == []
    there = {path for path in SHARE.rglob("*") if path.is_file()}
    assert there == {path for path in made if SHARE in path.parents}


def asked_of(shell: str, *words: str) -> str:
    if shutil.which(shell) is None:
        pytest.skip(f"{shell} is not installed")
    return subprocess.run([shell, *words], capture_output=True, text=True, check=True, timeout=60).stdout


BASH = """
source {}
COMP_WORDS=({}) COMP_CWORD={}
_shtab_emberkeep 2> /dev/null; printf '%s\n' "${{COMPREPLY[@]}}"
"""


@pytest.mark.parametrize(
    ("typed", "wanted"),
    [("sn", {"snapshot"}), ("keep", {"keep-toml"}), ("snapshot --no", {"--note"}), ("restore --on", {"--only"})],
)
def test_shells_complete_commands_and_options(typed: str, wanted: set[str]) -> None:
    words = ["emberkeep", *typed.split()]
    script = BASH.format(SHARE / "bash-completion/completions/emberkeep", " ".join(words), len(words) - 1)
    assert set(asked_of("bash", "-c", script).split()) == wanted
    fish = f"source {SHARE / 'fish/vendor_completions.d/emberkeep.fish'}; complete -C 'emberkeep {typed}'"
    assert wanted <= {line.split("\t")[0] for line in asked_of("fish", "-c", fish).splitlines()}


def test_the_completion_for_zsh_is_valid() -> None:
    asked_of("zsh", "-n", str(SHARE / "zsh/site-functions/_emberkeep"))


@pytest.mark.parametrize("command", ["", "-snapshot", "-keep-toml"])
def test_manual_pages_are_shown_without_a_complaint(command: str) -> None:
    page = SHARE / "man" / "man1" / f"emberkeep{command}.1"
    shown = re.sub(".\x08", "", asked_of("man", "-l", "-Tutf8", str(page)))
    assert "NAME" in shown
    assert "SYNOPSIS" in shown
    groff = subprocess.run(["groff", "-man", "-ww", "-z", page], capture_output=True, text=True, check=True)
    assert groff.stderr == ""


def test_every_refusal_says_what_to_do_next() -> None:
    found = list(generator().refusals())
    assert len(found) > 200
    assert [one for one in found if one.hint == "(none)"] == []
    rooms = generator().ROOMS
    assert {one.room for one in found} - set(rooms) <= {"errors", "demo"}


def test_every_key_that_a_reader_asks_for_has_words_and_an_example() -> None:
    told = {(*table.path, *key.path) for table, key in KEYS} | {table.path for table in TABLES}
    chosen = {path[:-1] for path in reference.asked_for() if path[-1] == CHOSEN}
    holders = {path for path in reference.asked_for() if path in chosen}
    silent = [path for path in reference.asked_for() if path not in told | holders and path[-1] != CHOSEN]
    assert silent == []
    assert [(table.header, key.name) for table, key in KEYS if not key.words] == []
    assert [table.header for table in TABLES if table.header and not (table.words and table.used_by)] == []
    assert [key.name for _, key in KEYS if not key.example and "." not in key.name] == []


def test_commands_that_a_table_is_said_to_be_used_by_are_there() -> None:
    for table in TABLES:
        for part in table.used_by.split(", "):
            word = part.split(" ")[0]
            assert word in {*COMMANDS, "every", "and", ""}, (table.header, part)


def test_the_reference_is_a_keep_toml_and_fits_the_schema() -> None:
    check_text(TEXT, Path("rock.keep/keep.toml"))
    assert [fault.message for fault in SCHEMA.iter_errors(_plain(tomllib.loads(TEXT)))] == []


@pytest.mark.parametrize(("table", "key"), [pair for pair in KEYS if pair[1].others], ids=str)
def test_other_ways_to_write_a_key_are_read_and_fit_the_schema(table: Table, key: Key) -> None:
    for other in key.others:
        text = TEXT.replace(key.example, other, 1)
        check_text(text, Path("rock.keep/keep.toml"))
        assert [fault.message for fault in SCHEMA.iter_errors(_plain(tomllib.loads(text)))] == []


def _plain(value: Any) -> Any:
    """As editors hand a document to a schema: dates as text."""
    if isinstance(value, dict):
        return {key: _plain(one) for key, one in value.items()}
    if isinstance(value, list):
        return [_plain(one) for one in value]
    return value.isoformat() if hasattr(value, "isoformat") else value


FITTING = {"true or false"}


@pytest.mark.parametrize(
    "example", [key.example for _, key in KEYS if key.example and key.what not in FITTING], ids=lambda text: text[:40]
)
def test_what_the_readers_refuse_the_schema_refuses(example: str) -> None:
    """A value of another type, key by key; ``true`` is right for none of these."""
    text = TEXT.replace(f"\n{example}\n", f"\n{example.partition(' = ')[0]} = true\n", 1)
    assert text != TEXT
    with pytest.raises(EmberKeepError):
        check_text(text, Path("rock.keep/keep.toml"))
    assert not SCHEMA.is_valid(_plain(tomllib.loads(text)))


@pytest.mark.parametrize("table", [table for table in TABLES if table.header], ids=lambda table: table.header)
def test_a_key_that_nobody_knows_is_refused_by_both(table: Table) -> None:
    if table.name in ("ladder", "records", "wanted"):
        pytest.skip("its keys are the admin's own")
    text = TEXT.replace(f"\n{table.example}\n", f"\n{table.example}\nsea-serpent = 1\n", 1)
    assert text != TEXT
    with pytest.raises(EmberKeepError, match="sea-serpent"):
        check_text(text, Path("rock.keep/keep.toml"))
    assert not SCHEMA.is_valid(_plain(tomllib.loads(text)))


def test_an_adopted_keep_leads_editors_to_its_schema(keeper: Program, place: Path) -> None:
    keep = place / "gannet-rock.keep"
    text = (keep / "keep.toml").read_text(encoding="utf-8")
    assert text.startswith("#:schema ./keep.schema.json\n")
    schema = json.loads((keep / "keep.schema.json").read_text(encoding="utf-8"))
    Draft202012Validator.check_schema(schema)
    assert Draft202012Validator(schema).is_valid(_plain(tomllib.loads(text)))


def test_keep_toml_on_a_terminal(keeper: Program) -> None:
    every = keeper("keep-toml")
    assert [table.header for table in TABLES if table.header not in every.out] == []
    one = keeper("keep-toml", "[[event]]")
    assert [key.name for key in _of("event").keys if f"\n  {key.name}  " not in one.out] == []
    assert 'tell = ["15 min", "5 min", "1 min"]' in keeper("keep-toml", "stop.tell").out
    assert "\n  limit" not in keeper("keep-toml", "stop.tell").out
    full = keeper("keep-toml", "--full").out
    assert [key.example for _, key in KEYS if key.example not in full] == []
    assert json.loads(keeper("keep-toml", "--schema").out) == reference.schema()
    assert "did you mean 'event'?" in keeper("keep-toml", "evnt").err
    assert "did you mean 'tell'?" in keeper("keep-toml", "stop.tel").err
    assert keeper("keep-toml", "start", "--json").json["table"]["header"] == "[start]"


def _of(name: str) -> Table:
    return next(table for table in TABLES if table.name == name)


@pytest.mark.parametrize("command", COMMANDS)
def test_every_example_can_be_said(command: str) -> None:
    for line in command_module(command).EXAMPLES:
        words = shlex.split(line.partition("  ")[0])[1:]
        words = words[: words.index("|")] if "|" in words else words
        assert command_of(words) == command
        parser_for(command).parse_args(words)


def test_the_whole_schema_takes_what_one_command_gives_and_not_another(keeper: Program) -> None:
    whole = Draft202012Validator(json.loads((DOCS / "json.schema.json").read_text(encoding="utf-8")))
    told = keeper("snapshot", "--json").json
    assert whole.is_valid(told)
    assert not whole.is_valid({**told, "command": "verify", "verification": 3})
    assert not whole.is_valid({**told, "skipped": "none"})
    assert not whole.is_valid({key: value for key, value in told.items() if key != "format"})
