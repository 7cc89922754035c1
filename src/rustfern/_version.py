"""The version, alone in a file so that `rustfern --version` imports nothing else."""

__version__ = "0.1.0"
