"""Settings that only a program of the running system may change: the desktop's database, the registry of a running Windows, the property
lists of a running macOS. Their files are never written by hand while the system holds them.

Sources: dconf(1); the registry functions of Windows (`RegSetValueEx`); defaults(1).
"""

from __future__ import annotations

import contextlib
import fnmatch
import json
import os
import shutil
import subprocess
import sys
from collections.abc import Sequence
from typing import Protocol

from msgspec.structs import replace

from rustfern.cases import changes
from rustfern.cases.case_file import CaseFile
from rustfern.cases.changes import Change
from rustfern.settings.change import NotChanged
from rustfern.settings.interface import Value
from rustfern.settings.rewrite import is_same
from rustfern.settings.writers.interface import Wanted

_SECONDS = 20.0
FORMS = frozenset({"desktop", "registry"})
"""Forms that programs of the system keep, for many programs together."""
Raw = bool | int | str


class Store(Protocol):
    """What keeps settings on a running system."""

    def read(self, key: str, name: str) -> Raw | None:
        """What is set, None if nothing is. Raises `NotChanged`."""

    def write(self, key: str, name: str, value: Raw, stored_as: str) -> None:
        """Set a value. Raises `NotChanged`."""

    def remove(self, key: str, name: str) -> None:
        """Have nothing set. Raises `NotChanged`."""


def _said_by(*words: str) -> str:
    """What a program of the system answers. Raises `NotChanged`."""
    try:
        done = subprocess.run(words, capture_output=True, timeout=_SECONDS, check=False, stdin=subprocess.DEVNULL)
    except (OSError, subprocess.TimeoutExpired) as error:
        raise NotChanged(f"{os.path.basename(words[0])} does not answer ({type(error).__name__})") from error
    if done.returncode:
        said = done.stderr.decode("utf-8", "replace").strip().splitlines()
        raise NotChanged(f"{os.path.basename(words[0])} refused it ({said[-1][:200] if said else done.returncode})")
    return done.stdout.decode("utf-8", "replace").strip()


class DesktopDatabase:
    """The desktop's settings database through its own program."""

    def __init__(self) -> None:
        """Raises `NotChanged` where that program is not there."""
        program = shutil.which("dconf")
        if program is None:
            raise NotChanged("the desktop's own program for its settings (dconf) is not installed here")
        bus = shutil.which("dbus-run-session")
        alone = not os.environ.get("DBUS_SESSION_BUS_ADDRESS") and bus is not None
        self._words = [bus, "--", program] if alone and bus else [program]

    def read(self, key: str, name: str) -> Raw | None:
        """See `Store`."""
        text = _said_by(*self._words, "read", key + name)
        if not text:
            return None
        if text in ("true", "false"):
            return text == "true"
        last = text.rpartition(" ")[2] if text.startswith(("uint", "int", "byte")) else text
        return int(last) if last.lstrip("-").isdigit() else text.strip("'\"")

    def write(self, key: str, name: str, value: Raw, stored_as: str) -> None:
        """See `Store`; `stored_as` is the type as GVariant spells it ("u"; empty: as the value is)."""
        if isinstance(value, bool):
            text = "true" if value else "false"
        elif isinstance(value, int):
            text = f"uint32 {value}" if stored_as == "u" else str(value)
        else:
            text = "'" + value.replace("\\", "\\\\").replace("'", "\\'") + "'"
        _said_by(*self._words, "write", key + name, text)

    def remove(self, key: str, name: str) -> None:
        """See `Store`."""
        _said_by(*self._words, "reset", key + name)


class PropertyLists:
    """The property lists of a running macOS through its own program; the key is the path of the list."""

    def read(self, key: str, name: str) -> Raw | None:
        """See `Store`."""
        try:
            text = _said_by("/usr/bin/defaults", "read", key.removesuffix(".plist"), name)
        except NotChanged:
            return None
        return int(text) if text.lstrip("-").isdigit() else text

    def write(self, key: str, name: str, value: Raw, stored_as: str) -> None:
        """See `Store`."""
        kind = "-bool" if isinstance(value, bool) else "-int" if isinstance(value, int) else "-string"
        text = str(value).lower() if isinstance(value, bool) else str(value)
        _said_by("/usr/bin/defaults", "write", key.removesuffix(".plist"), name, kind, text)

    def remove(self, key: str, name: str) -> None:
        """See `Store`."""
        _said_by("/usr/bin/defaults", "delete", key.removesuffix(".plist"), name)


class RunningRegistry:
    """The person's own part of the registry of a running Windows."""

    def read(self, key: str, name: str) -> Raw | None:
        """See `Store`."""
        if sys.platform == "win32":
            import winreg

            try:
                with winreg.OpenKey(winreg.HKEY_CURRENT_USER, key) as opened:
                    value, _ = winreg.QueryValueEx(opened, name)
            except FileNotFoundError:
                return None
            except OSError as error:
                raise NotChanged(f"the registry cannot be read ({error.strerror})") from error
            return value if isinstance(value, (int, str)) else str(value)
        raise NotChanged("this is no running Windows")

    def write(self, key: str, name: str, value: Raw, stored_as: str) -> None:
        """See `Store`."""
        if sys.platform == "win32":
            import winreg

            try:
                with winreg.CreateKeyEx(winreg.HKEY_CURRENT_USER, key, 0, winreg.KEY_SET_VALUE) as opened:
                    kind = winreg.REG_SZ if isinstance(value, str) else winreg.REG_DWORD
                    winreg.SetValueEx(opened, name, 0, kind, value if isinstance(value, str) else int(value))
            except OSError as error:
                raise NotChanged(f"the registry cannot be written ({error.strerror})") from error
            return
        raise NotChanged("this is no running Windows")

    def remove(self, key: str, name: str) -> None:
        """See `Store`."""
        if sys.platform == "win32":
            import winreg

            try:
                with winreg.OpenKey(winreg.HKEY_CURRENT_USER, key, 0, winreg.KEY_SET_VALUE) as opened:
                    winreg.DeleteValue(opened, name)
            except FileNotFoundError:
                return
            except OSError as error:
                raise NotChanged(f"the registry cannot be written ({error.strerror})") from error
            return
        raise NotChanged("this is no running Windows")


def running_registry(keys: Sequence[str]) -> list[Value]:
    """The values of keys (patterns with `*`) of the person's own part of the registry of a running Windows; none elsewhere."""
    found: list[Value] = []
    if sys.platform == "win32":
        import winreg

        def below(path: str, parts: list[str]) -> None:
            try:
                with winreg.OpenKey(winreg.HKEY_CURRENT_USER, path) as opened:
                    inner, count, _ = winreg.QueryInfoKey(opened)
                    if not parts:
                        for number in range(count):
                            name, value, _ = winreg.EnumValue(opened, number)
                            if isinstance(value, (int, str)):
                                found.append(Value(path, name, value))
                        return
                    names = [winreg.EnumKey(opened, number) for number in range(inner)]
            except OSError:
                return  # not there, or not ours to read
            for name in names:
                if fnmatch.fnmatchcase(name.casefold(), parts[0].casefold()):
                    below(f"{path}\\{name}" if path else name, parts[1:])

        for key in keys:
            below("", key.split("\\"))
    return found


def store_for(form: str) -> Store | None:
    """What changes settings of a form on this running system; None where its files are written. Raises `NotChanged`."""
    if form == "desktop":
        return DesktopDatabase()
    if form == "registry" and sys.platform == "win32":
        return RunningRegistry()
    if form == "plist" and sys.platform == "darwin":
        return PropertyLists()
    return None


def apply(case: CaseFile, change: Change, store: Store, wanted: Sequence[Wanted], stored_as: dict[str, str]) -> Change:
    """Set values through a program of the system; the journal holds what was set before. Raises `NotChanged` with all as it was."""
    rows = [(each.key, each.name, store.read(each.key, each.name), each.value) for each in wanted]
    change = replace(
        change, before=_packed([row[:3] for row in rows]), after=_packed([(*row[:2], row[3]) for row in rows])
    )
    change = changes.begin(case, change)
    written: list[tuple[str, str, Raw | None]] = []
    try:
        for key, name, old, value in rows:
            store.write(key, name, value, stored_as.get(name, ""))
            written.append((key, name, old))
            if not is_same(store.read(key, name), value):
                raise NotChanged(f"{name} does not read back as {value}: something else overrides it")
    except NotChanged:
        with contextlib.suppress(NotChanged):
            _set(store, written, stored_as)
            changes.set_state(case, change.number, changes.NOT_DONE)
        raise
    changes.set_state(case, change.number, changes.DONE)
    return replace(change, state=changes.DONE)


def undo(case: CaseFile, change: Change, store: Store, stored_as: dict[str, str]) -> Change:
    """Set what was set before. Raises `NotChanged` where something else is set meanwhile."""
    before, after = _unpacked(change.before), _unpacked(change.after)
    for (key, name, old), (_, _, new) in zip(before, after, strict=True):
        now = store.read(key, name)
        if not is_same(now, new) and not is_same(now, old):
            raise NotChanged(f"it was changed since: {name} is {now} now, {new} was set")
    _set(store, before, stored_as)
    changes.set_state(case, change.number, changes.UNDONE)
    return replace(change, state=changes.UNDONE)


def _set(store: Store, rows: Sequence[tuple[str, str, Raw | None]], stored_as: dict[str, str]) -> None:
    for key, name, value in rows:
        if value is None:
            store.remove(key, name)
        else:
            store.write(key, name, value, stored_as.get(name, ""))


def _packed(rows: Sequence[tuple[str, str, Raw | None]]) -> bytes:
    return json.dumps(rows).encode()


def _unpacked(data: bytes | None) -> list[tuple[str, str, Raw | None]]:
    return [(str(key), str(name), value) for key, name, value in json.loads(data or b"[]")]
