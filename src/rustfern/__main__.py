"""`python -m rustfern`."""

from __future__ import annotations

import sys


def main() -> None:
    """The entry point. The version is answered before anything heavy is imported."""
    if sys.argv[1:] in (["--version"], ["-V"]):
        from rustfern._version import __version__

        sys.stdout.write(f"rustfern {__version__}\n")
        return
    try:
        from rustfern.cli import run
    except KeyboardInterrupt:
        sys.exit(130)
    run()


if __name__ == "__main__":
    main()
