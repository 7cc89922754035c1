"""`python -m rustfern`."""

from __future__ import annotations

import contextlib
import gc
import os
import sys

with contextlib.suppress(OSError):  # the folder that it is started in may be gone
    if not sys.flags.safe_path and sys.path and sys.path[0] in ("", os.getcwd()):
        # Started by `-m`: no module is taken from the folder that lies there by chance.
        del sys.path[0]


def _leave_no_bytecode() -> None:
    """Where this program lies in what may be searched (in a person's own home, say), compiled modules are not kept beside it."""
    here = os.path.realpath(os.path.dirname(__file__))
    for place in (os.path.expanduser("~"), *sys.argv[1:]):
        with contextlib.suppress(OSError, ValueError):
            if here.startswith(os.path.realpath(place).rstrip(os.sep) + os.sep):
                sys.dont_write_bytecode = True


def main() -> None:
    """The entry point. The version is answered before anything heavy is imported."""
    if sys.argv[1:] in (["--version"], ["-V"]):
        from rustfern._version import __version__

        sys.stdout.write(f"rustfern {__version__}\n")
        return
    if sys.argv[1:] in (["--version", "--verbose"], ["--verbose", "--version"]):
        from rustfern._version import build

        sys.stdout.write(f"rustfern {build()}\n")
        return
    _leave_no_bytecode()
    # Nearly all that a start makes lives to the end: it is not looked through for dead objects again and again.
    gc.set_threshold(50_000, 20, 20)
    try:
        from rustfern.cli import run
    except KeyboardInterrupt:
        sys.exit(130)
    run()


if __name__ == "__main__":
    main()
