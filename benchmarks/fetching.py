"""How fast a far server comes here, beside ordinary transfers of the same tree, over loopback.

    python benchmarks/fetching.py [--place DIR] [--rounds N] [--size large|town|one] [--delay MS]

Builds the sample (large: 1.5 GB, 21 000 files; one: a single file of 2 GB), serves it by OpenSSH's sshd (own port and keys), and times whole processes in turns: a first
``mirror fetch`` with four connections beside ``rsync -a`` over ssh and ``sftp -r`` (one connection each, as they have no more) and, where it
is installed, ``lftp mirror`` with four, then a
fetch when nothing has changed beside ``rsync -an``. Each goes into a new folder, as ext4 takes long to make files where many were just
removed. ``--delay``: through a
proxy that holds every byte back so long each way, as a host far away does. Needs openssh-server, openssh-client and rsync.
"""

from __future__ import annotations

import argparse
import random
import shutil
import subprocess
import sys
import tempfile
from pathlib import Path

from measuring import Measured, ember, run, verdict

sys.path.insert(0, str(Path(__file__).parent.parent))

from tests import farhosts

from emberkeep.demo import sample

PROXY = """
import asyncio, sys
async def pump(reader, writer, delay):
    loop = asyncio.get_running_loop()
    queue = asyncio.Queue(4096)
    async def out():
        while True:
            due, data = await queue.get()
            await asyncio.sleep(max(0, due - loop.time()))
            if not data:
                writer.close()
                return
            writer.write(data)
            await writer.drain()
    task = asyncio.create_task(out())
    while data := await reader.read(65536):
        await queue.put((loop.time() + delay, data))
    await queue.put((0, b""))
    await task
async def met(reader, writer):
    there = await asyncio.open_connection("127.0.0.1", int(sys.argv[1]))
    delay = int(sys.argv[2]) / 1000
    await asyncio.gather(pump(reader, there[1], delay), pump(there[0], writer, delay), return_exceptions=True)
async def main():
    server = await asyncio.start_server(met, "127.0.0.1", 0)
    print(server.sockets[0].getsockname()[1], flush=True)
    await server.serve_forever()
asyncio.run(main())
"""


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--place", type=Path)
    parser.add_argument("--rounds", type=int, default=3)
    parser.add_argument("--size", default="large")
    parser.add_argument("--delay", type=int, default=0)
    args = parser.parse_args()
    with tempfile.TemporaryDirectory(prefix="emberkeep-bench-", dir=args.place) as name:
        room = Path(name)
        if args.size == "one":
            one_file(room / "there" / sample.SERVER / "outer-skerries" / "whole.sea")
        else:
            sample.build(room / "there", args.size)
        with farhosts.sshd(room / "ssh") as remote:
            if not args.delay:
                measure(room, remote, args.rounds)
                return
            own = remote.port
            proxy = subprocess.Popen([sys.executable, "-c", PROXY, str(own), str(args.delay)], stdout=subprocess.PIPE)
            assert proxy.stdout is not None
            remote.port = int(proxy.stdout.readline())
            try:
                measure(room, remote, args.rounds)
            finally:
                remote.port = own
                proxy.terminate()
                proxy.wait()


def one_file(path: Path) -> None:
    path.parent.mkdir(parents=True)
    with path.open("wb") as handle:
        for number in range(2 << 10):
            handle.write(random.Random(number).randbytes(1 << 20))


def measure(room: Path, remote: farhosts.Sshd, rounds: int) -> None:
    root = room / "there" / sample.SERVER
    secure = f"ssh -p {remote.port} -i {remote.key} -o StrictHostKeyChecking=no -o UserKnownHostsFile=/dev/null -q"
    user = remote.address(root).split("//")[1].split("@")[0]
    options = ["-i", str(remote.key), "-o", "StrictHostKeyChecking=no", "-o", "UserKnownHostsFile=/dev/null"]
    first, others = Measured(), [Measured(), Measured()]
    parallel = Measured() if shutil.which("lftp") else None
    again, synced = Measured(), Measured()
    for number in range(rounds):
        place = room / f"round {number}"
        keep = place / "rock.keep"
        keep.mkdir(parents=True)
        (keep / "keep.toml").write_text(
            f'format = 1\n[server]\nname = "Rock"\nfolder = "{remote.address(root)}"\n[far]\nkey = "{remote.key}"\nstill = "0.1 s"\n'
        )
        fetch = [*ember("--keep", str(keep), "mirror", "fetch", "--accept-new", "--while-running")]
        rsync = ["rsync", "-a", "-e", secure, f"{user}@127.0.0.1:{root}/", str(place / "synced")]
        batch = room / "batch"
        batch.write_text(f'get -r {root} "{place}/gotten"\n')
        sftp = ["sftp", "-q", "-P", str(remote.port), *options, "-b", str(batch), f"{user}@127.0.0.1"]
        for measured, command in zip((first, *others), (fetch, rsync, sftp), strict=True):
            subprocess.run(["sync"], check=True)
            measured.add(*run(command, room))
        if parallel is not None:
            connect = f"ssh -a -x {' '.join(options)} -q"
            words = f"set sftp:connect-program '{connect}'; mirror --parallel=4 {root} '{place}/mirrored'"
            subprocess.run(["sync"], check=True)
            parallel.add(
                *run(
                    ["lftp", "-e", f"{words}; quit", "-u", f"{user},x", "-p", str(remote.port), "sftp://127.0.0.1"],
                    room,
                )
            )
        again.add(*run(fetch, room))
        synced.add(*run([*rsync[:1], "-an", *rsync[2:]], room))
    ratio = first.seconds / others[0].seconds
    print(
        f"first fetch {first.seconds:.1f} s, {first.megabytes:.0f} MB; rsync over ssh {others[0].seconds:.1f} s: {ratio:.2f} times "
        f"(aim 1.5: {verdict(ratio <= 1.5)}); sftp -r {others[1].seconds:.1f} s: {first.seconds / others[1].seconds:.2f} times"
    )
    if parallel is not None:
        ratio = first.seconds / parallel.seconds
        print(
            f"lftp mirror, four connections {parallel.seconds:.1f} s: {ratio:.2f} times (aim 1.5: {verdict(ratio <= 1.5)})"
        )
    print(f"nothing changed {again.seconds:.2f} s, {again.megabytes:.0f} MB; rsync -an over ssh {synced.seconds:.2f} s")


if __name__ == "__main__":
    main()
