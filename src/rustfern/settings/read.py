"""Reads what applications and systems were told: where copies go, what was open lately, where folders were moved to."""

from __future__ import annotations

import fnmatch
import os
import re
from collections.abc import Callable, Iterable, Iterator, Sequence
from typing import TYPE_CHECKING

from rustfern.core.errors import Malformed, SourceError
from rustfern.core.model import Home, Layout
from rustfern.settings.interface import (
    MAX_BYTES,
    Reader,
    ReadFile,
    Settings,
    SettingsFile,
    SettingValue,
    Value,
    chosen,
)

if TYPE_CHECKING:
    from rustfern.catalogue.loader import Protected, Setting
    from rustfern.output.temporary import Scratch
    from rustfern.sources.interface import Source as Source

__all__ = ["SettingValue", "Settings", "expand", "read_settings"]

_MAX_FILES = 3_000
_EXPORTED = ("*.reg", "Desktop/*.reg", "Documents/*.reg")
_MAX_RECENT = 4_000
_ZONE_FOLDER = "zoneinfo/"
_PERCENT = re.compile(r"%([A-Za-z()]+)%")
_DOLLAR = re.compile(r"\$\(?\{?(HOME|home|work|userurl|user|username|temp|XDG_CONFIG_HOME)\)?\}?")
_PATHS = re.compile(r"(?:[A-Za-z]:\\|\\\\)[^\0<>|\"*?]{3,400}")


def reader_of(name: str) -> Reader:
    """The reader of one kind of settings file; each is imported only when a file of its kind is there."""
    from rustfern.settings.readers import desktop_database, editors, files, windows_registry

    return {
        "pairs": files.pair_values,
        "preferences": files.preference_values,
        "named-xml": files.named_values,
        "desktop": desktop_database.values,
        "registry": windows_registry.values,
        "registry-text": windows_registry.text_values,
        "plist": files.plist_values,
        "json": files.json_values,
        "ini": files.ini_values,
        "lines": files.line_values,
        "xml": files.xml_values,
        "xcu": files.xcu_values,
        "xbel": files.xbel_values,
        "shell-link": files.link_values,
        "vim": editors.vim_values,
        "emacs": editors.emacs_values,
        "nano": editors.nano_values,
    }[name]


def read_settings(
    settings: Iterable[Setting],
    homes: Sequence[Home],
    source_of: Callable[[str], Source | None],
    find_files: Callable[[str, str, bool], list[str]],
    on_problem: Callable[[str, str], None],
    scratch: Scratch,
    protected: Iterable[Protected] = (),
) -> Settings:
    """Read the settings files of all homes and of the volumes they lie on; of `protected` programs every value of their files.

    `find_files(base, pattern, any_case)` lists the files that a pattern names below a folder. Files that are damaged, of
    another kind, in use or denied are told to `on_problem`; the others still count.
    """
    out = Settings()
    by_file: dict[tuple[str, str], list[tuple[Setting, Home | None]]] = {}
    whole: dict[tuple[str, str], tuple[set[str], Home | None]] = {}
    bases = [(home.path, home, "home") for home in homes]
    bases += [(v, next(h for h in homes if h.volume == v), "volume") for v in {h.volume for h in homes if h.volume}]
    for base, home, where in bases:
        for setting in settings:
            if setting.where != where:
                continue
            patterns: list[tuple[str, str]] = [
                (pattern, setting.reader) for pattern in setting.files.get(home.layout.value, ())
            ]
            if setting.reader == "registry" and where == "home":
                # A registry that is in use is often exported as text by hand.
                patterns += [(pattern, "registry-text") for pattern in _EXPORTED]
            for pattern, reader in patterns:
                for path in find_files(base, pattern, home.layout is not Layout.LINUX):
                    who = home if where == "home" else None
                    by_file.setdefault((path, reader), []).append((setting, who))
        for program in protected:
            if program.where != where:
                continue
            ways: list[tuple[str, str]] = [
                (pattern, program.form) for pattern in program.files.get(home.layout.value, ())
            ]
            if program.form == "registry":
                ways += [(pattern, "registry-text") for pattern in _EXPORTED]
            for pattern, form in ways:
                for path in find_files(base, pattern, home.layout is not Layout.LINUX):
                    key = path, form
                    by_file.setdefault(key, [])
                    keys = {program.sign, *(part for each in program.settings for part in (each.key, each.policy))}
                    whole.setdefault(key, (set(), home if where == "home" else None))[0].update(keys - {""})
    for number, ((path, reader), wanted) in enumerate(by_file.items()):
        if number >= _MAX_FILES:
            on_problem(path, f"only the first {_MAX_FILES} settings files were read")
            break
        source = source_of(path)
        if source is not None:
            _read_one(source, path, reader, wanted, whole.get((path, reader)), out, on_problem, scratch)
    for base, home, where in bases:
        if where == "volume" and home.layout is not Layout.WINDOWS:
            _zone_link(base, source_of, out)
    return out


def _zone_link(volume: str, source_of: Callable[[str], Source | None], out: Settings) -> None:
    """The machine's zone as the target of the link `/etc/localtime`, which systems keep instead of a name."""
    for part in ("etc/localtime", "private/etc/localtime"):
        path = os.path.join(volume, part)
        source = source_of(path)
        try:
            entry = source.entry(path) if source else None
        except SourceError:
            continue
        if entry is not None and entry.link_target and _ZONE_FOLDER in entry.link_target:
            name = entry.link_target.rpartition(_ZONE_FOLDER)[2]
            out.told.append(SettingValue("zone-link", "zone", name, path, None, "etc/localtime", entry.modified))
            return


def _read_one(
    source: Source,
    path: str,
    reader: str,
    wanted: list[tuple[Setting, Home | None]],
    whole: tuple[set[str], Home | None] | None,
    out: Settings,
    on_problem: Callable[[str, str], None],
    scratch: Scratch,
) -> None:
    values: list[Value] = []
    told: list[str] = []

    def tell(message: str) -> None:
        told.append(message)
        on_problem(path, message)

    try:
        entry = source.entry(path)
        if not entry.is_file or entry.deleted or entry.size > MAX_BYTES:
            if entry.is_file and not entry.deleted:
                on_problem(path, f"this settings file is too large to be one ({entry.size} bytes) and was not read")
            return
        if reader == "presence":
            out.files.append(ReadFile(path, reader, whole[1] if whole else None, (Value("", "", True),)))
            return
        keys = list(dict.fromkeys(setting.key for setting, _ in wanted if setting.key))
        keys += sorted((whole[0] if whole else set()) - set(keys))
        companions = logs(source, path) if reader == "registry" else {}
        with source.open(entry) as stream:
            for value in reader_of(reader)(SettingsFile(stream, entry.size, path, keys, companions, scratch)):
                values.append(value)
    except Malformed as error:
        kind = {"registry": "registry file", "shell-link": "shell link"}.get(reader, "settings file")
        tell(f"this {kind} is damaged: {error}; the usual folders were searched all the same")
    except SourceError as error:
        tell(f"{error.what}; if it is in use, attach the disk or search a copy")
    except OSError as error:
        tell(f"reading failed ({(error.strerror or str(error)).lower()})")
    except Exception as error:  # whatever a strange file does to a reader: it costs that file
        tell(f"these settings could not be read ({type(error).__name__}: {str(error)[:100]})")
    if whole is not None:
        out.files.append(ReadFile(path, reader, whole[1], tuple(values), told[0] if told else ""))
    for setting, home in wanted:
        count = 0
        for value in chosen(values, setting.key, setting.value):
            for text in _texts(setting, value):
                count += 1
                if count <= _MAX_RECENT:
                    by = f"{os.path.basename(path)}: {setting.what}"
                    out.told.append(
                        SettingValue(setting.id, setting.means, text, path, home, by, value.when or entry.modified)
                    )


def logs(source: Source, path: str) -> dict[str, bytes]:
    """The transaction logs beside a registry file."""
    folder, name = os.path.split(path)
    found: dict[str, bytes] = {}
    for other in source.names(folder)[1]:
        if fnmatch.fnmatchcase(other.casefold(), name.casefold() + ".log*"):
            entry = source.entry(os.path.join(folder, other))
            if entry.is_file and 0 < entry.size <= MAX_BYTES:
                with source.open(entry) as stream:
                    found[other.casefold()] = stream.read(entry.size)
    return found


def _texts(setting: Setting, value: Value) -> Iterator[str]:
    content = value.value
    if isinstance(content, bytes):
        if setting.means == "recovery":
            # Its layout is not published: whole paths in it, in UTF-16.
            strings = [s for skip in (0, 1) for s in _PATHS.findall(content[skip:].decode("utf-16-le", "replace"))]
            if strings:
                yield "\0".join(dict.fromkeys(strings))
        return
    text = str(content)
    if setting.take:
        found = re.search(setting.take, text)
        if found is None:
            return
        text = found["path"]
    for part in text.split(setting.parted_by) if setting.parted_by else (text,):
        if part.strip():
            yield part.strip()


def expand(text: str, home: Home | None, settings: Settings, file: str = "") -> str:
    """A recorded path with the variables of its system filled in: `%USERPROFILE%`, `$HOME`, `~`, `$(userurl)` and others.

    What cannot be known (another machine's variable) stays as it is, so that it is reported and not followed.
    """
    if home is None:
        return text
    person = os.path.basename(os.path.normpath(home.path))
    base = {Layout.WINDOWS: f"C:\\Users\\{person}", Layout.MACOS: f"/Users/{person}", Layout.LINUX: f"/home/{person}"}
    top = base[home.layout]
    if home.volume is not None:
        inner = os.path.relpath(home.path, home.volume)
        top = "C:\\" + inner.replace("/", "\\") if home.layout is Layout.WINDOWS else "/" + inner
    sep = "\\" if home.layout is Layout.WINDOWS else "/"
    known = {
        "userprofile": top,
        "appdata": f"{top}\\AppData\\Roaming",
        "localappdata": f"{top}\\AppData\\Local",
        "temp": f"{top}\\AppData\\Local\\Temp",
        "tmp": f"{top}\\AppData\\Local\\Temp",
        "username": person,
        "homedrive": "C:",
        "homepath": top[2:],
        "systemdrive": "C:",
        "public": "C:\\Users\\Public",
    }
    text = _PERCENT.sub(lambda m: known.get(m[1].casefold(), m[0]), text)
    profile = os.path.dirname(file) if file else ""
    inner_profile = os.path.relpath(profile, home.path).replace(os.sep, sep) if profile else ""
    own = {
        "HOME": top,
        "home": top,
        "work": f"{top}{sep}Documents",
        "userurl": f"{top}{sep}{inner_profile}",
        "user": f"{top}{sep}{inner_profile}",
        "username": person,
        "temp": "/tmp",
        "XDG_CONFIG_HOME": f"{top}/.config",
    }
    text = _DOLLAR.sub(lambda m: own[m[1]], text)
    if text == "~" or text.startswith(("~/", "~\\")):
        text = top + sep + text[2:]
    return text
