"""Very many paths in their order, each with a number, in little memory.

In a ``dict`` a path takes some 150 bytes. Here it takes as many as its name is long, in one buffer; one is found by
bisection of every 64th, and the stretch that follows is kept at hand for the next.
"""

from __future__ import annotations

from array import array
from bisect import bisect_right
from collections.abc import ItemsView, Iterable, Iterator, Mapping, Sequence, ValuesView
from itertools import chain, islice
from operator import lt

_STRETCH = 64


class SortedPaths(Mapping[str, int]):
    """Paths with their numbers, by default those of their order. ValueError where they do not ascend."""

    def __init__(self, paths: Iterable[str], numbers: Sequence[int] | None = None) -> None:
        names = bytearray()
        self._heads: list[bytes] = []
        self._starts = array("Q")
        self._length = 0
        waiting, last = iter(paths), ""
        while stretch := list(islice(waiting, _STRETCH)):
            if (self._heads and not last < stretch[0]) or not all(map(lt, stretch, stretch[1:])):
                raise ValueError("the paths do not ascend")
            self._heads.append(_name(stretch[0]))
            self._starts.append(len(names))
            self._length += len(stretch)
            names += b"\0" + _name("\0".join(stretch))
            last = stretch[-1]
        self._starts.append(len(names))
        self._names = bytes(names + b"\0")
        self._numbers = numbers
        self._near: tuple[int, dict[str, int]] = (-2, {})
        """The stretch that is at hand, and where its paths stand: nearly always the next one asked for is near."""
        self._asked = -2

    def __len__(self) -> int:
        return self._length

    def __iter__(self) -> Iterator[str]:
        return chain.from_iterable(map(self._stretch, range(len(self._heads))))

    def _stretch(self, at: int) -> list[str]:
        names = self._names[self._starts[at] + 1 : self._starts[at + 1]]
        return names.decode("utf-8", "surrogatepass").split("\0")

    def __getitem__(self, path: str) -> int:
        near = self._near  # other threads may look for other paths meanwhile
        number = near[1].get(path)
        if number is None:
            number = self._further(path, near[0])
        return number if self._numbers is None else self._numbers[number]

    def _further(self, path: str, near: int) -> int:
        """Where a path stands that is not near the one that was asked for before."""
        name = _name(path)
        at = bisect_right(self._heads, name) - 1
        if at == near or at < 0 or b"\0" in name:
            raise KeyError(path)
        if at in (near + 1, self._asked):  # whoever goes on in order asks for all of it
            first = at * _STRETCH
            found = {path: first + number for number, path in enumerate(self._stretch(at))}
            self._near = at, found
            return found[path]
        self._asked = at
        start = self._starts[at]
        place = self._names.find(b"\0%b\0" % name, start, self._starts[at + 1] + 1)
        if place < 0:
            raise KeyError(path)
        return at * _STRETCH + self._names.count(b"\0", start, place)

    def items(self) -> ItemsView[str, int]:
        """Each path with its number."""
        return _Items(self)

    def values(self) -> ValuesView[int]:
        """The numbers, in the order of the paths."""
        return _Values(self)

    @property
    def numbers(self) -> Sequence[int]:
        """The same, to be counted."""
        return range(self._length) if self._numbers is None else self._numbers


class _Items(ItemsView[str, int]):
    """Without looking each path up."""

    _mapping: SortedPaths

    def __iter__(self) -> Iterator[tuple[str, int]]:
        return zip(self._mapping, self._mapping.numbers, strict=True)


class _Values(ValuesView[int]):
    """Without the paths."""

    _mapping: SortedPaths

    def __iter__(self) -> Iterator[int]:
        return iter(self._mapping.numbers)


def _name(path: str) -> bytes:
    """In the order of strings, as UTF-8 is; with it what stands for bytes that are none."""
    return path.encode("utf-8", "surrogatepass")
