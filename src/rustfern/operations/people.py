"""In which accounts a person's real name stands: the system's account records, locks beside documents, the authors of documents."""

from __future__ import annotations

import os
from collections import Counter
from collections.abc import Iterator, Sequence
from contextlib import suppress

from rustfern.catalogue.loader import catalogue
from rustfern.core.asked import words_of
from rustfern.core.errors import Malformed, SourceError
from rustfern.core.model import Home, Layout
from rustfern.core.paths import fold_name
from rustfern.formats import registry as formats
from rustfern.formats.format_table import DOCUMENT_EXTENSIONS, class_of, extension_of, format_of_extension
from rustfern.output.temporary import Scratch
from rustfern.search.recorded_paths import RecordedPaths
from rustfern.settings.interface import MAX_BYTES, SettingsFile
from rustfern.settings.readers import accounts
from rustfern.settings.readers.accounts import Account
from rustfern.sources.interface import Source
from rustfern.sources.registry import Sources

_MAX_FOLDERS, _MAX_DOCUMENTS, _MAX_LOCKS = 2_000, 150, 100
_MAX_RECORD_BYTES = 1 << 20
_MAX_LOCK_BYTES = 4_096
_WITH_AUTHORS = frozenset({"text", "sheet", "slides", "page"})


def named_in(door: Sources, homes: Sequence[Home], wanted: str, scratch: Scratch) -> dict[str, str]:
    """The homes of accounts that carry a real name, by path, and where it stands. Looks into a bounded part of each home, reading only.

    The system's own record decides where there is one. Else the name that stands most often in a home's locks and documents: others open
    documents of a home too, and send theirs.
    """
    recorded = {
        home.path: where for home in homes for name, where in _recorded(door, home, scratch) if _is(wanted, name)
    }
    if recorded:
        return recorded
    found: dict[str, str] = {}
    for home in homes:
        first: dict[str, str] = {}
        counted: Counter[str] = Counter()
        for name, where in _names(door, home):
            first.setdefault(" ".join(words_of(name)), where)
            counted[" ".join(words_of(name))] += 1
        most = max(counted.values(), default=0)
        mine = next((name for name, count in counted.items() if count == most and _is(wanted, name)), None)
        if mine is not None:
            found[home.path] = first[mine]
    return found


def _is(wanted: str, name: str) -> bool:
    """Whether a name is that of the person: every word of the one stands in the other."""
    asked, told = set(words_of(wanted)), set(words_of(name))
    return bool(asked) and asked <= told


def _names(door: Sources, home: Home) -> Iterator[tuple[str, str]]:
    """Real names in a home's locks and documents, and where each stands."""
    source = door.open(home.root)
    locks, documents = 0, 0
    folders = source.walk(home.path, lambda path, message: None)
    for count, (folder, _, names) in enumerate(folders):
        if count >= _MAX_FOLDERS or (locks >= _MAX_LOCKS and documents >= _MAX_DOCUMENTS):
            return
        for name in names:
            path = os.path.join(folder, name)
            found = catalogue().match_beside(name)
            if found is not None and found[0].kind == "lock" and locks < _MAX_LOCKS:
                locks += 1
                if owner := _owner(source, path, found[0].trace):
                    yield owner, f"the lock {name}"
            elif documents < _MAX_DOCUMENTS and _may_tell(name):
                documents += 1
                if author := _author(source, path):
                    yield author, f"the author of {name}"


def _recorded(door: Sources, home: Home, scratch: Scratch) -> Iterator[tuple[str, str]]:
    """The real name in the account record of the system that a home belongs to."""
    for account in _accounts(door, home, scratch):
        if account.real_name and fold_name(home.person) in (
            fold_name(account.name), fold_name(os.path.basename(account.home)),
        ):  # fmt: skip
            yield account.real_name, "the system's account record"


def _accounts(door: Sources, home: Home, scratch: Scratch) -> Iterator[Account]:
    """All accounts that the system's records tell of; what cannot be read tells of none."""
    if home.volume is None:
        return
    source = door.open(home.root)
    paths = RecordedPaths(door, [home], [home.root])

    def at(*parts: str) -> str:
        assert home.volume is not None
        return paths.join(home.volume, parts, any_case=home.layout is not Layout.LINUX)

    with suppress(SourceError, OSError, Malformed):
        match home.layout:
            case Layout.LINUX:
                yield from accounts.from_passwd(_bytes(source, at("etc", "passwd")))
            case Layout.MACOS:
                record = f"{home.person}.plist"
                for top in (("private", "var"), ("var",)):
                    with suppress(SourceError, OSError, Malformed):
                        yield from accounts.from_directory_record(
                            _bytes(source, at(*top, "db", "dslocal", "nodes", "Default", "users", record))
                        )
            case Layout.WINDOWS:
                yield from _of_windows(source, at("Windows", "System32", "config", "SAM"), scratch)


def _of_windows(source: Source, path: str, scratch: Scratch) -> Iterator[Account]:
    from rustfern.settings.read import logs
    from rustfern.settings.readers import windows_registry

    entry = source.entry(path)
    if entry.is_file and entry.size <= MAX_BYTES:
        with source.open(entry) as stream:
            hive = SettingsFile(stream, entry.size, path, accounts.SAM_KEYS, logs(source, path), scratch)
            yield from accounts.from_sam(windows_registry.values(hive))


def _bytes(source: Source, path: str) -> bytes:
    with source.open(source.entry(path)) as stream:
        return stream.read(_MAX_RECORD_BYTES)


def _owner(source: Source, path: str, trace: object) -> str:
    from rustfern.traces.registry import Trace

    if not isinstance(trace, Trace) or not trace.reader:
        return ""
    with suppress(SourceError, OSError, Malformed), source.open(source.entry(path)) as stream:
        return str(getattr(trace.parse(stream.read(_MAX_LOCK_BYTES)), "owner", "") or "")
    return ""


def _may_tell(name: str) -> bool:
    extension = extension_of(name)
    return extension in DOCUMENT_EXTENSIONS and class_of(format_of_extension(extension)) in _WITH_AUTHORS


def _author(source: Source, path: str) -> str:
    with suppress(SourceError, OSError, Malformed, ValueError, LookupError):
        entry = source.entry(path)
        if entry.is_file:
            with source.open(entry) as stream:
                return formats.glance(stream, os.path.basename(path)).author or ""
    return ""
