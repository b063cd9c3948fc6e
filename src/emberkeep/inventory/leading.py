"""Whether a value in settings names a folder or file of the server."""

from __future__ import annotations


def leads_to(value: str, path: str) -> bool:
    """Whether a setting's value names a folder or file: by its path or the end of that, by its name, or without its
    ending."""
    return bare(value) in spellings(path)


def bare(value: str) -> str:
    """A value as a path is compared: slashes alone, none around it."""
    return value.strip().replace("\\", "/").removeprefix("./").strip("/")


def spellings(path: str) -> set[str]:
    """All that a value may say to name ``path``."""
    name = path.rsplit("/", 1)[-1]
    parts = path.split("/")
    ends = {"/".join(parts[at:]) for at in range(len(parts))}
    return ends | ({name.split(".", 1)[0]} if "." in name else set())
