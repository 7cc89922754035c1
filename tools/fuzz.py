#!/usr/bin/env python3
"""Coverage-guided fuzzing of every parser: tools/fuzz.py --seconds N [--only NAME…] [--found DIR] [--corpus DIR]

Each group of parsers gets its share of the seconds in a process of its own (libFuzzer through atheris, `pip install atheris`), beginning with the
test data that they know. A parser may give an answer or raise `Malformed` or `SourceError`; anything else, 20 seconds for one input, or two gigabytes of
memory is a finding, kept under `--found`. Prints executions, edges covered and findings.
"""

from __future__ import annotations

import argparse
import contextlib
import io
import os
import re
import subprocess
import sys
import tarfile
import tempfile
import time
from collections.abc import Callable, Iterator
from pathlib import Path

ROOT = Path(__file__).resolve().parents[1]
DATA = ROOT / "tests" / "data"
LONGEST, SLOWEST, MEMORY = 1 << 16, 20, 2048
SEEDS = 12

Parser = Callable[[bytes], object]


def check_as(name: str) -> Parser:
    """Check, glance at and show bytes under a file name."""
    from rustfern.formats import registry as formats
    from rustfern.formats.interface import Limits

    def parse(data: bytes) -> object:
        formats.glance(io.BytesIO(data), name)
        formats.read_text(io.BytesIO(data), name, 2_000, Limits())
        return formats.check(io.BytesIO(data), name)

    return parse


def repair_as(name: str) -> Parser:
    """Repair bytes under a file name; what is written must be read without a fault of this program, whole or not."""
    from rustfern.core.errors import Malformed
    from rustfern.formats import registry as formats
    from rustfern.repair.interface import Budget, Job
    from rustfern.repair.registry import repairers

    def parse(data: bytes) -> object:
        made = []
        for format_name, mend in repairers(data[:4096], name, name.rpartition(".")[2]):
            out = io.BytesIO()
            with contextlib.suppress(Malformed):
                mend(Job(io.BytesIO(data), len(data), name, format_name, budget=Budget(SLOWEST / 2)), out)
                made.append(formats.check(out, name, digest=False))
        return made

    return parse


def settings(reader: str, keys: tuple[str, ...] = ("*",)) -> Parser:
    """A reader of settings files."""
    from rustfern.settings.interface import SettingsFile
    from rustfern.settings.readers import editors, files, windows_registry

    module, _, function = reader.partition(".")
    read = getattr({"editors": editors, "files": files, "windows_registry": windows_registry}[module], function)
    return lambda data: list(read(SettingsFile(io.BytesIO(data), len(data), "file", keys)))


def rebuild_vim(data: bytes) -> object:
    from rustfern.traces import vim_swap

    original = data[: data[0] * 8] if data else None
    return vim_swap.parse(io.BytesIO(data)), vim_swap.rebuild(io.BytesIO(data), len(data), original)


def replay_kate(data: bytes) -> object:
    from rustfern.traces import kate_journal

    return kate_journal.replay(kate_journal.parse(data), b"Rake out the seam\nCaulk it\nPay it\n")


def mail_store(data: bytes) -> object:
    from rustfern.traces import mail_store as store

    out = []
    for mail in store.mails(io.BytesIO(data)):
        message = store.read(io.BytesIO(data), mail)
        out.append((store.facts(message), store.attachments(message), store.body(message)))
    return out


def kept(data: bytes) -> object:
    from rustfern.core.errors import WrongUsage
    from rustfern.sources import kept_folder

    with tempfile.TemporaryDirectory() as folder:
        (Path(folder) / kept_folder.MANIFEST).write_bytes(data)
        try:
            return kept_folder.read_head(folder), list(kept_folder.read_files(folder))
        except WrongUsage:
            return None


def names(data: bytes) -> object:
    """What is read of file names: the catalogue's patterns, what is shown, what is written."""
    from rustfern.catalogue.loader import catalogue
    from rustfern.core.paths import fold_name, show_name
    from rustfern.operations.restore_names import safe_name

    name = os.fsdecode(data.replace(b"\0", b"").replace(b"/", b""))[:255]
    safe = safe_name(name)
    assert safe not in (".", "..") and "/" not in safe and len(safe.encode()) <= 255, safe
    shown = show_name(name)
    assert shown.isprintable() or "\u200d" in shown or "\xa0" in name, shown
    return fold_name(name), catalogue()


def parsers() -> dict[str, tuple[Callable[[], Parser], tuple[str, ...]]]:
    """name → (what makes the parser, endings of the seeds)."""
    from rustfern.formats.format_table import FORMATS, class_of
    from rustfern.repair.registry import is_known

    out: dict[str, tuple[Callable[[], Parser], tuple[str, ...]]] = {}
    for name in sorted(FORMATS):
        out[f"{class_of(name)}-{name}"] = (lambda name=name: check_as(f"fuzzed.{name}")), (f".{name}",)
        if is_known(f"fuzzed.{name}", name):
            out[f"repair-{name}"] = (lambda name=name: repair_as(f"fuzzed.{name}")), (f".{name}",)
    out["nameless"] = (lambda: check_as("fuzzed")), ("",)
    traces = {
        "browser_session.parse": (".jsonlz4",), "code_unsaved.parse": (), "ds_store.original_locations": (".DS_Store",), "editor_marks.parse_list": (),
        "editor_tab.parse": (".bin",), "joe_dead.parse": ("DEADJOE",), "record_file.parse": (".recno",), "kate_journal.parse": (".kate-swp",), "kept_lists.kate_session": (".katesession",),
        "kept_lists.focuswriter_mapping": (), "kept_lists.notepadpp_session": (".xml",), "kept_lists.code_history": (".json",),
        "mousepad_session.parse": (), "odf_lock.parse": ("#",), "owner_lock.parse": (".docx", ".xlsx"), "program_locks.parse_drawing": (".dwl", ".dwl2"),
        "program_locks.parse_database": (".ldb", ".laccdb"), "shell_link.parse": (".lnk",), "trash_info.parse": (".trashinfo",),
        "trash_windows.parse": (".txt", ".docx"), "trash_windows.parse_list": ("INFO2",),
    }  # fmt: skip
    for name, endings in traces.items():
        module, _, function = name.partition(".")

        def make(module: str = module, function: str = function) -> Parser:
            import importlib

            found: Parser = getattr(importlib.import_module(f"rustfern.traces.{module}"), function)
            return found

        out[f"trace-{name}"] = make, endings

    def recovery() -> Parser:
        from rustfern.traces import recovery_list

        return lambda data: recovery_list.parse(io.BytesIO(data))

    out["trace-recovery_list"] = recovery, (".xcu",)
    out["trace-vim_swap"] = (lambda: rebuild_vim), (".swp", ".swo")
    out["rebuild-kate"] = (lambda: replay_kate), (".kate-swp",)
    out["trace-mail_store"] = (lambda: mail_store), ("Drafts", "Trash", ".mbox")
    out["kept-manifest"] = (lambda: kept), (".jsonl",)
    out["names"] = (lambda: names), ()
    for reader, endings in (
        ("editors.vim_values", ("vimrc",)), ("editors.emacs_values", (".el",)), ("editors.nano_values", ("nanorc",)), ("files.plist_values", (".plist",)),
        ("files.json_values", (".json",)), ("files.ini_values", ("rc", ".conf")), ("files.line_values", ()), ("files.xml_values", (".xml",)),
        ("files.xcu_values", (".xcu",)), ("files.xbel_values", (".xbel",)), ("files.link_values", (".lnk",)), ("windows_registry.text_values", (".reg",)),
        ("windows_registry.values", ("NTUSER.DAT",)),
    ):  # fmt: skip
        out[f"settings-{reader}"] = (lambda reader=reader: settings(reader)), endings
    return out


def seeds(endings: tuple[str, ...], more: Path | None) -> Iterator[bytes]:
    """Test data whose names end so; short files first."""
    found: list[bytes] = []
    for archive in [*DATA.glob("*.tar.xz"), *DATA.glob("homes/*.tar.gz")]:
        with tarfile.open(archive) as source:
            for member in source:
                if member.isfile() and member.size <= LONGEST * 4 and member.name.endswith(endings or ("",)):
                    stream = source.extractfile(member)
                    if stream is not None:
                        found.append(stream.read())
    if more is not None:
        found += [
            p.read_bytes()
            for p in more.rglob("*")
            if p.is_file() and p.name.endswith(endings or ("",)) and p.stat().st_size <= LONGEST * 4
        ]
    yield from sorted(set(found), key=len)[:SEEDS]


def groups(only: list[str] | None) -> dict[str, list[str]]:
    """Parsers that are fuzzed in one process, by what their names begin with: the first byte of an input tells which of them reads the rest."""
    out: dict[str, list[str]] = {}
    for name in parsers():
        if not only or any(part in name for part in only):
            out.setdefault(name.partition("-")[0], []).append(name)
    return out


def one(names_: list[str], arguments: list[str]) -> None:
    """Fuzz parsers in this process."""
    import atheris

    with atheris.instrument_imports(include=["rustfern"], enable_loader_override=False):
        from rustfern.core.errors import Malformed, SourceError

        there = parsers()
        read = [there[name][0]() for name in names_]
        # Most readers are imported when they are first needed: they must be watched too.
        for path in sorted(Path(arguments[0]).iterdir()):
            data = path.read_bytes()
            with contextlib.suppress(Malformed, SourceError):
                read[data[0] % len(read)](data[1:])

    def test(data: bytes) -> None:
        try:
            if data:
                read[data[0] % len(read)](data[1:])
        except (Malformed, SourceError):
            return

    atheris.Setup([sys.argv[0], *arguments], test)
    atheris.Fuzz()


def main() -> int:
    if len(sys.argv) > 2 and sys.argv[1] == "--one":
        one(sys.argv[2].split(","), sys.argv[3:])
        return 0
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--seconds", type=int, default=3600, help="all together")
    parser.add_argument("--only", nargs="*", help="parsers whose names hold one of these")
    parser.add_argument("--found", default="fuzz-found", help="where inputs that broke something are kept")
    parser.add_argument("--corpus", help="where inputs that reached something new are kept between runs")
    parser.add_argument("--more", help="another folder with seeds")
    asked = parser.parse_args()
    there = parsers()
    chosen = groups(asked.only)
    total = findings = 0
    started = time.monotonic()
    with tempfile.TemporaryDirectory() as scratch:
        for group, members in chosen.items():
            corpus = Path(asked.corpus or scratch) / group
            corpus.mkdir(parents=True, exist_ok=True)
            for index, name in enumerate(members):
                for number, data in enumerate(seeds(there[name][1], Path(asked.more) if asked.more else None)):
                    (corpus / f"seed-{index:03}-{number:02}").write_bytes(bytes([index]) + data)
            found = Path(asked.found) / group
            found.mkdir(parents=True, exist_ok=True)
            before = set(found.iterdir())
            seconds = max(asked.seconds * len(members) // sum(map(len, chosen.values())), 1)
            command = [
                sys.executable, __file__, "--one", ",".join(members), str(corpus), f"-max_total_time={seconds}", f"-max_len={LONGEST}",
                f"-timeout={SLOWEST}", f"-rss_limit_mb={MEMORY}", f"-artifact_prefix={found}/", "-print_final_stats=1",
            ]  # fmt: skip
            run = subprocess.run(
                command,
                capture_output=True,
                text=True,
                errors="replace",
                env={**os.environ, "PYTHONPATH": str(ROOT / "src")},
            )
            done = re.findall(r"stat::number_of_executed_units:\s*(\d+)", run.stderr)
            edges = re.findall(r"cov: (\d+)", run.stderr)
            new = sorted(set(found.iterdir()) - before)
            count = int(done[-1]) if done else 0
            total, findings = total + count, findings + len(new)
            print(
                f"{group:<10} {len(members):>3} parsers, {count:>9} executions, {edges[-1] if edges else 0:>6} edges, {len(new)} findings",
                flush=True,
            )
            for path in new:
                error = re.findall(r"(?m)^\S*(?:Error|Exception|ALARM|timeout|out-of-memory).*$", run.stderr)
                print(f"    {path.name}: {error[-1][:160] if error else 'see it with --one'}", flush=True)
            if not done and not new:
                print(run.stderr[-800:], file=sys.stderr)
            if not any(found.iterdir()):
                found.rmdir()
    print(
        f"{sum(map(len, chosen.values()))} parsers, {total} executions in {time.monotonic() - started:.0f} s, {findings} findings"
    )
    return 1 if findings else 0


if __name__ == "__main__":
    sys.exit(main())
