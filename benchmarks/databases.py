"""How fast databases are dumped, put back and compared, beside the database's own client piped to and from zstd.

    python benchmarks/databases.py [--place DIR] [--rounds N] [--rows N]

Starts a private MariaDB (Debian: mariadb-server) and fills it: players (text, numbers, binary ids), belongings that refer to them, and a
log. Times whole processes in turns: a first and a later dump into the store, and one put back into a new database, checked, beside
``mariadb-dump --single-transaction … | zstd -3 -T2`` and ``zstd -dc | mariadb``.
"""

from __future__ import annotations

import argparse
import os
import shutil
import subprocess
import sys
import tempfile
from pathlib import Path

from measuring import Measured, ember, run, verdict

sys.path.insert(0, str(Path(__file__).parent.parent))

from tests.mariadbs import Server, server

FILLED = """
create table keeper (id binary(16) primary key, name varchar(40), silver int, seen datetime, note text);
insert into keeper select unhex(md5(seq)), concat('keeper ', seq), seq % 997, '2026-01-01' + interval seq second,
  if(seq % 7, null, concat('the note of ', md5(seq * 3))) from seq_1_to_{few};
create table belonging (id int primary key auto_increment, owner binary(16), thing varchar(30), worth decimal(9,2), bag blob,
  key (owner), foreign key (owner) references keeper (id));
insert into belonging (owner, thing, worth, bag) select unhex(md5(seq % {few} + 1)), elt(seq % 5 + 1, 'rope', 'lamp', 'cod', 'glue', 'salt'),
  seq % 1000 / 7, unhex(sha2(seq, 256)) from seq_1_to_{rows};
create table log (at int primary key, line varchar(200)) engine=innodb;
insert into log select seq, concat('[', seq, '] ', sha2(seq, 256), ' came ashore at pier ', seq % 40) from seq_1_to_{half};
"""
DAY = """
update keeper set silver = silver + 1 where silver % 20 = 3;
delete from belonging where id % 5000 = 7;
insert into log select seq + {half}, concat('[', seq, '] ', sha2(seq + 1, 256), ' set sail') from seq_1_to_{day};
"""


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--place", type=Path)
    parser.add_argument("--rounds", type=int, default=3)
    parser.add_argument("--rows", type=int, default=1_000_000)
    args = parser.parse_args()
    with tempfile.TemporaryDirectory(prefix="emberkeep-bench-", dir=args.place) as name:
        room = Path(name)
        (room / "sea").mkdir()
        with server(room / "sea", "--innodb-buffer-pool-size=512M") as sea:
            measure(room, sea, args.rounds, args.rows)


def measure(room: Path, sea: Server, rounds: int, rows: int) -> None:
    schema = sea.schema()
    sizes = {"rows": rows, "few": rows // 5, "half": rows // 2, "day": rows // 100}
    sea.sql(FILLED.format(**sizes), schema)
    keep = room / "rock.keep"
    for folder in (keep, room / "rock"):
        folder.mkdir()
    (keep / "keep.toml").write_text(
        'format = 1\n[server]\nname = "Rock"\nfolder = "../rock"\n'
        f'[[database]]\nname = "rock"\nschema = "{schema}"\nsocket = "{sea.socket}"\nuser = "root"\n'
    )
    (room / "rock" / "a").write_text("a")
    client = ["--no-defaults", "-uroot", f"--socket={sea.socket}"]
    told = " ".join(client)
    dumping = f"mariadb-dump {told} --single-transaction --quick --routines --triggers --events --hex-blob {schema} | zstd -q -3 -T2 -f -o dump.zst"
    loading = f"zstd -dc dump.zst | mariadb {told} copied"
    ours, theirs, back, their_back = Measured(), Measured(), Measured(), Measured()
    for at in range(rounds):
        shutil.rmtree(keep / "store", ignore_errors=True)
        ours.add(*run(ember("--keep", str(keep), "snapshot", "--only", "databases"), room))
        theirs.add(*run(["sh", "-c", dumping], room))
        sea.sql("drop database if exists copied; create database copied")
        copied = f"copied_{at}"
        words = ("restore", "latest", "--only", "databases/rock", "--into-database", copied, "--go")
        back.add(*run(ember("--keep", str(keep), *words), room))
        sea.sql(f"drop database {copied}")
        their_back.add(*run(["sh", "-c", loading], room))
    store = sum(path.stat().st_size for path in (keep / "store" / "packs").iterdir())
    packed = (room / "dump.zst").stat().st_size
    ratio, ratio_back = ours.seconds / theirs.seconds, back.seconds / their_back.seconds
    print(
        f"{rows * 1.7:,.0f} rows; store {store / 1e6:.1f} MB, dump.zst {packed / 1e6:.1f} MB ({store / packed:.2f} times)"
    )
    print(
        f"first dump {ours.seconds:.2f} s, {ours.megabytes:.0f} MB; client | zstd {theirs.seconds:.2f} s: {ratio:.2f} times (aim 1.3: {verdict(ratio <= 1.3)})"
    )
    print(
        f"put back and checked {back.seconds:.2f} s, {back.megabytes:.0f} MB; zstd | client {their_back.seconds:.2f} s: {ratio_back:.2f} times"
        f" (aim 1.3: {verdict(ratio_back <= 1.3)})"
    )
    sea.sql(DAY.format(**sizes), schema)
    later, compared = Measured(), Measured()
    later.add(*run(ember("--keep", str(keep), "snapshot", "--only", "databases"), room))
    grown = sum(path.stat().st_size for path in (keep / "store" / "packs").iterdir()) - store
    compared.add(
        *run(
            ["sh", "-c", " ".join([*ember("--keep", str(keep), "diff", "1", "2"), ">", "diff.txt", "||", "true"])], room
        )
    )
    print(
        f"a day later {later.seconds:.2f} s, {later.megabytes:.0f} MB; the store grew by {grown / 1e6:.2f} MB ({grown / store:.1%})"
    )
    print(f"compared with the day before {compared.seconds:.2f} s, {compared.megabytes:.0f} MB")
    most = max(one.megabytes for one in (ours, back, later, compared))
    print(f"most memory {most:.0f} MB (aim 300: {verdict(most < 300)})")


if __name__ == "__main__":
    os.environ.pop("PYTHONDONTWRITEBYTECODE", None)
    subprocess.run(["sync"], check=True)
    main()
