"""``emberkeep mirror vault [TARGET]``: second copies of the keep elsewhere, looked at, and come back from."""

from __future__ import annotations

import argparse
import os
import random
from pathlib import Path

from emberkeep.cli.commands.verify import share_of
from emberkeep.cli.context import answer, now, the_keep
from emberkeep.cli.transfer_options import resolve_vaults, trust, vault_from_options
from emberkeep.errors import EmberKeepError, UsageError, system_may_refuse
from emberkeep.keep.keep import Keep
from emberkeep.keep.tables.transfer import VaultAt
from emberkeep.show import mirror as view
from emberkeep.show.console import BAD, Screen, progress
from emberkeep.vault import checking, sending, vault


def run_vault(args: argparse.Namespace, screen: Screen) -> int:
    """Exit code 4 when a look finds something missing or changed; one of several that fails does not keep the others
    from it."""
    if args.check and args.bring_back:
        raise UsageError("either --check or --bring-back")
    if args.bring_back:
        return _bring_back(args, screen)
    keep = the_keep(args)
    vaults = resolve_vaults(args, args.target or "", keep.config.vaults)
    share = share_of(args.sample) if args.sample else 0.0
    done: list[sending.Sent | checking.Checked] = []
    failed: dict[str, EmberKeepError] = {}
    for at in vaults:
        try:
            done.append(_one(args, screen, keep, at, share))
        except EmberKeepError as error:
            if len(vaults) == 1:
                raise
            failed[at.name] = error
    sent = [one for one in done if isinstance(one, sending.Sent)]
    checks = [one for one in done if isinstance(one, checking.Checked)]
    codes = [error.exit_code for error in failed.values()]
    codes += [4] if any(one.faults for one in checks) else []
    codes += [1] if any(one.astray for one in sent) else []

    def text() -> None:
        for checked in checks:
            view.checked(screen, checked)
        for one in sent:
            view.vaulted(screen, one)
        for name, error in failed.items():
            screen.line(f"! The vault {name} was not {'looked at' if args.check else 'brought up to date'}.", BAD)
            screen.error(error)
        if sent:
            screen.next("the same with --check --sample 5% looks whether all is there")

    faults = {name: [str(fault) for fault in error.faults] for name, error in failed.items()}
    return answer(args, max(codes, default=0), {"vaults": sent, "checked": checks, "failed": faults}, text)


def _one(
    args: argparse.Namespace, screen: Screen, keep: Keep, at: VaultAt, share: float
) -> sending.Sent | checking.Checked:
    """Look at one vault, or bring it up to date."""
    hint = "make room or mend that, and say it again; what was sent stays there"
    with (
        system_may_refuse("the vault was not brought up to date", at.target, hint),
        vault.opened(at, keep.folder, os.environ, trust(args, screen)) as found,
        progress("vault") as step,
    ):
        if args.check:
            return checking.check(found, share, random.SystemRandom(), step, keep)
        return sending.send(keep, found, now(), another=args.another, progress=step)


def _bring_back(args: argparse.Namespace, screen: Screen) -> int:
    if not args.target:
        raise UsageError("which vault?", hint="emberkeep --keep DIR mirror vault TARGET --bring-back")
    if not args.keep:
        raise UsageError("which folder is to become the keep?", hint="--keep DIR names it")
    folder = Path(os.path.abspath(args.keep))
    with (
        vault.opened(vault_from_options(args, args.target), folder, os.environ, trust(args, screen)) as found,
        progress("vault") as step,
    ):
        back = checking.bring_back(found, folder, step)
    return answer(args, 0, {"keep": folder, "brought": back}, lambda: view.brought(screen, back, folder))
