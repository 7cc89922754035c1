"""The command line: one module a command, no computation. Commands are imported only when they are called."""

from __future__ import annotations

import codecs
import contextlib
import errno
import importlib
import io
import itertools
import os
import signal
import sys
from collections.abc import Sequence
from datetime import UTC, datetime

import click

from rustfern._version import __version__
from rustfern.cli.context import Run, this_run
from rustfern.core.data_folder import VARIABLE as DATA
from rustfern.core.errors import RustFernError
from rustfern.core.paths import show_name
from rustfern.core.remote_paths import inside_form

COMMANDS = {
    "guide": "be led: the questions one by one, then all of the work, each command shown",
    "ready": "one second before anything else: whose machine or disk, what is running, what not to do",
    "keep": "take short-lived copies to safety first, into a folder that can be scanned",
    "scan": "search someone's files for lost documents and choose the best copy of each",
    "restore": "write verified copies into a folder of your own",
    "repair": "all that is left in a damaged document, as a whole file",
    "check": "is a file intact, read to its end by its own format",
    "look": "a document's life, a copy and its text, how two copies differ",
    "protect": "what each program's settings can cost at worst, and setting what would have saved the work",
    "report": "a page for the customer in plain words, the record for the file, a table",
    "cases": "list the cases, go on with one, note things in it, what was done in it",
    "places": "where copies would be: every known folder in each home, as it is there",
    "completion": "what a shell needs to complete commands, ids of copies and names",
    "demo": "lay out a demo customer's disk, scan it, restore from it",
}


def _log_options_first(words: Sequence[str]) -> list[str]:
    """The words of a call, with what concerns all commands (`--verbose`, `--log-file`) before the command, wherever it was typed."""
    first: list[str] = []
    rest: list[str] = []
    left = iter(words)
    for word in left:
        if word == "--":
            return [*first, *rest, word, *left]
        if word == "--log-file":
            first += [word, *itertools.islice(left, 1)]
        elif word == "--verbose" or word.startswith("--log-file="):
            first.append(word)
        else:
            rest.append(word)
    return [*first, *rest]


class _Group(click.Group):
    def list_commands(self, ctx: click.Context) -> list[str]:
        return list(COMMANDS)

    def get_command(self, ctx: click.Context, cmd_name: str) -> click.Command | None:
        if cmd_name not in COMMANDS:
            return None
        command: click.Command = importlib.import_module(f"rustfern.cli.commands.{cmd_name}").command
        return command

    def parse_args(self, ctx: click.Context, args: list[str]) -> list[str]:
        # An address is taken for a path from here on; a password in it goes no further.
        return super().parse_args(ctx, _log_options_first([inside_form(word) for word in args]))

    def format_commands(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        with formatter.section("Commands, in the order of the work"):
            formatter.write_dl(list(COMMANDS.items()))


@click.group(cls=_Group, context_settings={"help_option_names": ["-h", "--help"], "max_content_width": 100})
@click.version_option(__version__, prog_name="rustfern", message="%(prog)s %(version)s")
@click.option("--log-file", metavar="FILE", help="Write what is done, and how long it takes, to the end of this file.")
@click.option("--verbose", is_flag=True, help="Say on stderr what is done, and how long it takes.")
@click.pass_context
def main(context: click.Context, log_file: str | None, verbose: bool) -> None:
    """Find the most recent intact copy of lost documents, and restore it verified.

    Rust Fern reads; it never changes what it searches.

    \b
    First steps:
      rustfern demo                              see it work on a demo disk
      rustfern guide                             be asked the right questions, and led
      rustfern ready /media/customer-disk        what to do and not to do first
      rustfern keep /media/customer-disk --to ~/kept    take short-lived copies to safety
      rustfern scan /media/customer-disk         what was lost, and the best copy of each
      rustfern look 1                            its life, why the best copy is the best
      rustfern restore 1 --to ~/restored         write it, verified
      rustfern report --to for-ines.html         a page for the customer
    """
    settings = this_run().configuration
    context.default_map = settings.defaults()
    log_file = log_file or settings.log_file
    if log_file or verbose:
        from rustfern.cli import work_log

        work_log.begin(context, log_file, on_screen=verbose)


def print_message(text: str) -> None:
    """Say something on stderr; on a terminal, lines are broken between words."""
    whole = f"rustfern: {show_name(text)}"
    if sys.stderr.isatty():
        import shutil
        import textwrap

        whole = textwrap.fill(
            whole,
            shutil.get_terminal_size().columns,
            subsequent_indent="   ",
            break_long_words=False,
            break_on_hyphens=False,
        )
    print_aside(whole)


def print_aside(text: str) -> None:
    """A line on stderr. Where that is closed or full nothing can be said, which changes nothing of what is done."""
    with contextlib.suppress(OSError, ValueError, AttributeError):
        print(text, file=sys.stderr, flush=True)


def print_error(error: RustFernError) -> None:
    """Say an error on stderr: what, where, what next."""
    print_message(str(error))


def note_done(run: Run, words: Sequence[str], began: datetime, status: int) -> None:
    """Note a command in the logs of the cases that it worked in. A log that cannot be written changes nothing of what was done."""
    if not run.cases:
        return
    from rustfern.cases import manage

    for path in run.cases:
        try:
            manage.add(path, words, status, began)
        except (RustFernError, OSError):
            continue
    run.cases.clear()


def _tell_unexpected(error: Exception) -> None:
    """What no code of ours reckoned with: an error of the system where an answer is written, or a mistake in the program."""
    if os.environ.get("RUSTFERN_TRACEBACK"):
        raise error
    if isinstance(error, OSError):
        _answer_nowhere()
        where = f": {os.fsdecode(error.filename)}" if error.filename else ""
        said = f"the answer could not be given ({(error.strerror or type(error).__name__).lower()}){where}. What was done is done. See whether its disk is full or it was closed, and run this again"
    elif isinstance(error, MemoryError):
        said = "there is not enough memory. Search less at a time: name one person with --person, or a folder"
    else:
        import traceback

        last = traceback.extract_tb(error.__traceback__)[-1]
        place = f"{os.path.basename(last.filename)}:{last.lineno}"
        said = (
            f"a mistake in Rust Fern ended this ({type(error).__name__} in {place}: {str(error)[:200]}). Nothing that was searched "
            "was changed. Report it with these words; RUSTFERN_TRACEBACK=1 shows more"
        )
    print_message(said)


def _answer_error(message: str, path: str | None, next_step: str | None) -> None:
    """Where the answer is for programs, an error is one too."""
    if "--json" not in sys.argv[1:]:
        return
    import json

    from rustfern.operations import schema

    with contextlib.suppress(OSError, ValueError):
        sys.stdout.write(json.dumps(schema.plain(schema.error(message, path, next_step)), ensure_ascii=True) + "\n")
        sys.stdout.flush()


def _answer_nowhere() -> None:
    """Whatever is left of the answer cannot be written either."""
    with contextlib.suppress(OSError, ValueError, AttributeError):
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())


def _tell_usage(error: click.ClickException) -> None:
    """A message of the command line's library, with what was typed made safe to show: a glob can stand for any name."""
    context = getattr(error, "ctx", None)
    if context is not None:
        print_aside(context.get_usage())
        print_aside(f"Try '{context.command_path} --help' for help.\n")
    print_aside("\n".join(show_name(line) for line in f"Error: {error.format_message()}".split("\n")))


class _Closed(io.TextIOBase):
    """What stands for a closed standard output: an answer that goes nowhere is said to."""

    def write(self, text: str) -> int:
        raise OSError(errno.EBADF, "it is closed")

    def fileno(self) -> int:
        return 1

    def isatty(self) -> bool:
        return False


def _hold_streams() -> None:
    """Have the three standard streams open: else a file of ours would get their numbers, and what libraries print would go into it."""
    for number in range(3):
        try:
            os.fstat(number)
        except OSError:
            os.open(os.devnull, os.O_RDWR)
    sys.stdout = sys.stdout or _Closed()
    sys.stderr = sys.stderr or open(os.devnull, "w")  # noqa: PTH123, SIM115


_PLAIN = "plain-signs"
_SIGNS = str.maketrans(
    {"✖": "x", "◆": "*", "▼": "v", "■": "#", "├": "|", "±": "+-", "▶": ">", "−": "-", "–": "-", "─": "-", "│": "|", "✔": "+", "✘": "x", "…": "...", "“": '"', "”": '"', "’": "'", "×": "x", "→": "->",
     "·": ".", "•": "*", "●": "*", "○": "o"}
)  # fmt: skip


def _plain_signs(error: UnicodeError) -> tuple[str | bytes, int]:
    """Signs that a terminal cannot show as plain ones, all others by their number."""
    if not isinstance(error, UnicodeEncodeError):
        raise error
    told = error.object[error.start : error.end].translate(_SIGNS)
    return "".join(
        sign if ord(sign) < 128 else sign.encode("ascii", "backslashreplace").decode() for sign in told
    ), error.end


def run() -> None:
    """Run the command line; the exit status tells what came of it, and no traceback ever shows."""
    began = datetime.now(UTC)
    if os.environ.get(DATA):
        from rustfern.cases.location import prepare_data_folder

        if not prepare_data_folder():
            print_aside(
                "rustfern: the folder for cases cannot be written: this one lies in memory, until the machine is shut down"
            )
    done = Run()
    _hold_streams()
    given = sys.stdout
    codecs.register_error(_PLAIN, _plain_signs)
    for stream in (sys.stdout, sys.stderr):
        if hasattr(stream, "reconfigure"):
            stream.reconfigure(errors=_PLAIN)
    try:
        if "_RUSTFERN_COMPLETE" in os.environ:
            from rustfern.cli.commands import completion  # noqa: F401  (knows one shell more)
        status = main(prog_name="rustfern", standalone_mode=False, obj=done)
        sys.stdout.flush()
    except RustFernError as error:
        print_error(error)
        _answer_error(error.what, error.where, error.next_step)
        status = error.exit_status
    except click.exceptions.Abort:
        print_message("interrupted; nothing half-done was left under a final name")
        status = 130
    except click.ClickException as error:
        _tell_usage(error)
        _answer_error(error.format_message(), None, "See how it is used with --help")
        status = 2
    except KeyboardInterrupt:
        print_message("interrupted; nothing half-done was left under a final name")
        status = 130
    except BrokenPipeError:
        _answer_nowhere()
        status = 0
    except SystemExit as ending:
        if sys.stdout is given:
            raise
        # The library ends so, with another stream in its place, where the reader of a help text went away.
        status = 0 if ending.code == 1 else ending.code
    except Exception as error:
        _tell_unexpected(error)
        if not isinstance(error, OSError):
            _answer_error(f"{type(error).__name__}: {str(error)[:200]}", None, None)
        status = 3
    # All is said and done: an interrupt that comes now must not look as if it had ended the command.
    with contextlib.suppress(ValueError):
        signal.signal(signal.SIGINT, signal.SIG_IGN)
    status = status if isinstance(status, int) else 0
    note_done(done, sys.argv[1:], began, status)
    if done.log is not None:
        with contextlib.suppress(OSError, ValueError):
            done.log.end(status)
    sys.exit(status)
