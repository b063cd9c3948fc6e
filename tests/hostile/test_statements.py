"""SQL that a vendor ships, or a merge made: of the one database that was dumped, or refused."""

from __future__ import annotations

import pytest

from emberkeep.databases.statements import refuse_elsewhere, statements
from emberkeep.errors import Refused

ELSEWHERE = (
    "use other", "delete from other.t", "delete t from other.t t", "update x join other.t o set x.a = o.a",
    "drop table if exists a, other.t", "rename table a to other.a", "insert low_priority into other.t values (1)",
    "insert into `other`.`t` values (1)", "insert other.t values (1)", "replace other.t set a = 1",
    "with c as (select 1) delete from other.t", "create trigger g after insert on t for each row delete from other.t",
    "create trigger g after insert on other.t for each row set @a = 1", "truncate other.t", "truncate table other.t",
    "alter table other.t add column a int", "alter table a rename to other.b", "alter table a rename other.b",
    "drop view v, other.w", "create view other.v as select 1", "lock tables other.t write", "create index i on other.t (a)",
    "/*!drop*/ /*!database*/ other", "/*!50001 drop database*/ other", "drop/**/database x", "create schema x",
    "alter database other character set utf8", "insert into t select * from other.t", "select other.f(1)",
    "update t, other.u set t.a = 1", "delete t from t, other.u", "update t set a = other.t.b", "insert ignore into other.t set a = 1",
    "create table t like other.u", "alter table t add foreign key (a) references other.u (a)", "delete /* x */ from /* y */ other . t",
    "call other.p()", "call other.p", "create procedure p() delete from other.t", "drop procedure other.p",
    "create procedure other.p() delete from t", "create function f() returns int return (select a from other.t)",
    "delete from -- x\n other.t", "DELETE FROM OTHER.T", "update (other.t) set a = 1",
)  # fmt: skip
STRANGE = (
    "execute immediate 'drop database other'", "prepare s from 'x'", "grant all on *.* to x", "revoke all on a.* from x",
    "select 1 into outfile '/tmp/x'", "select a into dumpfile '/tmp/x' from t", "load data infile 'x' into table t",
    "create procedure p() execute immediate 'drop database other'", "create event e on schedule every 1 day do delete from t", "create user x", "drop user x", "alter user x", "set global a = 1",
    "set @@global.a = 1", "set persist a = 1", "set password = 'x'", "select load_file('/etc/passwd')", "flush tables",
    "shutdown", "kill 3", "handler t open", "do sleep(1)", "install plugin x soname 'y'", "reset master",
)  # fmt: skip
OURS = (
    "use ours", "use `Ours`", "delete from t where a.b = 'other.t'", "select t.a, u.b from t join u on t.id = u.id",
    "insert into ours.t values ('from other.t')", "update t a join u b on a.id = b.id set a.x = b.y where b.z in (1, 2)",
    "create table t (a int, b decimal(3.2), key (a)) engine = InnoDB", "alter table t add column a int default 1.5",
    "create or replace view v as select t.a from t", "drop table if exists t, u", "set foreign_key_checks = 0",
    "/*!40101 SET NAMES utf8 */", "start transaction", "commit", "insert into t values (1), (2.5), (-3)", "lock tables t write",
    "delete a from t a join u b on a.x = b.x", "create trigger g before insert on t for each row set new.a = 1",
    "create definer = `root`@`localhost` trigger g before insert on t for each row set new.a = 1", "unlock tables",
    "create unique index i on t (a)", "with c as (select t.a from t) select c.a from c", "truncate t", "rename table a to b",
    "insert into t (a, b) select u.a, u.b from u order by u.a", "create temporary table x as select 1", "(select 1)",
    "create procedure p() delete from t", "create function f() returns int return 1", "call p()", "drop procedure p",
    "create definer = `root`@`localhost` procedure p(in a int) begin delete from t where t.a = a; end",
    "-- nothing but a comment", "insert into t set a = 1 on duplicate key update a = values(a)",
)  # fmt: skip


def checked(text: str) -> None:
    for statement in statements([text.encode()]):
        refuse_elsewhere(statement, "x.sql", "ours")


@pytest.mark.parametrize("text", ELSEWHERE)
def test_what_is_about_another_database_is_refused(text: str) -> None:
    with pytest.raises(Refused, match="another database"):
        checked(text)


@pytest.mark.parametrize("text", STRANGE)
def test_what_nobody_could_say_the_changes_of_is_refused(text: str) -> None:
    with pytest.raises(Refused):
        checked(text)


@pytest.mark.parametrize("text", OURS)
def test_what_is_of_this_database_passes(text: str) -> None:
    checked(text)
