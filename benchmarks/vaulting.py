"""What a vault in object storage costs: requests and bytes each way, counted at a simulated storage (moto) on loopback.

    python benchmarks/vaulting.py [--place DIR] [--weeks N] [--gigabytes N]

Builds the large sample (see corpora.py; with --gigabytes a world of that size in which nothing shrinks, of which one
sector in a hundred changes a week), sends its keep to a vault, then N weeks of play, each with a snapshot and a
vault brought up to date; looks at a share of it, gets single files back without the keep, and brings the keep back.
Needs the extra 'long'.
"""

from __future__ import annotations

import argparse
import os
import tempfile
import threading
import time
from collections import Counter
from collections.abc import Callable, Iterable, Iterator
from pathlib import Path
from typing import Any

import corpora
from measuring import ember, run
from moto.server import DomainDispatcherApplication, create_backend_app
from werkzeug.serving import make_server

from emberkeep.demo import sample

WSGI = Callable[[dict[str, Any], Callable[..., Any]], Iterable[bytes]]


class Counted:
    """An application that counts what is asked of it, and the bytes of bodies in and out."""

    def __init__(self, inner: WSGI) -> None:
        self.inner = inner
        self.requests: Counter[str] = Counter()
        self.came = self.went = 0
        self.guard = threading.Lock()

    def __call__(self, environ: dict[str, Any], start: Callable[..., Any]) -> Iterator[bytes]:
        with self.guard:
            kind = "LIST" if "list-type" in environ.get("QUERY_STRING", "") else environ["REQUEST_METHOD"]
            self.requests[kind] += 1
            self.came += int(environ.get("CONTENT_LENGTH") or 0)
        for piece in self.inner(environ, start):
            with self.guard:
                self.went += len(piece)
            yield piece

    def taken(self) -> str:
        """What was counted since this was last asked."""
        with self.guard:
            kinds = ", ".join(f"{count} {kind}" for kind, count in sorted(self.requests.items()))
            text = f"{self.requests.total():4} requests ({kinds}); {self.came / 1e6:.1f} MB there, {self.went / 1e6:.1f} MB back"
            self.requests.clear()
            self.came = self.went = 0
        return text


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--place", type=Path, help="where to work (default: a temporary folder)")
    parser.add_argument("--weeks", type=int, default=4)
    parser.add_argument("--gigabytes", type=float, help="how large the world is; all of it is then not restored")
    args = parser.parse_args()
    counted = Counted(DomainDispatcherApplication(create_backend_app))
    server = make_server("127.0.0.1", 0, counted, threaded=True)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    os.environ |= {
        "AWS_ACCESS_KEY_ID": "x",
        "AWS_SECRET_ACCESS_KEY": "x",
        "AWS_DEFAULT_REGION": "us-east-1",
        "AWS_ENDPOINT_URL": f"http://127.0.0.1:{server.server_port}",
        "VAULT_WORDS": "seven gannets on a rock",
    }
    import boto3  # reads the environment

    boto3.client("s3").create_bucket(Bucket="vaults")
    with tempfile.TemporaryDirectory(prefix="emberkeep-bench-", dir=args.place) as room:
        place = Path(room)
        folder = corpora.build_packed(place, args.gigabytes) if args.gigabytes else corpora.build(place)
        run([*ember("adopt", sample.SERVER)], place)
        keep = ("--keep", str(place / f"{sample.SERVER}.keep"))
        target = ("s3://vaults/rock", "--secret-env", "VAULT_WORDS")

        def tell(what: str, *words: str) -> None:
            counted.taken()
            started = time.perf_counter()
            run(ember(*words), place)
            print(f"{what:34} {time.perf_counter() - started:6.1f} s  {counted.taken()}", flush=True)

        run(ember(*keep, "snapshot"), place)
        tell("first", *keep, "mirror", "vault", *target)
        for number in range(1, args.weeks + 1):
            corpora.week(folder, number, 0.01 if args.gigabytes else 0.03)
            time.sleep(2.1)
            run(ember(*keep, "snapshot"), place)
            tell(f"after week {number}", *keep, "mirror", "vault", *target)
        tell("nothing new", *keep, "mirror", "vault", *target)
        tell("looked at, a twentieth read", *keep, "mirror", "vault", *target, "--check", "--sample", "5%")
        some = ("restore", "latest", "--from-vault", *target)
        player = next(iter(sorted((folder / sample.WORLD / "keepers").iterdir()))).relative_to(folder)
        tile = corpora.tiles(folder)[0].relative_to(folder)
        tell("one player's file, without the keep", *some, "--only", str(player), "--into", "one")
        tell("one tile, without the keep", *some, "--only", str(tile), "--into", "two")
        if not args.gigabytes:
            tell("all, without the keep", *some, "--into", "three")
        tell("the keep brought back", "--keep", str(place / "new.keep"), "mirror", "vault", *target, "--bring-back")
    server.shutdown()


if __name__ == "__main__":
    main()
