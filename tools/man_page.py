#!/usr/bin/env python3
"""Make the manual page from the commands' own help: tools/man_page.py [--check]

It is written to docs/rustfern.1 (man 7 macros), installed with the program as man1. `--check` only tells whether it is up to date.
"""

from __future__ import annotations

import argparse
import re
import sys
from pathlib import Path

import click

from rustfern import __version__
from rustfern.cli import COMMANDS, main

PAGE = Path(__file__).parents[1] / "docs" / "rustfern.1"
STATUS = (
    ("0", "something lost was found, or what was asked for is done; for check: all files are intact"),
    ("1", "nothing was found"),
    ("2", "wrong usage"),
    ("3", "done in part: a home or a place could not be read, a file not written"),
    ("130", "interrupted"),
)


def plain(text: str) -> str:
    """Text as the macros take it: no line begins with a control sign, no sign is taken for an escape."""
    text = text.replace("\\", "\\e").replace("-", "\\-")
    return "\n".join(f"\\&{line}" if line[:1] in (".", "'") else line for line in text.splitlines())


def described(help_text: str) -> list[str]:
    """The paragraphs of a command's help; what stands behind `\\b` keeps its lines."""
    out = []
    for paragraph in re.split(r"\n\s*\n", help_text.strip()):
        lines = [line.strip() for line in paragraph.splitlines()]
        if lines and lines[0] == "\b":
            out += [".PP", ".nf", *(plain(line) for line in paragraph.splitlines() if line.strip() != "\b"), ".fi"]
        else:
            out += [".PP", plain(" ".join(lines))]
    return out


def value_of(option: click.Option) -> str:
    """What an option takes, as it is written; nothing for one that is there or not."""
    if option.is_flag or option.secondary_opts:
        return ""
    if isinstance(option.type, click.Choice):
        return "|".join(map(str, option.type.choices))
    return option.metavar or option.type.name.upper()


def command_page(name: str, command: click.Command) -> list[str]:
    """The section of one command."""
    words = " ".join(
        p.metavar or p.human_readable_name.upper() for p in command.params if isinstance(p, click.Argument)
    )
    out = [f'.SS "{plain(f"rustfern {name} [OPTIONS] {words}".strip())}"', *described(command.help or "")[1:]]
    for option in command.params:
        if isinstance(option, click.Option):
            names = ", ".join([*option.opts, *option.secondary_opts])
            value = value_of(option)
            out += [
                ".TP",
                f"\\fB{plain(names)}\\fR" + (f" \\fI{plain(value)}\\fR" if value else ""),
                plain(option.help or ""),
            ]
    return out


def page() -> str:
    """The whole page."""
    group = main
    out = [
        f'.TH RUSTFERN 1 "" "Rust Fern {__version__.split("+")[0]}" "User commands"',
        ".SH NAME",
        "rustfern \\- find the most recent intact copy of lost documents, and restore it verified",
        ".SH SYNOPSIS",
        ".B rustfern",
        "\\fICOMMAND\\fR [\\fIOPTIONS\\fR]",
        ".SH DESCRIPTION",
        *described(group.help or "")[1:],
        ".SH COMMANDS",
    ]
    for name in COMMANDS:
        command = group.get_command(click.Context(group), name)
        assert command is not None
        out += command_page(name, command)
    out += [".SH EXIT STATUS"]
    for status, meaning in STATUS:
        out += [".TP", f"\\fB{status}\\fR", plain(meaning)]
    out += [
        ".SH FILES",
        ".TP",
        "\\fI~/.local/state/rustfern/case\\-*.fern\\fR",
        plain("The cases: what was searched, found and restored (other systems have their own folder for this)."),
        ".SH ENVIRONMENT",
        ".TP",
        "\\fBCOLUMNS\\fR, \\fBNO_COLOR\\fR",
        plain("The width of what is shown, and whether it has colours."),
    ]
    return "\n".join(out) + "\n"


def run() -> int:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--check", action="store_true")
    made = page()
    if not parser.parse_args().check:
        PAGE.write_text(made, encoding="utf-8")
        return 0
    if PAGE.exists() and PAGE.read_text(encoding="utf-8") == made:
        return 0
    print("docs/rustfern.1 is not up to date: run tools/man_page.py", file=sys.stderr)
    return 1


if __name__ == "__main__":
    sys.exit(run())
