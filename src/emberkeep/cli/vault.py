"""``emberkeep mirror vault TARGET``: a second copy of the keep elsewhere, looked at, and come back from."""

from __future__ import annotations

import argparse
import os
import random
from contextlib import closing
from pathlib import Path

from emberkeep.cli.context import answer, the_keep
from emberkeep.cli.far import trust
from emberkeep.cli.verify import share_of
from emberkeep.errors import UsageError
from emberkeep.far import Far, address_of
from emberkeep.remote.host import Door
from emberkeep.remote.places import is_by_transfer, place_of
from emberkeep.runs import vault
from emberkeep.servers.secrets import secret
from emberkeep.show import mirror as view
from emberkeep.show.console import Screen, progress


def run_vault(args: argparse.Namespace, screen: Screen) -> int:
    """Exit code 4 when a look finds something missing or changed."""
    if not args.target:
        raise UsageError("which vault?", hint="emberkeep mirror vault TARGET")
    if args.check and args.bring_back:
        raise UsageError("either --check or --bring-back")
    share = share_of(args.sample) if args.sample else 0.0
    words = secret(args.secret_env, args.secret_file, os.environ, "the vault's passphrase")
    if args.bring_back:
        if not args.keep:
            raise UsageError("which folder is to become the keep?", hint="--keep DIR names it")
        folder = Path(os.path.abspath(args.keep))
    else:
        keep = the_keep(args)
        folder = keep.folder
    with closing(place_of(args.target, _door(args, screen, folder))) as place:
        found = vault.Vault(place, words)
        with progress("vault", screen) as step:
            if args.check:
                seen = vault.check(found, share, random.SystemRandom(), step)
                code = 4 if seen.faults else 0
                return answer(args, code, {"checked": seen}, lambda: view.checked(screen, seen))
            if args.bring_back:
                back = vault.bring_back(found, folder, step)
                return answer(args, 0, {"keep": folder, "brought": back}, lambda: view.brought(screen, back, folder))
            sent = vault.send(keep, found, step)
    return answer(args, 0, {"vault": sent}, lambda: view.vaulted(screen, sent))


def _door(args: argparse.Namespace, screen: Screen, keep: Path) -> Door | None:
    if not is_by_transfer(args.target):
        return None
    word = secret(args.password_env, "", os.environ, "the host's password")
    way = Far(address_of(args.target), key=args.key, certificate=args.certificate, connections=1)
    return Door(way, word, str(keep / "known_hosts"), trust(args, screen))
