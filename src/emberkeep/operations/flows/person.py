"""One player's state put back as a snapshot has it, and nobody else's, as a run."""

from __future__ import annotations

from dataclasses import dataclass

from emberkeep.fs.folder_tree import FolderTree
from emberkeep.fs.trees import Tree, whole
from emberkeep.inventory.roles import Roles
from emberkeep.keep.keep import Keep
from emberkeep.operations.engine.kind import RunKind
from emberkeep.operations.engine.step import FileStep, Notes, RunContext, Step
from emberkeep.operations.flows import wipe_preview
from emberkeep.operations.steps.snapshot import SnapshotStep
from emberkeep.process.signs import refuse_if_running
from emberkeep.store.store import Store
from emberkeep.store.tree import snapshot_tree
from emberkeep.wiping import persons
from emberkeep.wiping.identifiers import people
from emberkeep.wiping.persons import Person


@dataclass(frozen=True)
class Request:
    """Whose state, by an id or a name, and of which snapshot: its number."""

    target: str
    player: str


def who(keep: Keep, text: str, *trees: Tree) -> Person:
    """Who is meant, of everybody whom any of some trees knows."""
    everybody: dict[str, str] = {}
    for tree in trees:
        for ident, name in people(tree, keep.config).items():
            everybody[ident] = everybody.get(ident, "") or name
    words = wipe_preview.words_of_the_game(keep, trees[-1], everybody) - {text}
    return persons.person(text, everybody, words)


def steps(keep: Keep, store: Store, request: Request) -> list[Step]:
    """The steps of putting one player back. Refused while the server runs: it would write over it."""
    refuse_if_running(keep, "it would write over what is put back")
    then = snapshot_tree(store, request.target)
    person = who(keep, request.player, then, whole(FolderTree(keep.require_server())))

    def put(context: RunContext) -> Notes:
        found = persons.put_back(context.folder, then, Roles(context.keep.config.roles), person)
        notes = Notes([one.words for one in found.put] or ["all is as it was already"])
        notes.warnings += found.staying
        return notes

    title = f"put back what is {person.words}'s, as snapshot {request.target} has it"
    return [
        SnapshotStep(f"before putting {person.words} back", "restore of one player"),
        FileStep("player", title, put),
    ]


KIND = RunKind(
    "player",
    Request,
    title=lambda request: f"{request.player} put back as of snapshot {request.target}",
    steps=steps,
)
