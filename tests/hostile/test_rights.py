"""Whose rights things are done with, and which of our secrets programs of others are given."""

from __future__ import annotations

import os
import pwd
from pathlib import Path

import pytest

from emberkeep.errors import Refused
from emberkeep.keep.secrets import handed_on
from emberkeep.keep.tables.process import Service
from emberkeep.process import lifecycle
from tests.conftest import KEEP, Rock
from tests.hostile.others import in_the_open, run_as
from tests.program import Program

as_root = pytest.mark.skipif(os.name == "nt" or os.geteuid() != 0, reason="only root may become somebody else")


@pytest.fixture
def nobody() -> pwd.struct_passwd:
    return pwd.getpwnam("nobody")


def test_only_what_is_usual_or_named_is_handed_on() -> None:
    ours = {"PATH": "/bin", "LC_ALL": "C", "SECRET": "x", "ROCK_A": "1", "ROCK_B": "2", "ROCKET": "3", "HOME": "/"}
    assert handed_on(ours) == {"PATH": "/bin", "LC_ALL": "C", "HOME": "/"}
    assert handed_on(ours, ["ROCK_*", "SECRET"]).keys() == {"PATH", "LC_ALL", "HOME", "ROCK_A", "ROCK_B", "SECRET"}


def test_a_server_is_started_without_our_secrets(rock: Rock) -> None:
    script = rock.server / "cast-off.sh"
    script.write_text(script.read_text().replace("exec ", "env > log/environment\nexec ", 1))
    assert rock.run("start", "--go", ACCOUNTS_PASSWORD="of the database", WEBHOOK="https://x/secret").code == 0
    given = (rock.server / "log" / "environment").read_text()
    assert "ROCK_CONSOLE=" in given and "PATH=" in given
    assert not any(word in given for word in ("ACCOUNTS_PASSWORD", "WEBHOOK", "EMBERKEEP"))


def test_a_name_that_cannot_be_one_is_told_with_its_line(rock: Rock) -> None:
    told = rock.keep / "keep.toml"
    told.write_text(told.read_text().replace('"SKERRYLIGHT_*"', '"not one"'))
    done = rock.run("history")
    assert (done.code, "'not one' is no name of a variable" in done.err) == (2, True)


@as_root
def test_a_server_runs_as_the_user_that_keep_toml_names(tmp_path: Path, nobody: pwd.struct_passwd) -> None:
    command = ("sh", "-c", "id -u; id -g; id -G; echo $HOME $USER; touch made || echo may not")
    with in_the_open(tmp_path) as there:
        service, printed = Service("it", command, user="nobody"), there / "printed"
        assert lifecycle.launch(there, service, os.environ, printed).wait(20) == 0
        user, group, groups, home, *more = printed.read_text().splitlines()
        with pytest.raises(Refused, match="no user nobody-at-all"):
            lifecycle.launch(there, Service("it", command, user="nobody-at-all"), os.environ, printed)
    assert (int(user), int(group), home) == (nobody.pw_uid, nobody.pw_gid, f"{nobody.pw_dir} nobody")
    assert "0" not in groups.split()
    assert more[-1] == "may not"


def given_to(folder: Path, user: pwd.struct_passwd) -> None:
    for path in (folder, *folder.rglob("*")):
        os.chown(path, user.pw_uid, user.pw_gid, follow_symlinks=False)


@as_root
@pytest.mark.long
def test_root_on_a_folder_of_somebody_else_is_told_once_and_may_work_as_they(
    keeper: Program, place: Path, nobody: pwd.struct_passwd
) -> None:
    given_to(place / "gannet-rock", nobody)
    for count in (1, 0):
        assert keeper("history").err.count("this is root") == count
    with in_the_open(place) as there:
        keep, server = there / KEEP, there / "gannet-rock"
        refused = run_as(0, "--keep", KEEP, "--as-owner", "snapshot", cwd=there)
        assert (refused.returncode, "chown -R nobody" in refused.stderr) == (3, True), refused.stderr
        given_to(keep, nobody)
        (server / "of-root").write_text("x")
        (server / "of-root").chmod(0o600)
        done = run_as(0, "--keep", KEEP, "snapshot", "--as-owner", cwd=there)
        assert (done.returncode, "of-root" in done.stdout) == (1, True), done.stdout + done.stderr  # left out
        assert {path.stat().st_uid for path in (keep / "store" / "packs").iterdir()} == {nobody.pw_uid}
        text = (keep / "keep.toml").read_text()
        (keep / "keep.toml").write_text(text.replace("[server]\n", '[server]\nuser = "nobody"\n', 1))
        assert run_as(0, "--keep", KEEP, "snapshot", cwd=there).returncode == 1


@as_root
def test_set_user_id_is_not_given_back_on_a_folder_of_somebody_else(
    keeper: Program, place: Path, server: Path, nobody: pwd.struct_passwd
) -> None:
    """Its owner could have had it made of anything."""
    (server / "tool").write_text("tool")
    (server / "tool").chmod(0o4755)
    assert keeper("snapshot").code == 0
    (server / "tool").unlink()
    assert keeper("restore", "1", "--go").code == 0
    assert (server / "tool").stat().st_mode & 0o7777 == 0o4755  # our own: back to the byte
    (server / "tool").unlink()
    os.chown(server, nobody.pw_uid, nobody.pw_gid)
    keeper("snapshot", "--note", "theirs")
    assert keeper("restore", "1", "--only", "tool", "--go").code == 0
    assert (server / "tool").stat().st_mode & 0o7777 == 0o755
    assert "Nothing to do" in keeper("restore", "1", "--only", "tool").out


def test_a_recipes_program_is_not_given_our_secrets(rock: Rock, monkeypatch: pytest.MonkeyPatch) -> None:
    from emberkeep.operations.flows import migrate

    seen: dict[str, str] = {}

    def run(command: object, **how: object) -> object:
        seen.update(how["env"])  # type: ignore[call-overload]
        raise OSError(2, "none")

    monkeypatch.setattr(migrate.subprocess, "run", run)
    room = type("R", (), {"keep": type("K", (), {"server": rock.server, "config": _config(rock)}), "environment": {
        "PATH": "/bin", "SECRET": "x", "ROCK_CONSOLE": "y"}})  # fmt: skip
    with pytest.raises(Exception, match="cannot be run"):
        migrate.run_program(room, ["none"], None, "", None)  # type: ignore[arg-type]
    assert seen == {"PATH": "/bin", "ROCK_CONSOLE": "y"}


def _config(rock: Rock) -> object:
    from emberkeep.keep.keep import Keep

    return Keep(rock.keep).config
