"""The other mission and settings files of Skerrylight, by release, and Gannet Rock's edits to them."""

from __future__ import annotations

import json
import random
import re
from datetime import date, timedelta


def full(release: str) -> str:
    """The engine's own version number."""
    return f"{release}.0"


def squalls(release: str) -> str:
    """Events: values in attributes, records nested in groups."""
    groups = {
        "winter": (("black-northerly", 36, 4, 9), ("ice-blink", 60, 6, 5), ("long-dark", 90, 12, 3)),
        "spring": (("gannet-gale", 24, 3, 6), ("kelp-tide", 30, 8, 2), ("thaw-swell", 48, 5, 4)),
        "summer": (("heat-haar", 20, 6, 1), ("thunder-run", 44, 2, 8)),
    }
    lines = ['<?xml version="1.0"?>', "<!-- every and lasts in hours, strength 1 to 9 -->", "<squalls>"]
    for group, members in groups.items():
        lines.append(f'  <group name="{group}">')
        for name, every, lasts, strength in members:
            hours = every + (6 if release != "4.2" and name in ("ice-blink", "kelp-tide") else 0)
            lasting = 5 if release != "4.2" and name == "black-northerly" else lasts
            lines.append(f'    <squall id="{name}" every="{hours}" lasts="{lasting}" strength="{strength}">')
            lines.append(f'      <brings good="wreck-plank" count="{strength}"/>')
            lines.append("    </squall>")
        if group == "summer" and release != "4.2":
            lines.append('    <squall id="false-dawn" every="80" lasts="1" strength="2"/>')
        lines.append("  </group>")
    return "\n".join([*lines, "</squalls>", ""])


def squalls_edited(text: str) -> str:
    """Northerlies are rarer and shorter; the file went through an editor that writes CRLF."""
    text = _once(text, 'id="black-northerly" every="36" lasts="4"', 'id="black-northerly" every="72" lasts="3"')
    text = _once(
        text,
        '    <squall id="thunder-run"',
        '    <!-- not before midsummer, please -->\n    <squall id="thunder-run"',
    )
    return text.replace("\n", "\r\n")


def reaches(release: str) -> str:
    """Territories: records without identity."""
    chance = random.Random("skerrylight reaches")
    lines = ["<reaches>"]
    for water in ("shallow", "sound", "deep"):
        lines.append(f'\t<water kind="{water}">')
        for _ in range(9):
            x, y, radius = (
                chance.randrange(-2000, 2000),
                chance.randrange(-2000, 2000),
                chance.randrange(40, 300),
            )
            most = chance.randrange(2, 9) + (1 if release != "4.2" and radius > 250 else 0)
            holds = chance.choice(("seal", "gannet", "eel", "crab"))
            lines.append(f'\t\t<reach x="{x}" y="{y}" radius="{radius}" holds="{holds}" most="{most}"/>')
        if release != "4.2" and water == "deep":
            lines.append('\t\t<reach x="1204" y="-88" radius="500" holds="orca" most="1"/>')
        lines.append("\t</water>")
    return "\n".join([*lines, "</reaches>", ""])


def reaches_edited(text: str) -> str:
    """Two territories moved by hand, one dropped, one of our own; saved with a byte-order mark."""
    lines = text.split("\n")
    lines[2] = lines[2].replace('most="', 'most="1')
    del lines[5]
    lines.insert(8, '\t\t<reach x="12" y="-40" radius="60" holds="seal" most="3"/> <!-- the seals at our pier -->')
    return "\ufeff" + "\n".join(lines)


def tidefalls() -> str:
    """A file that is new in 4.3."""
    return (
        '<?xml version="1.0"?>\n<tidefalls>\n  <fall id="neap" depth="2" uncovers="reef"/>\n'
        '  <fall id="spring" depth="7" uncovers="wreck"/>\n</tidefalls>\n'
    )


def prices(release: str) -> str:
    """What the harbour pays, as JSON."""
    rates = {"buy": 1.0, "sell": 0.6 if release == "4.2" else 0.65, "haggle": 0.1}
    return json.dumps({"release": release, "rates": rates, "closed": ["midwinter"]}, indent=2) + "\n"


def weather(release: str) -> str:
    """Weather, as YAML."""
    fog = "0.20" if release == "4.2" else "0.25"
    return (
        f"# how the sky behaves\nfog:\n  chance: {fog}\n  thickest: 0.8\nwind:\n  calm-below: 3\n"
        "  gale-above: 8\nseasons: [winter, spring, summer, haar]\n"
    )


def harbour(release: str) -> str:
    """Berths, as TOML."""
    more = "" if release == "4.2" else '\n[[berth]]\nname = "ice quay"\ndraught = 4.0\n'
    return (
        '# berths, from the lee side\n[harbour]\nopens = "06:00"\ncloses = "22:00"\n\n'
        '[[berth]]\nname = "old pier"\ndraught = 2.5\n\n[[berth]]\nname = "lantern steps"\ndraught = 1.5\n' + more
    )


def first_light(release: str) -> str:
    """A small start-up script of the mission."""
    late = "" if release == "4.2" else "  sound horn thrice when fog > 0.5\n"
    return (
        "# first-light: runs once when the lamp is lit\non start\n  set hour 06:30\n  lay wrecks 12\n"
        f"  wake gannets\n{late}end\n\non keeper arrives\n  give hardtack 2\n  give rope 1\nend\n"
    )


def launch_script(release: str) -> str:
    """How the vendor starts the server."""
    lines = "" if release == "4.2" else " --lines 200"
    return (
        f"#!/bin/sh\n# Skerrylight launch script\n\n# the program\nENGINE=./skerrylight-{full(release)}.bin\n\n"
        "# the chart: the same seed and span make the same skerries\nSEED=1\nSPAN=2048\n\n"
        '# shown to keepers\nTITLE="A Skerrylight server"\n\n'
        "# there is nothing to change below\n"
        f'exec "$ENGINE" --seed "$SEED" --span "$SPAN" --title "$TITLE" --settings keeper.properties{lines}\n'
    )


def launch_script_edited(text: str) -> str:
    """Gannet Rock's own chart and name."""
    text = _once(text, "SEED=1\nSPAN=2048\n", "SEED=770421\nSPAN=4096\n")
    text = _once(text, '"A Skerrylight server"', '"Gannet Rock"')
    return _once(text, "#!/bin/sh\n", '#!/bin/sh\ncd "$(dirname "$0")" || exit 1\n')


def settings(release: str) -> str:
    """keeper.properties as the vendor ships it."""
    horns = "" if release == "4.2" else "# horns sound by themselves in fog\nfog-horns=on\n"
    keepers = "24" if release == "4.2" else "32"
    return (
        "# Skerrylight settings\n# the folder that holds the world\nwaters=new-waters\ntitle=A Skerrylight server\n"
        f"most-keepers={keepers}\nport=27800\n{horns}# hours in a day\nday-length=24\nstorms=normal\n"
        "greeting=Mind the rocks\n"
    )


def settings_edited(text: str) -> str:
    """Gannet Rock's settings."""
    text = _once(text, "waters=new-waters", "waters=outer-skerries")
    text = _once(text, "title=A Skerrylight server", "title=Gannet Rock \\u2014 the lamp never goes out")
    text = _once(text, "most-keepers=24", "most-keepers=40")
    text = _once(text, "storms=normal\n", "# voted on in May\nstorms=gentle\n")
    return text + "console-port=27900\n"


def _once(text: str, old: str, new: str) -> str:
    assert text.count(old) == 1, old
    return text.replace(old, new)


RECIPES = {
    "4.2-to-4.3.toml": """format = 1
from = "4.2"
to = "4.3"
why = "4.3 reads saves of format 18 only, and keepers' bags are satchels now"

[[step]]
why = "4.3 passes over saves of format 17 and would draw a new chart"
renumber = { in = "outer-skerries", from = 17, to = 18 }
holds = ["seed", "size", "pointer"]

[[step]]
why = "bags are satchels, and everybody has some salt"
records = { files = "outer-skerries/keepers/*.json", rename = { bag = "satchel" }, default = { salt = 0 } }

[[step]]
why = "crafts have a rank from 4.3 on"
sql = { database = "outer-skerries/logbook.*.db", files = "4.3-logbook/*.sql" }

[[step]]
engine = { converts = true }
""",
    "4.3-to-4.4.toml": """format = 1
from = "4.3"
to = "4.4"
why = "storms are told by strength"

[[step]]
set = { file = "keeper.properties", key = "storms-from", value = "6", unless-present = true }
""",
    "4.3-logbook/1-structure.sql": """-- a rank for every craft
alter table learned add column rank integer not null default 1;
""",
    "4.3-logbook/2-data.sql": """update learned set rank = 2 where day > 200;
update about set value = '5+rank' where name = 'format';
""",
}
"""What the vendor says of each version step, as recipes, with their SQL."""


def operated(text: str, port: int, console: int) -> str:
    """The drafted keep.toml with what Gannet Rock's keepers add: console, start, stop, landmarks, rehearsal."""
    names = r'\1\nenvironment = ["ROCK_CONSOLE", "SKERRYLIGHT_*"]'
    return re.sub(r"(?m)^(\[start\].*)$", names, text, count=1) + _operating(port, console)


def _operating(port: int, console: int) -> str:
    return f"""
# --- added by the keepers of Gannet Rock ---

[console]
kind = "line"
address = "127.0.0.1:{console}"
secret = {{ env = "ROCK_CONSOLE" }}
good = '^(aye|cried|logged|held|freed|dousing)'
phrases = {{ say = "cry {{text}}", save = "log all", hold = "log hold", free = "log free", stop = "douse" }}

[process]
address = "127.0.0.1:{port}"

[stop]
tell = ["1 s"]
text = "The lamp goes out in {{time}}; moor your boats."
limit = "20 s"
still = "0.3 s"

[[landmark]]
name = "the great lantern"
tiles = "0,0..1,1"

[[landmark]]
name = "what a keeper starts with"
file = "keeper.properties"
field = "title"

[rehearse]
set = {{ "keeper.properties" = {{ port = "{port + 1000}", console-port = "{console + 1000}" }} }}
"""


WIPES = ("2025-10-10", "2025-11-07", "2025-12-05", "2026-01-02", "2026-01-30", "2026-02-27")
"""When Gannet Rock was wiped before it had a keep."""


def season() -> str:
    """What Gannet Rock's keepers add to keep.toml for the next wipe: values, survivors, calendar, announcements."""
    return f"""
# --- the next wipe ---

[wipe]
seed = "random"
seed-range = [1, 999999]
name = "Gannet Rock, tide {{number}}"
set = {{ "keeper.properties" = {{ greeting = "Tide {{number}}, since {{date}}" }} }}
earlier = [{", ".join(WIPES)}]

[[survives]]
name = "the great lantern's rock"
files = ["outer-skerries/tiles:0,0..1,1"]

[[event]]
name = "Skerrylight release"
kind = "update"
whose = "vendor"
when = "every 4 weeks on Tuesday 14:00"
start = 2025-04-01
zone = "America/Vancouver"

[[event]]
name = "our wipe"
kind = "wipe"
when = "second Wednesday 19:00"
scopes = ["map", "players", "extension-data"]
skip-when = {{ event = "Skerrylight release", within = "2 days" }}
tell = ["1 day", "1 hour", "10 min"]

[[event]]
name = "nightly"
kind = "snapshot"
when = "daily 04:30"

[calendar]
quiet = ["12-23..01-01"]

[announce]
file = "announced.jsonl"

[[webhook]]
name = "harbour chat"
address = {{ env = "ROCK_HOOK" }}
body = {{ text = "{{text}}", server = "{{server}}" }}
"""


def season_logs() -> dict[str, str]:
    """The logs of half a year, by path: who came and left after each wipe, fewer from day to day."""
    chance = random.Random("gannet rock seasons")
    found = {}
    for number, wiped in enumerate(WIPES):
        lines = []
        for day in range(28):
            when = date.fromisoformat(wiped) + timedelta(days=day)
            weekend = 1.25 if when.weekday() >= 4 else 0.92
            there = round(34 * 2 ** (-day / 9) * weekend + chance.uniform(-1.5, 1.5))
            names = [f"Guest{at}" for at in range(max(0, there))]
            lines += [f"{when} 18:{at % 60:02}:04 {name} comes ashore" for at, name in enumerate(names)]
            lines += [f"{when} 22:{at % 60:02}:40 {name} casts off" for at, name in enumerate(names)]
        found[f"log/tide-{number + 1}.log"] = "\n".join(lines) + "\n"
    return found
