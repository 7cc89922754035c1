"""Commands on many roots at once: `--list FILE --out DIR [--scheduler ADDRESS]`; each root is a call of the same command in a worker."""

from __future__ import annotations

import contextlib
import io
import os
import sys
import threading
import time
from collections.abc import Callable, Iterator, Sequence
from pathlib import Path
from typing import Any

import click
import msgspec

from rustfern.cli.context import Run
from rustfern.cli.time_types import SPAN
from rustfern.core.errors import RustFernError, WrongUsage
from rustfern.engine.interface import EngineLost

_MOST_TRIED = 20
_ONE_AT_A_TIME = threading.Lock()
_OWN = ("--list", "--out", "--scheduler", "--at-most")
_ROW_OPTIONS = frozenset(
    {"person", "document", "happened", "lost-at", "older-than", "zone", "clock-error", "words", "class"}
)
_LIST_OPTIONS = (
    (("--list",), "FILE", "Many at once: a CSV or TOML file of roots, or a folder whose every child is one."),
    (("--out",), "DIR", "With --list: where each root's answer and case go."),
    (("--scheduler",), "ADDRESS", "With --list, or a raw search: a Dask cluster whose workers see the same paths (default: this machine's cores)."),
    (("--at-most",), "TIME", 'With --list: give up a root that takes longer ("2h").'),
)  # fmt: skip


class Called(msgspec.Struct, frozen=True):
    """One of many roots: the options of its call, the places of its case (and whether that is there) and of the files that are written about it."""

    options: list[str]
    root: str
    case: str
    has_case: bool
    files: str


class ManyCommand(click.Command):
    """A command that takes many roots, too. `words` makes the call for one."""

    def __init__(self, *args: Any, words: Callable[[Called], list[str]], **values: Any) -> None:
        super().__init__(*args, **values)
        self._words = words
        for names, metavar, text in _LIST_OPTIONS:
            kind = SPAN if names == ("--at-most",) else None
            self.params.append(
                click.Option(list(names), metavar=metavar, help=text, type=kind, expose_value=False, default=None)
            )
        # What all commands have stays last.
        self.params.sort(key=lambda each: "--json" in each.opts)

    def parse_args(self, ctx: click.Context, args: list[str]) -> list[str]:
        """As of any command; with a list the rest is tried on a root that stands for all."""
        own, rest = _taken_apart(args)
        if "--list" not in own:
            if list(own) == ["--scheduler"] and {"--raw", "--raw-all"} & {*rest}:
                ctx.find_object(Run).session.scheduler = own["--scheduler"]  # type: ignore[union-attr]
                return super().parse_args(ctx, rest)
            if own:
                raise WrongUsage(f"{next(iter(own))} is for many roots at once", None, "Give them with --list FILE")
            return super().parse_args(ctx, args)
        if "--out" not in own:
            raise WrongUsage("nothing says where the answers shall go", None, "Add --out DIR")
        if any(not word.startswith("-") for word in self._positional(rest)):
            raise WrongUsage("roots are named in the list, or here, not both", None, "Leave one out")
        given = {word.partition("=")[0] for word in rest}
        if "--case" in given:
            raise WrongUsage("each root has a case of its own, in DIR", None, "Leave --case out")
        if taken := sorted(
            given & {*self._words(Called([], os.sep, os.devnull, False, os.devnull))} & {"--to", "--in"}
        ):
            raise WrongUsage("what is written about each root goes below DIR", None, f"Leave {taken[0]} out")
        self._accept(rest)
        ctx.meta["rustfern.many"] = own, rest
        return []

    def invoke(self, ctx: click.Context) -> Any:
        """Run it, on one or on many."""
        if "rustfern.many" in ctx.meta:
            own, rest = ctx.meta["rustfern.many"]
            return self._run(ctx.info_name or "", own, rest)
        return super().invoke(ctx)

    def _positional(self, rest: Sequence[str]) -> list[str]:
        """What is no option, nor the value of one."""
        valued = {
            name for each in self.params if isinstance(each, click.Option) and not each.is_flag for name in each.opts
        }
        left, found = iter(rest), []
        for word in left:
            if word in valued:
                next(left, None)
            elif not word.startswith("-"):
                found.append(word)
        return found

    def _accept(self, words: Sequence[str]) -> None:
        """Raises `WrongUsage` for options that the command does not take."""
        tried = self._words(Called(list(words), os.sep, os.devnull, False, os.devnull))
        try:
            super().parse_args(click.Context(self, info_name=self.name, resilient_parsing=False), tried)
        except click.ClickException as error:
            raise WrongUsage(error.format_message(), None, "See how it is used with --help") from error

    def _run(self, command: str, own: dict[str, str], rest: list[str]) -> int:
        from rustfern.cli.screen.many_view import show
        from rustfern.cli.screen.progress import watching
        from rustfern.operations.many import Many, read_list

        known = {name[2:] for each in self.params if isinstance(each, click.Option) for name in each.opts}
        rows = read_list(own["--list"], _ROW_OPTIONS & known, lambda words: self._accept([*rest, *words]))
        at_most = SPAN.convert(own["--at-most"], None, None) if "--at-most" in own else None

        def words(row: Any, folder: Any) -> tuple[str, ...]:
            options = [*(word for word in rest if word != "--json"), *row.options, "--json"]
            label = row.label
            one = Called(
                options, row.root, folder.case_of(label), folder.has_case(label), folder.files_of(command, label)
            )
            return (command, *self._words(one))

        many = Many(command, rows, own["--out"], words, rest)
        many.folder.take(command)
        outcomes = []
        try:
            engine = _engine(own.get("--scheduler"), many.folder.path, [row.root for row in rows])
        except BaseException:
            many.folder.let_go()
            raise
        try:
            with watching("roots") as observer:
                for outcome in many.run(engine, run_piece, observer, at_most):
                    outcomes.append(outcome)
                    if not outcome.is_done:
                        from rustfern.cli import print_message

                        print_message(f"{outcome.label}: {outcome.reason}")
        except KeyboardInterrupt:
            from rustfern.cli import print_message

            print_message(
                f"interrupted; {len(outcomes):,} of {len(rows):,} roots are done. The same command goes on where it was"
            )
            return 130
        except EngineLost as error:
            from rustfern.cli import print_message

            print_message(
                f"what runs the work is gone ({str(error)[:120]}); {len(outcomes):,} of {len(rows):,} roots are done. "
                "The same command goes on where it was"
            )
            return 3
        finally:
            engine.close()
            many.folder.let_go()
        return show(many, outcomes, as_json="--json" in rest)


def _taken_apart(args: Sequence[str]) -> tuple[dict[str, str], list[str]]:
    """(the options about many roots, all other words)."""
    own: dict[str, str] = {}
    rest: list[str] = []
    left = iter(args)
    for word in left:
        name, equals, value = word.partition("=")
        if word == "--":
            return own, [*rest, word, *left]
        if name in _OWN:
            told = value if equals else next(left, None)
            if not told:
                raise WrongUsage(f"{name} needs a value", None, "See how it is used with --help")
            own[name] = told
        else:
            rest.append(word)
    return own, rest


def _engine(scheduler: str | None, out: str, roots: Sequence[str]) -> Any:
    """Where the pieces run. Raises `WrongUsage` where a scheduler is not there, or its workers do not see the folder or the roots."""
    from rustfern.engine.local import Crew

    if scheduler is None:
        return Crew(None, be_one_of_many)
    from rustfern.engine.dask import DaskEngine

    engine = DaskEngine(scheduler)
    try:
        blind = sorted(worker for worker, sees in engine.everywhere(may_write, out).items() if not sees)
        if blind:
            raise WrongUsage(
                f"{len(blind)} workers cannot write there, such as {blind[0]}", out,
                "Name a folder on a share that all of them see under the same path, and may write to",
            )  # fmt: skip
        here = [root for root in roots[:_MOST_TRIED] if os.access(root, os.R_OK)]
        far = sorted(worker for worker, seen in engine.everywhere(may_read, here).items() if here and not seen)
        if far:
            raise WrongUsage(
                f"{len(far)} workers see none of the roots, such as {far[0]}", here[0],
                "Name roots on shares that all of them see under the same paths, or addresses",
            )  # fmt: skip
    except BaseException:
        engine.close()
        raise
    return engine


# --- in a worker ------------------------------------------------------------------------------------------------------


def be_one_of_many() -> None:
    """Said once in each worker of this machine: the cores are shared, and so is the memory."""
    from rustfern.engine.local import ALONE, cores

    share = cores()
    os.environ[ALONE] = "1"
    if sys.platform != "win32":
        import resource

        import psutil

        with contextlib.suppress(ValueError, OSError):
            each = max(int(psutil.virtual_memory().total / max(share, 1)), 1 << 30)
            _, hard = resource.getrlimit(resource.RLIMIT_DATA)
            resource.setrlimit(resource.RLIMIT_DATA, (each if hard < 0 else min(each, hard), hard))


def may_write(folder: str) -> bool:
    """Whether this process sees a folder, and may write into it."""
    return os.access(folder, os.R_OK | os.W_OK | os.X_OK)


def may_read(roots: list[str]) -> int:
    """How many of some roots this process may read."""
    return sum(os.access(root, os.R_OK) for root in roots)


def run_piece(piece: Any) -> Any:
    """One call of a command: its answer is written whole or not at all; what it says goes with the outcome."""
    from rustfern.cases.answers_folder import PART, Outcome

    began = time.monotonic()
    said = io.StringIO()
    made = f"{piece.answer}.{os.getpid()}{PART}"
    status: int | None
    answered = False
    try:
        with _surrounded(piece, made, said):
            status, answered = _called(piece.words)
        if answered:
            os.replace(made, piece.answer)
    except OSError as error:
        status = None
        said.write(f"its answer could not be written ({error.strerror or error})")
    finally:
        with contextlib.suppress(OSError):
            os.unlink(made)
    lines = [line.removeprefix("rustfern: ") for line in said.getvalue().splitlines() if line.strip()]
    reason = lines[-1][:500] if lines and status not in (0, 1) else ""
    return Outcome(
        piece.label, piece.root, status, reason, round(time.monotonic() - began, 3), piece.mark, is_answered=answered
    )


@contextlib.contextmanager
def _surrounded(piece: Any, made: str, said: io.StringIO) -> Iterator[None]:
    """The standard output goes into a file, what is said into a text; the password is there for this piece alone."""
    from rustfern.cases.location import ONE_OF_MANY
    from rustfern.engine.local import ALONE
    from rustfern.sources.registry import PASSWORD

    # The standard output is that of the whole process: a worker with several threads does one piece at a time.
    _ONE_AT_A_TIME.acquire()
    told = {ALONE: "1", ONE_OF_MANY: "1", **({PASSWORD: piece.password} if piece.password else {})}
    before, argv = {name: os.environ.get(name) for name in told}, sys.argv
    os.environ.update(told)
    sys.argv = ["rustfern", *piece.words]
    try:
        with (
            Path(made).open("w", encoding="utf-8") as out,
            contextlib.redirect_stdout(out),
            contextlib.redirect_stderr(said),
        ):
            yield
    finally:
        sys.argv = argv
        for name, value in before.items():
            os.environ.pop(name)
            if value is not None:
                os.environ[name] = value
        _ONE_AT_A_TIME.release()


def _called(words: Sequence[str]) -> tuple[int, bool]:
    """(the exit status of a call, whether it gave an answer); whatever happens in it is said on stderr."""
    from rustfern.cli import main, print_error, print_message

    try:
        return int(main(list(words), prog_name="rustfern", standalone_mode=False, obj=Run()) or 0), True
    except RustFernError as error:
        print_error(error)
        return error.exit_status, False
    except click.ClickException as error:
        print_message(error.format_message())
        return 2, False
    except (KeyboardInterrupt, click.exceptions.Abort):
        return 130, False
    except Exception as error:  # a mistake of ours about one root stops no other
        print_message(f"a mistake in Rust Fern ended this ({type(error).__name__}: {str(error)[:200]})")
        return 70, False
