"""The built command, loaded once: each call asked for on standard input runs in a process of its own, forked from one where nothing ran yet."""

from __future__ import annotations

import atexit
import importlib
import json
import os
import pkgutil
import signal
import sys
import time
import traceback

import rustfern.cli.commands
from rustfern.__main__ import main


def run(words: list[str], env: dict[str, str], folder: str, mask: int, streams: list[str]) -> None:
    """Do what the entry point does, as a process that the shell started with these words, variables and streams; never returns."""
    status = 1
    signal.alarm(120)  # what hangs is ended
    try:
        os.environ.clear()
        os.environ.update(env)
        time.tzset()
        os.chdir(folder)
        os.umask(mask)
        for number, path in enumerate((os.devnull, *streams)):
            handle = os.open(path, os.O_RDWR | os.O_CREAT | os.O_TRUNC)
            os.dup2(handle, number)
            os.close(handle)
        sys.stdin = open(0, encoding="utf-8", closefd=False)  # noqa: SIM115 (lives as long as the process)
        sys.stdout, sys.stderr = (open(number, "w", encoding="utf-8", closefd=False) for number in (1, 2))  # noqa: SIM115
        sys.argv = ["rustfern", *words]
        main()
        status = 0
    except SystemExit as ended:
        status = ended.code if isinstance(ended.code, int) else int(ended.code is not None)
    except BaseException:
        traceback.print_exc()
    finally:
        atexit._run_exitfuncs()
        sys.stdout.flush()
        sys.stderr.flush()
        os._exit(status)


def serve() -> None:
    """One call after the other, one line for each: its words, variables, folder, mask of modes and streams; the answer is its exit status."""
    for module in pkgutil.iter_modules(rustfern.cli.commands.__path__, "rustfern.cli.commands."):
        importlib.import_module(module.name)
    for asked in sys.stdin:
        child = os.fork()
        if not child:
            run(*json.loads(asked))
        print(os.waitstatus_to_exitcode(os.waitpid(child, 0)[1]), flush=True)


if __name__ == "__main__":
    serve()
