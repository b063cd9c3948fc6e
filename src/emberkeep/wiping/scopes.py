"""What a wipe clears: files, records and rows taken out of a planned folder, scope by scope, and what stays, and why.

Nothing is cleared that no scope names. What no role covers stays unless it was answered for; so does what the admin
made: files that programs or settings are, and data of extensions in which no player's identifier stands, unless the
scope names them under ``definitions``.
"""

from __future__ import annotations

import sqlite3
from collections import Counter
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from types import MappingProxyType
from typing import TYPE_CHECKING

from emberkeep.comparing.picking import condition
from emberkeep.databases import sqlite
from emberkeep.databases.live import BESIDE
from emberkeep.documents import reshape
from emberkeep.errors import Place, Refused, UnreadableInput, UsageError, did_you_mean, first_of
from emberkeep.fs import globs
from emberkeep.fs.overlay import Overlay
from emberkeep.fs.trees import FILE, FOLDER, Tree, read
from emberkeep.inventory.roles import Roles, selection
from emberkeep.keep.config import Config
from emberkeep.keep.locate import FILE as KEEP_FILE
from emberkeep.keep.tables.server import UNSORTED
from emberkeep.keep.tables.wiping import CLEAR, RecordPick, RowPick, Scope, Survivor
from emberkeep.wiping.identifiers import Known, dashed
from emberkeep.wiping.made_by_hand import Looked, definitions_in, tables_of
from emberkeep.wiping.results import Deletion, Exemption, Kept, RecordsGone, RowsGone, ScopeCleared, WipeResult

if TYPE_CHECKING:  # only where there is one: most servers have no such database
    from emberkeep.databases.mariadb import Connection

NONE: Mapping[str, Connection] = MappingProxyType({})
MADE = ("engine", "access", "settings", "economy", "scripts", "extensions")
"""Roles of which no wipe clears anything that it does not name."""
SAVED = ("world", "players", "progress")
"""Roles that are cleared, of whose databases others may hold tables."""
OF_EXTENSIONS = ("extension-data", "databases")
"""Roles in which the admin's definitions stand beside what belongs to single players."""
PLAYERS = ("extension-data", "players", "progress")
"""Scopes of single players; the first of those asked for takes what was unsorted and is to be cleared."""
UNASKED = "no role covers it, and what is unsorted is never wiped unasked"
MOST_NAMED = 12


def scope_of(config: Config, name: str) -> Scope:
    """A scope by its name. UsageError for one that there is not."""
    found = next((scope for scope in config.wiping.scopes if scope.name == name), None)
    if found is None:
        known = [scope.name for scope in config.wiping.scopes]
        listed = f"known: {', '.join(known) or 'none'}; 'emberkeep keep-toml scopes' tells how to add one"
        raise UsageError(f"there is no scope '{name}'", hint=did_you_mean(name, known, listed))
    return found


class WipeOperation:
    """The clearing of some scopes out of a planned folder. ``lenient``: a scope that clears nothing is no fault;
    ``in_use``: a server may be using the databases; ``served``: those of database servers, by what the keep calls
    them: their rows are only counted here."""

    def __init__(
        self,
        folder: Overlay,
        config: Config,
        scopes: Sequence[str],
        known: Known,
        *,
        lenient: bool = False,
        in_use: bool = False,
        served: Mapping[str, Connection] = NONE,
    ) -> None:
        self.in_use, self.served = in_use, served
        self.deletions: list[Deletion] = []
        self.folder, self.config, self.known, self.lenient = folder, config, known, lenient
        self.scopes = [scope_of(config, name) for name in dict.fromkeys(scopes)]
        self.roles = Roles(config.roles)
        self.entries = folder.mark().entries
        self.survivors = [_Surviving(one, config, folder, known) for one in config.wiping.survivors]
        self.survived: Counter[str] = Counter()
        self.spared: dict[str, str] = {}
        self.kept_by_scope = {
            scope.name: selection(scope.stays, config.roles, config.world.tiles) for scope in self.scopes
        }
        self.players: set[str] = set()
        self.places = Looked(folder, known, self.roles)

    def run(self) -> WipeResult:
        """Clear them. Refused where a scope would clear what the admin made, or clears nothing or everything."""
        found = tuple(self._clear(scope) for scope in self.scopes)
        pairs = zip(self.scopes, found, strict=True)
        empty = [(scope, one) for scope, one in pairs if one.nothing and not scope.sets]
        if empty and not self.lenient:
            raise _clears_nothing(*empty[0])
        survived = dict(self.survived + Counter(self.spared.values()))
        survives = {one.rule.name: survived.get(one.rule.name, 0) for one in self.survivors}
        people = frozenset(self.players)
        return WipeResult(found, survives, tuple(self._kept()), people, tuple(self.deletions))

    # --- one scope ---------------------------------------------------------------

    def _clear(self, scope: Scope) -> ScopeCleared:
        stays: dict[tuple[str, str], Exemption] = {}
        going = self._with_logs([path for path in self._selected(scope) if not self._stays(scope, path, stays)])
        self._check_made(scope, going)
        players = {ident for path in going for ident in self.places.people(path)}
        size = sum(self.entries[path].size for path in going)
        for path in going:
            self.folder.remove(path)
        self._remove_empty(scope, going)
        records, of_records = self._records(scope)
        rows, of_rows = self._rows(scope)
        players |= of_records | of_rows
        self.players |= players
        return ScopeCleared(scope.name, tuple(going), size, records, rows, len(players), tuple(stays.values()))

    def _selected(self, scope: Scope) -> list[str]:
        patterns = scope.picked.files
        takers = [name for name in PLAYERS if name in {one.name for one in self.scopes}]
        if takers and takers[0] == scope.name:
            patterns += tuple(pattern for pattern, said in self.config.wiping.unsorted.items() if said == CLEAR)
        if not patterns:
            return []
        wanted = selection(patterns, self.config.roles, self.config.world.tiles)
        there = self.folder.entries()
        found = [path for path, entry in self.entries.items() if entry.kind is not FOLDER and wanted(path)]
        if found and len(found) == sum(entry.kind is not FOLDER for entry in self.entries.values()):
            raise Refused(
                f"the scope '{scope.name}' would clear everything", hint=f"narrow [scopes.{scope.name}] in {KEEP_FILE}"
            )
        return [path for path in found if path in there]

    def _with_logs(self, selected: list[str]) -> list[str]:
        """A database's logs go with it, and stay with it: a log beside another database, or none, is damage."""
        chosen = set(selected)
        own = [path for path in selected if not self._is_log(path) or _database_of(path) in chosen]
        there = self.folder.entries()
        beside = [path + end for path in own for end in BESIDE]
        return [*own, *(log for log in beside if log in there and log not in chosen)]

    def _is_log(self, path: str) -> bool:
        return path.endswith(BESIDE) and _database_of(path) in self.entries

    def _stays(self, scope: Scope, path: str, stays: dict[tuple[str, str], Exemption]) -> bool:
        why = self._why_it_stays(scope, path)
        if why:
            folder = path.rpartition("/")[0]
            before = stays.get((folder, why))
            stays[folder, why] = Exemption(before.path if before else path, why, before.count + 1 if before else 1)
        return bool(why)

    def _why_it_stays(self, scope: Scope, path: str) -> str:
        if self.kept_by_scope[scope.name](path):
            return f"[scopes.{scope.name}] says so"
        for survivor in self.survivors:
            if survivor.takes_file(path):
                self.spared.setdefault(path, survivor.rule.name)
                return f"survives: {survivor.rule.name}"
        if self.roles.of(path) == UNSORTED:
            answer = next(
                (said for pattern, said in self.config.wiping.unsorted.items() if globs.matches(path, [pattern])), ""
            )
            return "" if answer == CLEAR else UNASKED
        return ""

    def _check_made(self, scope: Scope, going: Iterable[str]) -> None:
        """Refused where something of the admin's own would go that the scope does not name."""
        allowed = globs.combined(scope.definitions)
        wrong = [f"{path} ({why})" for path in going if not allowed.fullmatch(path) and (why := self._made(path))]
        if wrong:
            raise Refused(
                f"the scope '{scope.name}' would clear what was made by hand: {first_of(wrong, MOST_NAMED, '; ')}",
                hint=f"narrow [scopes.{scope.name}] (records = [{{ file, at }}] for part of a file), "
                "or name each of them there under definitions",
            )

    def _made(self, path: str) -> str:
        """Why a file is the admin's own; "" when it is not."""
        role = self.roles.of(path)
        if role in MADE:
            return role
        if role in SAVED and self.entries[path].kind is FILE:
            return self._of_others(path, role)
        if role not in OF_EXTENSIONS or self.entries[path].kind is not FILE:
            return ""
        return definitions_in(self.folder, path, self.places)

    def _of_others(self, path: str, role: str) -> str:
        """The tables of a database that others than the scope's hold something in: a file of one is never cleared
        whole for them."""
        if not sqlite.is_sqlite(next(iter(self.folder.chunks(path)), b"")[:16]):
            return ""
        owned, own = tables_of(self.folder, path, self.places, more_than=sqlite.FEW_ROWS)
        if role == "world":
            asked = {scope.name for scope in self.scopes}.intersection(PLAYERS)
            return f"tables of players in it: {', '.join(owned[:4])}" if owned and own and not asked else ""
        return f"tables in it without players: {', '.join(own[:4])}" if owned and own else ""

    def _remove_empty(self, scope: Scope, gone: Sequence[str]) -> None:
        """Folders that the scope names and that hold nothing any more."""
        if not gone:
            return
        wanted = selection(scope.picked.files, self.config.roles, self.config.world.tiles)
        self.folder.remove_emptied(gone, wanted)

    # --- records and rows --------------------------------------------------------------

    def _records(self, scope: Scope) -> tuple[tuple[RecordsGone, ...], set[str]]:
        found: list[RecordsGone] = []
        players: set[str] = set()
        for pick in scope.picked.records:
            for path in self._files(pick.file):
                gone = self._take_out(pick, path)
                if gone:
                    found.append(RecordsGone(path, pick.at, len(gone), gone[0].line))
                players |= {mention.known for one in gone for mention in self.known.in_text(one.text.encode())}
        return tuple(found), players

    def _files(self, pattern: str) -> list[str]:
        there = self.folder.entries()
        return [path for path, entry in there.items() if entry.kind is FILE and globs.matches(path, [pattern])]

    def _take_out(self, pick: RecordPick, path: str) -> Sequence[reshape.Found]:
        wanted = condition(pick.where) if pick.where else None

        def goes(one: reshape.Found) -> bool:
            if wanted is not None and not wanted(one.name, [one.node]):
                return False
            for survivor in self.survivors:
                if survivor.takes_record(path, pick.at, one):
                    self.survived[survivor.rule.name] += 1
                    return False
            return True

        data, gone = reshape.without_records(path, read(self.folder, path), pick.at, goes)
        if gone:
            self.folder.write(path, data)
        return gone

    def _rows(self, scope: Scope) -> tuple[tuple[RowsGone, ...], set[str]]:
        found: list[RowsGone] = []
        players: set[str] = set()
        for pick in scope.picked.rows:
            connection = self.served.get(pick.database)
            picks = (
                [self._count(pick, connection)]
                if connection is not None
                else [self._delete(pick, path) for path in self._files(pick.database)]
            )
            for one, people in picks:
                players |= people
                if one.count:
                    found.append(one)
        return tuple(found), players

    def _count(self, pick: RowPick, connection: Connection) -> tuple[RowsGone, set[str]]:
        """The rows of a database server that will go, counted: each once, whatever else takes them."""
        columns = [column.name for column in connection.columns(pick.table)]
        clauses = [connection.condition(pick.where)]
        before = [one.where for one in self.deletions if (one.database, one.table) == (pick.database, pick.table)]
        clauses += [f"not coalesce(({where}), 0)" for where in before]
        for survivor in self.survivors:
            for name, where, ids in survivor.rows(pick.database, pick.table):
                clause = _spared_there(where, ids, columns, connection)
                self.survived[name] += connection.count(pick.table, f"{clauses[0]} and {clause}")
                clauses.append(f"not coalesce({clause}, 0)")
        where = " and ".join(clauses)
        people: set[str] = set()
        count = 0
        for row in connection.rows(f"select * from {connection.quoted(pick.table)} where {where}"):
            count += 1
            people |= {known for value in row if (known := self.places.value(value))}
        self.deletions.append(Deletion(pick.database, pick.table, where, count))
        return RowsGone(pick.database, pick.table, count, connection.count(pick.table)), people

    def _delete(self, pick: RowPick, path: str) -> tuple[RowsGone, set[str]]:
        table = sqlite.quoted(pick.table)
        spared = [clause_of for survivor in self.survivors for clause_of in survivor.rows(path, pick.table)]

        def act(database: sqlite3.Connection) -> tuple[int, int, set[str]]:
            try:
                whole = database.execute(f"select count(*) from {table}").fetchone()[0]
                clauses, values = [sqlite.condition(database, pick.table, pick.where)], []
                for survivor, where, ids in spared:
                    wanted = sqlite.condition(database, pick.table, where)
                    clause, more = _spared(wanted, ids, sqlite.columns(database, pick.table))
                    counted = database.execute(f"select count(*) from {table} where {clauses[0]} and {clause}", more)
                    self.survived[survivor] += counted.fetchone()[0]
                    clauses.append(f"not coalesce({clause}, 0)")
                    values += more
                where = " and ".join(clauses)
                people = set()
                for row in database.execute(f"select * from {table} where {where}", values):
                    people |= {known for value in row if (known := self.places.value(value))}
                count = database.execute(f"delete from {table} where {where}", values).rowcount
            except (sqlite3.Error, sqlite3.Warning) as error:
                raise UnreadableInput(
                    f"{error} (table {pick.table})", place=Place(path), hint=f"put 'rows' in {KEEP_FILE} right"
                ) from error
            return count, whole, people

        data, (count, whole, people) = sqlite.rewritten(self.folder, path, act, in_use=self.in_use)
        if count:
            self.folder.write(path, data)
        return RowsGone(path, pick.table, count, whole), people

    # --- what is kept ------------------------------------------------------------------

    def _kept(self) -> Iterator[Kept]:
        """By role, what stays wholly, and why."""
        files: Counter[str] = Counter()
        sizes: Counter[str] = Counter()
        for path, entry in self.folder.entries().items():
            if entry.kind is not FOLDER:
                role = self.roles.of(path)
                files[role] += 1
                sizes[role] += entry.size
        asked = {scope.name for scope in self.scopes}
        for role, count in sorted(files.items(), key=lambda item: (-item[1], item[0])):
            yield Kept(role, count, sizes[role], _why(role, asked))


def _clears_nothing(scope: Scope, found: ScopeCleared) -> Refused:
    """What is said of a scope that clears nothing: that all it reaches stays, and why, or that it reaches nothing."""
    hint = f"leave it out, or put [scopes.{scope.name}] in {KEEP_FILE} right"
    if found.stays:
        more = {one.path: f" and {one.count - 1} more" if one.count > 1 else "" for one in found.stays}
        named = "; ".join(f"{one.path}{more[one.path]} ({one.why})" for one in found.stays[:MOST_NAMED])
        if any(one.why == UNASKED for one in found.stays):
            hint = f"--unsorted 'GLOB=clear' clears what is unsorted; else {hint}"
        return Refused(f"the scope '{scope.name}' would clear nothing: all that it reaches stays: {named}", hint=hint)
    picked = scope.picked
    wanted = ", ".join((*picked.files, *(pick.file for pick in picked.records))) or "its rows"
    return Refused(f"the scope '{scope.name}' would clear nothing: nothing here fits {wanted}", hint=hint)


def _why(role: str, asked: set[str]) -> str:
    scope = {"world": "map"}.get(role, role)
    reasons = {
        "access": "who may come in and who may do what",
        "extension-data": "definitions: no player's identifier in them",
        UNSORTED: UNASKED,
        "logs": "the past",
        "scratch": "not part of the game",
    }
    if scope in ("map", "players", "progress") or (role == "extension-data" and role not in asked):
        return "survives on purpose" if scope in asked else f"the scope '{scope}' is not wiped"
    return reasons.get(role, "the server as it is set up")


def _database_of(log: str) -> str:
    return log.rpartition("-")[0]


def _spared(wanted: str, ids: frozenset[str] | None, columns: Sequence[str]) -> tuple[str, list[str]]:
    """The SQL condition of rows that survive, and its values."""
    clauses, values = [wanted], []
    if ids is not None:
        spelled = sorted({text for ident in ids for text in _spellings(ident)})
        marks = ", ".join("?" * len(spelled))
        clauses.append("(" + " or ".join(f"{sqlite.quoted(name)} in ({marks})" for name in columns) + ")")
        values = spelled * len(columns)
    return " and ".join(clauses), values


def _spared_there(where: str, ids: frozenset[str] | None, columns: Sequence[str], connection: Connection) -> str:
    """The same for a database server, its values spelled within."""
    clauses = [connection.condition(where)]
    if ids is not None:
        spellings = sorted({text for ident in ids for text in _spellings(ident)})
        listed = ", ".join(map(connection.literal, spellings))
        some = " or ".join(f"cast({connection.quoted(name)} as char) in ({listed})" for name in columns)
        clauses.append(f"({some})" if spellings else "(0)")
    return f"({' and '.join(clauses)})"


def _spellings(ident: str) -> Iterator[str]:
    yield ident
    if len(ident) == 32:
        yield from (dashed(ident), dashed(ident).upper(), ident.upper())


class _Surviving:
    """What survives on purpose, ready to be asked."""

    def __init__(self, survivor: Survivor, config: Config, tree: Tree, known: Known) -> None:
        self.rule, self.tree = survivor, tree
        self._wanted: Callable[[str], bool] = (
            selection(survivor.picked.files, config.roles, config.world.tiles)
            if survivor.picked.files
            else lambda path: False
        )
        self._conditions = [(pick, condition(pick.where) if pick.where else None) for pick in survivor.picked.records]
        self.people: Known | None = None
        if survivor.of:
            if survivor.of not in tree.entries():
                raise UsageError(
                    f"there is no {survivor.of}, of whose people '{survivor.name}' survives", hint="[[survives]] of"
                )
            ids = {mention.known for mention in known.in_text(read(tree, survivor.of))}
            names = {name: ident for name, ident in known.names.items() if ident in ids}
            self.people = Known(frozenset(ids), names)

    def takes_file(self, path: str) -> bool:
        """Whether a file survives."""
        if not self._wanted(path):
            return False
        if self.people is None:
            return True
        if next(self.people.in_name(path), None) is not None:
            return True
        return next(self.people.in_text(read(self.tree, path)), None) is not None

    def takes_record(self, path: str, at: str, one: reshape.Found) -> bool:
        """Whether a record survives."""
        for pick, wanted in self._conditions:
            if pick.at != at or not globs.matches(path, [pick.file]):
                continue
            if wanted is not None and not wanted(one.name, [one.node]):
                continue
            if self.people is None or next(self.people.in_text(one.text.encode()), None) is not None:
                return True
        return False

    def rows(self, path: str, table: str) -> Iterator[tuple[str, str, frozenset[str] | None]]:
        """Conditions of rows that survive: whose, SQL, and the people they must belong to."""
        for pick in self.rule.picked.rows:
            if pick.table == table and globs.matches(path, [pick.database]):
                yield self.rule.name, pick.where, self.people.ids if self.people else None
