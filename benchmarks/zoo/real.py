"""Server folders that nobody here made: Debian's open-source game servers, run for some seconds as an admin would run them,
with what is true of each told by hand before adopt looked at it.

They come with ``apt-get install ddnet-server teeworlds-server armagetronad-dedicated freecol supertuxkart
wesnoth-1.16-server tetrinetx pioneers-console cube2-server bzflag-server``. What is not installed is left out, and named.
"""

from __future__ import annotations

import os
import shutil
import signal
import subprocess
import time
from collections.abc import Mapping
from dataclasses import dataclass, field
from pathlib import Path

from ground import Ground, Style

GAMES = "/usr/share/games"
SECONDS = 12
HEAD = '#!/bin/sh\ncd "$(dirname "$0")" || exit 1\n'


@dataclass(frozen=True)
class Real:
    """``files``: of packages -> where they lie in the server folder; ``texts``: what the admin writes; ``line``: the last of the
    launch script; ``facts``: kind -> right answers; ``roles``: file -> role, of which several are right with a stroke."""

    name: str
    program: str
    line: str
    files: Mapping[str, str] = field(default_factory=dict)
    texts: Mapping[str, str] = field(default_factory=dict)
    facts: Mapping[str, str] = field(default_factory=dict)
    roles: Mapping[str, str] = field(default_factory=dict)


SERVERS = (
    Real(
        "duel",
        "/usr/games/DDNet-Server",
        "exec ./DDNet-Server -f server.cfg",
        {f"{GAMES}/ddnet/data": "data"},
        {
            "server.cfg": 'sv_name "Gannet Rock duels"\nsv_port 18303\nsv_map "Gold Mine"\nlogfile "server.log"\nsv_register 0\n',
            "storage.cfg": "add_path data\nadd_path .\n",
        },
        {"no world": "", "version": "16.4"},
        {
            "server.cfg": "settings",
            "storage.cfg": "settings",
            "server.log": "logs",
            "ddnet-server.sqlite": "progress|databases",
            "data/arrow.png": "unsorted|engine",
        },
    ),
    Real(
        "arena",
        "/usr/games/teeworlds-server",
        "exec ./teeworlds-server -f server.cfg >> console.txt 2>&1",
        {f"{GAMES}/teeworlds/data": "data"},
        {
            "server.cfg": "sv_name Gannet Rock\nsv_port 18313\nsv_register 0\n",
            "storage.cfg": "add_path data\nadd_path .\n",
        },
        {"no world": ""},
        {"server.cfg": "settings", "console.txt": "logs", "data/deadtee.png": "unsorted|engine"},
    ),
    Real(
        "cycles",
        "/usr/games/armagetronad-dedicated.real",
        "exec ./armagetronad-dedicated.real --datadir data --configdir config --userdatadir user --vardir var -d < /dev/null >> console.log 2>&1",
        {f"{GAMES}/armagetronad": "data", "/etc/armagetronad-dedicated": "config"},
        {"var/.keep": "", "user/.keep": ""},
        {"no world": ""},
        {
            "config/settings.cfg": "settings",
            "config/default.cfg": "settings",
            "console.log": "logs",
            "var/ladderlog.txt": "logs|unsorted",
            "var/scorelog.txt": "logs|unsorted",
            "var/players.txt": "unsorted|players|logs",
        },
    ),
    Real(
        "colony",
        "/usr/share/java/FreeCol-1.0.0.jar",
        'exec java -Xmx2000M -Djava.awt.headless=true -cp "FreeCol-1.0.0.jar:lib/*" net.sf.freecol.FreeCol --freecol-data data'
        ' --server --server-port 18541 --server-name "Gannet Rock" --no-sound --no-intro --user-config-directory cfg'
        " --user-data-directory saves --user-cache-directory cache --log-file freecol.log >> out.txt 2>&1",
        {f"{GAMES}/freecol": "data", "/usr/share/java/commons-cli.jar": "lib/commons-cli.jar"}
        | {"/usr/share/java/miglayout.jar": "lib/miglayout.jar", "/usr/share/java/cortado.jar": "lib/cortado.jar"},
        {"cfg/.keep": "", "saves/.keep": "", "cache/.keep": ""},
        {"no world": "", "port": "18541", "name": "Gannet Rock", "version": "1.0.0"},
        {"out.txt": "logs", "data/freecol.png": "unsorted|engine|economy", "lib/cortado.jar": "engine|unsorted"},
    ),
    Real(
        "karts",
        "/usr/games/supertuxkart",
        'export XDG_CONFIG_HOME="$PWD/state" HOME="$PWD/state"\nexec ./supertuxkart --server-config=server_config.xml'
        ' --lan-server="Gannet Rock karts" --no-graphics --stdout=server.log < /dev/null >> console.out 2>&1',
        texts={"state/.keep": ""},
        facts={
            "no world": "",
            "name": "Gannet Rock karts",
            "ready": "Mon Nov 30 04:31:27 2026 [info   ] STKHost: Listening has been started.",
        },
        roles={
            "server_config.xml": "settings",
            "console.out": "logs",
            "state/supertuxkart/config-0.10/server.log": "logs",
            "state/supertuxkart/config-0.10/config.xml": "settings|economy",
        },
    ),
    Real(
        "rooms",
        "/usr/games/wesnothd-1.16",
        "exec ./wesnothd-1.16 -c rooms.cfg -p 15900 --log-info=all >> rooms.log 2>&1",
        texts={
            "rooms.cfg": 'versions_accepted="1.16*"\nmotd="Welcome to Gannet Rock"\nid=1\n[redirect]\n[/redirect]\n'
        },
        facts={"no world": "", "port": "15900"},
        roles={"rooms.cfg": "settings", "rooms.log": "logs"},
    ),
    Real(
        "blocks",
        "/usr/games/tetrinetx",
        "exec ./tetrinetx",
        {"/etc/tetrinetx": "."},
        facts={"no world": ""},
        roles={"game.conf": "settings", "game.secure": "settings|unsorted", "game.motd": "unsorted|settings"},
    ),
    Real(
        "settlers",
        "/usr/games/pioneers-server-console",
        "PORT=5599\nexec ./pioneers-server-console --file games/canyon.game -p $PORT >> settlers.log 2>&1",
        {f"{GAMES}/pioneers": "games"},
        facts={"no world": "", "port": "5599"},
        roles={
            "settlers.log": "logs",
            "games/canyon.game": "settings|unsorted",
            "games/coeur.game": "unsorted|settings",
        },
    ),
    Real(
        "cubes",
        "/usr/lib/cube2/cube2_server",
        "exec ./cube2_server -i127.0.0.1 -j28795 -glog.txt < /dev/null",
        {"/usr/share/doc/cube2-server/examples/server-init.cfg": "server-init.cfg"},
        facts={"no world": ""},
        roles={"server-init.cfg": "settings", "log.txt": "logs"},
    ),
    Real(
        "tanks",
        "/usr/games/bzfs",
        "exec ./bzfs -conf tanks.conf >> tanks.log 2>&1",
        {"/usr/lib/bzflag-server": "plugins"},
        {
            "tanks.conf": '-p 5164\n-i 127.0.0.1\n-publictitle "Gannet Rock tanks"\n-ms 5\n-loadplugin plugins/serverControl.so\n'
        },
        {"no world": "", "version": "2.4.26.20230103|2.4.26", "port": "5164"},
        {"tanks.conf": "settings", "tanks.log": "logs", "plugins/serverControl.so": "engine|extensions|unsorted"},
    ),
)


def built(place: Path) -> list[Ground]:
    """Folders of those that are installed, played on; each is ended by its own id."""
    grounds, running = [], []
    for server in SERVERS:
        if not Path(server.program).exists():
            print(f"{server.name}: no {server.program} here")
            continue
        grounds.append(_laid(server, place / server.name))
        command = [str(place / server.name / "start.sh")]
        running.append(
            subprocess.Popen(command, start_new_session=True, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
        )
    time.sleep(SECONDS)
    for one in running:
        if one.poll() is None:
            os.killpg(one.pid, signal.SIGTERM)
    time.sleep(1)
    for one in running:
        if one.poll() is None:
            os.killpg(one.pid, signal.SIGKILL)
        one.wait()
    return grounds


def _laid(server: Real, root: Path) -> Ground:
    root.mkdir()
    shipped = [Path(server.program).name]
    for source, target in server.files.items():
        if Path(source).is_dir():
            shutil.copytree(source, root / target, dirs_exist_ok=True, ignore_dangling_symlinks=True)
        else:
            (root / target).parent.mkdir(parents=True, exist_ok=True)
            shutil.copy2(source, root / target)
    shutil.copy2(server.program, root / shipped[0])
    shipped += [path.relative_to(root).as_posix() for path in root.rglob("*") if path.is_file()]
    for path, text in server.texts.items():
        (root / path).parent.mkdir(parents=True, exist_ok=True)
        (root / path).write_text(text)
    (root / "start.sh").write_text(HEAD + server.line + "\n")
    (root / "start.sh").chmod(0o755)
    ground = Ground(root, server.name, Style())
    ground.fact("script", "start.sh", "start.sh")
    ground.fact("program", shipped[0], shipped[0])
    for scope in ("map", "players", "progress"):
        ground.fact(f"leaves {scope}", "what the packages brought", *shipped)
    for kind, told in server.facts.items():
        ground.fact(kind, server.name, *told.split("|"))
    for path, role in server.roles.items():
        ground.role(role, path)
    return ground
