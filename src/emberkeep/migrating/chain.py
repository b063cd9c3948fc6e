"""The chain of recipes that leads from one version to another."""

from __future__ import annotations

import re
from pathlib import Path

from emberkeep.errors import Place, Refused, UnreadableInput
from emberkeep.inventory.versions import ordering
from emberkeep.migrating.recipe import Recipe


def chain(recipes: list[Recipe], old: str, new: str) -> list[Recipe]:
    """The recipes that lead from one version to another, link by link.

    Refused for a downgrade, and where a link is missing, with what there is. Versions are compared as versions: 4.2
    and 4.2.0 are the same.
    """
    if ordering(_trimmed(old)) > ordering(_trimmed(new)):
        raise Refused(
            f"the saves are of {old}, newer than {new}; a world that a newer version has touched never goes back",
            hint="restore a snapshot that was taken before the newer version ran",
        )
    found: list[Recipe] = []
    at = old
    while not same_version(at, new):
        limit = ordering(_trimmed(new))
        ahead = [one for one in recipes if same_version(one.old, at) and ordering(_trimmed(one.new)) <= limit]
        if not ahead:
            raise Refused(
                f"there is no recipe that leads from {at} towards {new}" + (f" ({_which_exist(recipes)})"),
                place=Place(str(recipes[0].path.parent)) if recipes else None,
                hint="put the recipe of that step beside the others, or draft one: emberkeep migrate --draft FROM TO",
            )
        found.append(min(ahead, key=lambda recipe: ordering(recipe.new)))
        at = found[-1].new
    return found


def _which_exist(recipes: list[Recipe]) -> str:
    return "there are " + ", ".join(recipe.name for recipe in recipes) if recipes else "there is none at all"


def _trimmed(version: str) -> str:
    return re.sub(r"(?:\.0)+$", "", version)


def same_version(one: str, other: str) -> bool:
    """Whether two versions are the same: 4.2 and 4.2.0 are."""
    return _trimmed(one) == _trimmed(other)


def is_of(text: str, wanted: str) -> bool:
    """Whether a version that something tells is the one that is wanted: 4.3.1 is of 4.3, and 4.3 of 4.3.0."""
    return same_version(text, wanted) or text.startswith(f"{wanted}.") or wanted.startswith(f"{text}.")


def require_known(recipes: list[Recipe], path: Path) -> None:
    """UnreadableInput where two recipes tell the same version step."""
    seen: dict[tuple[str, str], Recipe] = {}
    for recipe in recipes:
        key = _trimmed(recipe.old), _trimmed(recipe.new)
        if key in seen:
            raise UnreadableInput(
                f"two recipes are for {recipe.name}: {seen[key].path} and {recipe.path}",
                place=Place(str(path)),
                hint="remove one of them",
            )
        seen[key] = recipe
