"""Values that a wipe sets: its number, seed, size and name, and texts in settings and the launch script."""

from __future__ import annotations

import random
import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime

from emberkeep.documents import edit
from emberkeep.documents.encoding import decode
from emberkeep.errors import Place, Refused, UsageError
from emberkeep.fs.overlay import Overlay
from emberkeep.fs.trees import Tree, read
from emberkeep.keep.config import Config
from emberkeep.keep.locate import FILE as KEEP_FILE
from emberkeep.keep.secrets import secret
from emberkeep.keep.tables.wiping import SetText, Wiping, out_of_range
from emberkeep.survey import landmarks

SAME, RANDOM, LIST = "same", "random", "list"
USUAL = (1, 2**31 - 1)
"""The range that random seeds are taken from where nothing tells the engine's: most engines take 31 bits."""
_RANGE = re.compile(r"(-?\d[\d_,]*)\s*(?:to|\.\.\.?|–|-|and|through)\s*(-?\d[\d_,]*)", re.IGNORECASE)


@dataclass(frozen=True)
class Wiped:
    """An earlier wipe. ``seed``: the one it set; ``left``: the one that was there before it; "" where not known."""

    when: datetime
    seed: str = ""
    left: str = ""
    scopes: tuple[str, ...] = ()
    run: int = 0


@dataclass(frozen=True)
class Values:
    """What a wipe's texts tell. ``seed`` and ``size``: those of now where they stay; "" where nothing tells them."""

    number: int
    date: str
    seed: str
    size: str
    scopes: str
    server: str

    @property
    def placeholders(self) -> dict[str, str]:
        """They, by the names that templates use."""
        return {
            "number": str(self.number),
            "date": self.date,
            "seed": self.seed,
            "size": self.size,
            "scopes": self.scopes,
            "server": self.server,
        }


@dataclass(frozen=True)
class Asked:
    """What the call or the event says of seed and size: "" leaves it to keep.toml. ``seed``: a seed or a way to choose
    one."""

    seed: str = ""
    size: str = ""


def choose(
    config: Config, tree: Tree, scopes: Sequence[str], earlier: Sequence[Wiped], asked: Asked, now: datetime
) -> Values:
    """The values of the next wipe. Refused for a seed that the engine does not take or that was used lately.

    ``earlier``: wipes, oldest first. Random seeds are drawn anew at each call.
    """
    settings = config.wiping
    there = landmarks.measure_facts(tree, config)
    number = len(settings.earlier) + len(earlier) + 1
    seed = _seed(config, tree, there.get("seed", ""), earlier, asked.seed or settings.seed)
    size = asked.size or (settings.sizes[(number - 1) % len(settings.sizes)] if settings.sizes else "")
    place = now.astimezone(config.tz)
    return Values(
        number,
        f"{place.day} {place:%B %Y}",
        seed,
        size or there.get("size", ""),
        " and ".join(filter(None, (", ".join(scopes[:-1]), *scopes[-1:]))),
        config.name,
    )


def current(config: Config, tree: Tree) -> tuple[str, str]:
    """Seed and size as they are; "" where nothing tells."""
    there = landmarks.measure_facts(tree, config)
    return there.get("seed", ""), there.get("size", "")


def _seed(config: Config, tree: Tree, now: str, earlier: Sequence[Wiped], how: str) -> str:
    settings = config.wiping
    if not how or how == SAME:
        return now
    limits = limits_of(config, tree)
    lately = used(earlier, now, settings.unused_for)
    if how == RANDOM:
        least, most = limits or USUAL
        free = most - least + 1 - sum(least <= int(seed) <= most for seed in lately if re.fullmatch(r"-?\d+", seed))
        if free <= 0:
            raise Refused(
                f"every seed from {least} to {most} was used in the last {settings.unused_for} wipes",
                hint="say --seed, or lower unused-for in [wipe]",
            )
        while True:
            drawn = str(random.SystemRandom().randint(least, most))
            if drawn not in lately:
                return drawn
    if how == LIST:
        return _next_of_list(settings, limits, lately)
    wrong = out_of_range(how, limits)
    if wrong:
        raise UsageError(wrong, hint=f"the range stands in {_where(config)}")
    if how in lately:
        raise Refused(
            f"the seed {how} was used within the last {settings.unused_for} wipes",
            hint=f"take another, or set unused-for in [wipe] of {KEEP_FILE}",
        )
    return how


def _next_of_list(wiping: Wiping, limits: tuple[int, int] | None, lately: Sequence[str]) -> str:
    """The first one behind the last one used."""
    if not wiping.seeds:
        raise UsageError("the list of seeds is empty", hint=f'set seeds = ["…"] in [wipe] of {KEEP_FILE}')
    behind = next((wiping.seeds.index(seed) + 1 for seed in reversed(lately) if seed in wiping.seeds), 0)
    turned = (*wiping.seeds[behind:], *wiping.seeds[:behind])
    free = [seed for seed in turned if seed not in lately]
    if not free:
        raise Refused(
            f"every seed of the list was used within the last {wiping.unused_for} wipes",
            hint=f"add some to seeds in [wipe] of {KEEP_FILE}",
        )
    wrong = out_of_range(free[0], limits)
    if wrong:
        raise UsageError(wrong, place=Place(KEEP_FILE), hint="put seeds in [wipe] right")
    return free[0]


def used(earlier: Sequence[Wiped], now: str, rest: int) -> tuple[str, ...]:
    """The seeds of the last ``rest`` wipes and the one of now, oldest first."""
    if rest <= 0:
        return (now,) if now else ()
    found = [seed for wipe in earlier[-rest:] for seed in (wipe.left, wipe.seed) if seed]
    return tuple(dict.fromkeys([*found, *([now] if now else [])]))


def _where(config: Config) -> str:
    return f"[wipe] of {KEEP_FILE}" if config.wiping.range else f"the comment above it in {config.launch.script}"


def limits_of(config: Config, tree: Tree) -> tuple[int, int] | None:
    """The seeds that the engine takes: as keep.toml tells, else as a comment above the seed in the launch script
    does; None where neither."""
    if config.wiping.range is not None:
        return config.wiping.range
    script, key = config.launch.script, config.launch.keys.get("seed")
    if not key or script not in tree.entries():
        return None
    data = read(tree, script)
    line, source = edit.line(script, data, key), decode(data)
    if line is None or source is None:
        return None
    above = []
    for text in reversed(source.text.splitlines()[: line - 1]):
        if not re.match(r"\s*(?:#|::|rem\b|;|//)", text, re.IGNORECASE):
            break
        above.append(text)
    found = _RANGE.search(" ".join(reversed(above)))
    if found is None:
        return None
    least, most = (int(re.sub(r"[_,]", "", part)) for part in found.groups())
    return (least, most) if least < most else None


# --- setting them ------------------------------------------------------------------------


@dataclass(frozen=True)
class Setting:
    """A value that is set. ``before``: None where the key is new; both are "" where it is a secret."""

    file: str
    field: str
    before: str | None
    after: str
    secret: bool = False


def texts_of(config: Config, values: Values, scopes: Sequence[str], further: Sequence[SetText]) -> list[SetText]:
    """What a wipe of ``scopes`` sets: seed, size and name in the launch script, then what [wipe], the scopes and the
    event say; of several that set one key, the last."""
    launch = config.launch
    texts = {
        "seed": "{seed}" if values.seed else "",
        "size": "{size}" if values.size else "",
        "name": config.wiping.name,
    }
    own = [
        SetText(launch.script, launch.keys[what], text)
        for what, text in texts.items()
        if text and launch.script and what in launch.keys
    ]
    of_scopes = [one for scope in config.wiping.scopes if scope.name in scopes for one in scope.sets]
    found: dict[tuple[str, str], SetText] = {}
    for one in (*own, *config.wiping.sets, *of_scopes, *further):
        found[one.file, one.key] = one
    return list(found.values())


def set_all(folder: Overlay, texts: Sequence[SetText], values: Values, environment: Mapping[str, str]) -> list[Setting]:
    """Set them in a planned folder. Refused where a file, a key of a script, or a secret is not there."""
    found = []
    for one in texts:
        if one.file not in folder.entries():
            raise Refused(f"there is no file {one.file} to set {one.key} in", hint=f"put [wipe] in {KEEP_FILE} right")
        data = read(folder, one.file)
        before = edit.value(one.file, data, one.key)
        after = _secret(one, environment) if one.secret else one.text.format_map(values.placeholders)
        if after == before and one.text in ("{seed}", "{size}"):
            continue  # it stays
        changed = edit.set_value(one.file, data, one.key, after)
        folder.write(one.file, changed)
        hidden = one.secret
        found.append(Setting(one.file, one.key, "" if hidden and before else before, "" if hidden else after, hidden))
    return found


def _secret(one: SetText, environment: Mapping[str, str]) -> str:
    return secret(one.secret_env, one.secret_file, environment, f"{one.key} for {one.file}")
