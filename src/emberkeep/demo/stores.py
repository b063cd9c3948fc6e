"""The goods table of Skerrylight (``mission/economy/stores.xml``) in three releases, and a year of edits to it."""

from __future__ import annotations

import random
import re
from dataclasses import dataclass, field, replace

KINDS: dict[str, tuple[tuple[str, ...], tuple[str, ...]]] = {
    "food": (
        ("smoked", "salted", "pickled", "dried", "potted", "barley", "kelp"),
        ("herring", "dulse", "limpet", "bannock", "broth"),
    ),
    "fuel": (("black", "brown", "driftwood", "whale"), ("peat", "pitch", "oil", "coke", "tallow")),
    "tackle": (
        ("hemp", "wire", "tarred", "spare", "short"),
        ("line", "net", "creel", "hook", "float", "grapnel"),
    ),
    "lamp": (
        ("brass", "cracked", "storm", "signal"),
        ("lantern", "wick", "lens", "mantle", "shutter", "mirror"),
    ),
    "cloth": (
        ("oiled", "woollen", "patched", "sailcloth"),
        ("coat", "cap", "mitts", "boots", "blanket", "smock"),
    ),
    "timber": (("wreck", "larch", "oak", "bog"), ("plank", "spar", "keel", "peg", "beam", "shingle")),
    "physic": (("scurvy", "fever", "gannet", "bitter"), ("draught", "salve", "lint", "root", "tonic")),
    "tool": (
        ("rusty", "ship's", "stone", "keeper's"),
        ("adze", "saw", "caulker", "marlinspike", "mallet", "awl"),
    ),
    "charm": (("drowned", "selkie", "gull"), ("bead", "knot", "whistle", "stone", "feather")),
    "vessel": (("lost", "swift", "patched"), ("coracle", "dory", "punt", "raft", "gig")),
}
PLACES = ("wreck", "pantry", "tideline", "boathouse", "cave", "lamp-room", "store", "reef")
KEY_GOODS = ("lamp-oil", "hardtack", "rope", "great-lens")


@dataclass(frozen=True)
class Good:
    """One record of the goods table."""

    id: str
    kind: str
    afloat: int
    least: int
    worth: int
    spoils: int
    found: tuple[str, ...]
    made: tuple[tuple[str, int], ...] = ()
    note: str = ""
    retired: bool = field(default=False, compare=False)


def release_42() -> list[Good]:
    """The goods of release 4.2, by kind."""
    chance = random.Random("skerrylight stores")
    goods: list[Good] = []
    for kind, (first, second) in KINDS.items():
        names = [f"{a}-{b}".replace("'", "") for b in second for a in first]
        if kind == "fuel":
            names.insert(0, "lamp-oil")
        if kind == "food":
            names.insert(0, "hardtack")
        if kind == "tackle":
            names.insert(0, "rope")
        if kind == "lamp":
            names.append("great-lens")
        extra = [f"{name}-{suffix}" for suffix in ("bale", "scrap") for name in names[: 34 - len(names)]]
        goods.extend(_good(chance, name, kind) for name in names + extra[: max(0, 31 - len(names))])
    return [_key_good(good) for good in goods]


def _good(chance: random.Random, name: str, kind: str) -> Good:
    afloat = chance.randrange(4, 90)
    places = tuple(chance.sample(PLACES, chance.randrange(1, 4)))
    made = (("rope", chance.randrange(1, 4)),) if chance.random() < 0.2 and name != "rope" else ()
    note = f"{name.replace('-', ' ')}: drifts in after a gale" if chance.random() < 0.12 else ""
    return Good(
        name,
        kind,
        afloat,
        afloat // 5,
        chance.randrange(1, 120),
        chance.choice((0, 0, 24, 72)),
        places,
        made,
        note,
        chance.random() < 0.03,
    )


def _key_good(good: Good) -> Good:
    """Goods that the walk-through speaks of have round values."""
    changes = {
        "lamp-oil": {"afloat": 40, "least": 8, "worth": 12},
        "hardtack": {"afloat": 60, "least": 12, "worth": 3},
        "rope": {"afloat": 50, "least": 10, "worth": 5},
        "great-lens": {"afloat": 1, "least": 0, "worth": 900},
    }
    return replace(good, retired=False, **changes[good.id]) if good.id in changes else good  # type: ignore[arg-type]


def release_43(goods: list[Good]) -> list[Good]:
    """4.3: fourteen new goods, five withdrawn, values changed beside and on top of what admins like to edit."""
    chance = random.Random("skerrylight 4.3")
    gone = {"gull-feather", "lost-raft", "rusty-awl", "bitter-root", "patched-mitts"}
    touched = chance.sample([good.id for good in goods if good.id not in KEY_GOODS], 24)
    result: list[Good] = []
    for good in goods:
        if good.id in gone:
            continue
        if good.id in touched:
            good = replace(good, worth=good.worth + chance.randrange(2, 9))
        result.append(_touch_43(good))
    for kind, names in NEW_IN_43.items():
        at = max(index for index, good in enumerate(result) if good.kind == kind)
        result[at - 3 : at - 3] = [_good(chance, name, kind) for name in names[:1]]
        result[at + 2 : at + 2] = [replace(_good(chance, name, kind), note=f"{name}: new in 4.3") for name in names[1:]]
    return result


NEW_IN_43 = {
    "food": ("samphire-pie", "cormorant-egg", "fermented-skate"),
    "fuel": ("seal-oil", "ember-brick", "paraffin-cask"),
    "tackle": ("glass-float", "longline", "eel-trap"),
    "lamp": ("fog-lamp", "prism-ring", "clockwork-shade"),
    "tool": ("sounding-lead", "ice-auger"),
}


def _touch_43(good: Good) -> Good:
    if good.id == "lamp-oil":
        return replace(good, afloat=30, worth=14)
    if good.id == "hardtack":
        return replace(
            good, afloat=55, found=(*good.found, "boathouse") if "boathouse" not in good.found else good.found
        )
    if good.id == "rope":
        return replace(good, least=12)
    if good.id == "smoked-herring":
        return replace(good, afloat=good.afloat + 7)
    if good.id == "storm-lantern":
        return replace(good, worth=77)
    if good.id == "selkie-stone":
        return replace(good, spoils=48)
    return good


def release_44(goods: list[Good]) -> list[Good]:
    """4.4 builds on 4.3: every cloth lasts, two more goods, one withdrawn."""
    result = [replace(good, worth=good.worth + 1) if good.kind == "cloth" else good for good in goods]
    result = [good for good in result if good.id != "drowned-knot"]
    chance = random.Random("skerrylight 4.4")
    return [*result, _good(chance, "skiff", "vessel"), _good(chance, "bilge-pump", "tool")]


def render(goods: list[Good], release: str) -> str:
    """The XML as the vendor writes it."""
    parts = [
        '<?xml version="1.0" encoding="UTF-8"?>\n'
        "<!--\n"
        "    Skerrylight stores: all that can wash ashore, be found or be made.\n"
        "    afloat = how many drift in the whole chart; least = refill below this; worth in shell-pence;\n"
        "    spoils = hours until it is lost, 0 for never.\n"
        "-->\n"
        f'<stores release="{release}">\n'
    ]
    kind = ""
    for good in goods:
        if good.kind != kind:
            kind = good.kind
            parts.append(f"\n    <!-- ===== {kind} ===== -->\n")
        parts.append(_record(good))
    parts.append("</stores>\n")
    return "".join(parts)


def _record(good: Good) -> str:
    if good.retired:
        return f'    <!--\n    <good id="{good.id}">\n        <kind>{good.kind}</kind>\n    </good>\n    -->\n'
    lines = [f"    <!-- {good.note} -->"] if good.note else []
    lines.append(f'    <good id="{good.id}">')
    for name in ("kind", "afloat", "least", "worth", "spoils"):
        lines.append(f"        <{name}>{getattr(good, name)}</{name}>")
    lines += [f'        <found at="{place}"/>' for place in good.found]
    lines += [f'        <made of="{what}" count="{count}"/>' for what, count in good.made]
    return "\n".join([*lines, "    </good>"]) + "\n"


def hand_edited(text: str) -> str:
    """A year on Gannet Rock: all food twice as common, single values, goods dropped and added, a block reordered."""
    text = re.sub(r"(<kind>food</kind>\s*<afloat>)(\d+)", lambda found: f"{found[1]}{int(found[2]) * 2}", text)
    text = _set(text, "lamp-oil", "afloat", "80")
    text = _set(text, "rope", "worth", "4")
    text = _set(text, "storm-lantern", "worth", "60")
    text = _set(text, "great-lens", "worth", "1500")
    text = _set(text, "selkie-stone", "worth", "1")
    text = _set(text, "bitter-root", "worth", "40")
    for dropped in ("drowned-bead", "lost-gig", "fever-salve", "wire-grapnel", "selkie-knot"):
        text = _record_of(text, dropped).sub("", text, count=1)
    own = (
        "    <!-- our own, since the spring tides -->\n"
        '    <good id="gannet-pie">\n        <kind>food</kind>\n        <afloat>6</afloat>\n        <least>1</least>\n'
        '        <worth>25</worth>\n        <spoils>24</spoils>\n        <found at="pantry"/>\n    </good>\n'
        '    <good id="rock-token">\n        <kind>charm</kind>\n        <afloat>0</afloat>\n        <least>0</least>\n'
        "        <worth>500</worth>\n        <spoils>0</spoils>\n    </good>\n"
    )
    text = _once(text, "\n    <!-- ===== fuel ===== -->", own + "\n    <!-- ===== fuel ===== -->")
    text = _once(
        text,
        '    <good id="hardtack">',
        '    <!-- raised after the hungry winter -->\n    <good id="hardtack">',
    )
    start = text.index('    <good id="cracked-wick">')
    end = _record_of(text, "signal-wick").search(text, start).end()  # type: ignore[union-attr]
    block = text[start:end]
    text = text[:start] + text[end:]
    behind = _record_of(text, "brass-mirror").search(text).end()  # type: ignore[union-attr]
    return text[:behind] + block + text[behind:]


def _record_of(text: str, name: str) -> re.Pattern[str]:
    pattern = re.compile(rf'    <good id="{re.escape(name)}">.*?</good>\n', re.DOTALL)
    assert pattern.search(text), name
    return pattern


def _set(text: str, name: str, field_name: str, value: str) -> str:
    pattern = re.compile(rf'(<good id="{name}">(?:(?!</good>).)*?<{field_name}>)[^<]*', re.DOTALL)
    changed, count = pattern.subn(lambda found: found[1] + value, text, count=1)
    assert count == 1, name
    return changed


def _once(text: str, old: str, new: str) -> str:
    assert text.count(old) == 1, old
    return text.replace(old, new)
