"""One folder for all that this program keeps for itself, where somebody names one: on a stick, next to the program."""

from __future__ import annotations

import os

VARIABLE = "RUSTFERN_DATA"
"""Names the folder: cases, settings, known machines and private copies lie in it then, and nowhere else."""


def data_folder() -> str | None:
    """The folder, if one is named."""
    named = os.environ.get(VARIABLE)
    return os.path.abspath(named) if named else None
