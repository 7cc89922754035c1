"""The version, alone in a file so that `rustfern --version` imports nothing else."""

__version__ = "0.1.0"


def build() -> str:
    """What this copy of the program is: of a packed one the name of its build, else the version and where it lies."""
    import os

    here = os.path.dirname(os.path.abspath(__file__))
    try:
        with open(os.path.join(here, "build.txt"), encoding="utf-8") as file:  # noqa: PTH123
            return file.read().strip()
    except OSError:
        return f"{__version__}, not packed, in {here}"
