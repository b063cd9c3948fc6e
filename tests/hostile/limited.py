"""Something done in a process that may take only so much memory and so many seconds of a processor."""

from __future__ import annotations

import os
import pickle
import resource
import traceback
from collections.abc import Callable
from pathlib import Path
from typing import Any

MEGABYTE = 1 << 20


class OverLimit(AssertionError):
    """It took more than it was given, or ended otherwise than by an answer."""


def limited(act: Callable[[], Any], megabytes: int = 300, seconds: int = 5) -> Any:
    """What ``act`` returns, or raises, by a process of its own with no more than that beside what this one has."""
    reader, writer = os.pipe()
    process = os.fork()
    if process == 0:
        try:
            os.close(reader)
            pages = Path(f"/proc/{os.getpid()}/statm").read_text().split()[0]
            has = int(pages) * os.sysconf("SC_PAGE_SIZE")
            resource.setrlimit(resource.RLIMIT_AS, (has + megabytes * MEGABYTE,) * 2)
            used = resource.getrusage(resource.RUSAGE_SELF)
            whole = int(used.ru_utime + used.ru_stime) + 1 + seconds
            resource.setrlimit(resource.RLIMIT_CPU, (whole, whole))
            try:
                answer = (True, act())
            except BaseException as error:
                answer = (False, error)
            try:
                data = pickle.dumps(answer)
            except Exception:
                data = pickle.dumps((False, OverLimit(traceback.format_exc())))
            with os.fdopen(writer, "wb") as pipe:
                pipe.write(data)
        finally:
            os._exit(0)
    os.close(writer)
    with os.fdopen(reader, "rb") as pipe:
        data = pipe.read()
    _, status = os.waitpid(process, 0)
    if not data:
        raise OverLimit(f"it was ended by signal {os.WTERMSIG(status)} (of {megabytes} MB, {seconds} s)")
    done, answer = pickle.loads(data)
    if done:
        return answer
    if isinstance(answer, MemoryError):
        raise OverLimit(f"it wanted more than {megabytes} MB")
    raise answer
