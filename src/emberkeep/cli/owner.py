"""Root working as another user, for good: what that user may not do, a command then may not either."""

from __future__ import annotations

import os
import sys

from emberkeep.errors import Refused
from emberkeep.keep.keep import Keep


def become(keep: Keep, user: str | int) -> None:
    """Give up root's rights for those of a user, by name or number. Refused where there is no such user, or the keep is
    not theirs."""
    if sys.platform == "win32":
        raise Refused("--as-owner is for systems with root", hint="leave it out")
    import pwd

    try:
        found = pwd.getpwnam(user) if isinstance(user, str) else pwd.getpwuid(user)
    except KeyError:
        raise Refused(f"there is no user {user} on this system", hint="mend user in [server] of keep.toml") from None
    os.initgroups(found.pw_name, found.pw_gid)
    os.setgid(found.pw_gid)
    os.setuid(found.pw_uid)
    os.environ |= {"HOME": found.pw_dir, "USER": found.pw_name, "LOGNAME": found.pw_name}
    if not os.access(keep.folder, os.R_OK | os.W_OK | os.X_OK):
        raise Refused(
            f"the keep {keep.folder} is not for user {found.pw_name}",
            hint=f"give it to them once: chown -R {found.pw_name} {keep.folder}",
        )
