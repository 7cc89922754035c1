"""What a stick starts: all that the program keeps lies on the stick, beside it; what draws figures lies in a folder that may be missing."""

import os
import sys


def main() -> None:
    top = os.path.dirname(os.path.dirname(os.path.realpath(sys.executable)))
    if os.path.exists(os.path.join(top, "START HERE.txt")):
        os.environ.setdefault("RUSTFERN_DATA", os.path.join(top, "data"))
    figures = os.path.join(top, f"figures-{sys.platform}")
    if os.path.isdir(figures):
        sys.path.append(figures)
    from rustfern.__main__ import main as rustfern

    rustfern()


if __name__ == "__main__":
    import multiprocessing

    multiprocessing.freeze_support()
    main()
