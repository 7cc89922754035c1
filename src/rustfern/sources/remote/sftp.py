"""SFTP: a folder on another machine through its secure shell; nothing is installed there, and nothing is written.

Sources: draft-ietf-secsh-filexfer-02 (version 3 of the protocol, as it is spoken everywhere), RFC 4253 (host keys), RFC 4252 (keys, agents, passwords).
"""

from __future__ import annotations

import contextlib
import os
import posixpath
import socket
import stat
import threading
from collections import OrderedDict
from collections.abc import Callable
from concurrent.futures import Future
from datetime import UTC, datetime
from typing import TYPE_CHECKING, Any, Literal, TypeVar, cast

import msgspec

from rustfern.core.errors import SourceError
from rustfern.core.remote_paths import parts_of
from rustfern.output.atomic import PRIVATE
from rustfern.sources.remote.interface import MOST_NAMES, Ask, Confirm, Item, Trashed, Version
from rustfern.sources.remote.pace import Pace
from rustfern.sources.remote.sftp_exchange import Exchange, Facts, Work, closing, contents, names, targets

if TYPE_CHECKING:
    import paramiko

_PORT, _SECONDS, _TRIES = 22, 20.0, 3
_MOST_OPEN, _MOST_LINKS, _AT_ONCE = 8, 500, 128
_Told = TypeVar("_Told")


class Sftp:
    """One machine. Keys and agents are tried first; a password is asked for only if they do not do, and kept in memory alone."""

    def __init__(self, top: str, ask: Ask, confirm: Confirm, pace: Pace, known_hosts: str) -> None:
        """`known_hosts` is a file of ours beside the system's own. Raises `SourceError` where the library is missing, the machine cannot be
        reached, is not the one that is known, or lets nobody in.
        """
        _, self._user, host, _ = parts_of(top)
        self._host, _, port = host.partition(":")
        self._port = int(port) if port.isdigit() else _PORT
        self._top, self._ask, self._confirm, self._known = top, ask, confirm, known_hosts
        self._pace = pace
        self._lock = threading.RLock()
        self._password: str | None = None
        self._files: OrderedDict[tuple[Exchange, str, str], bytes] = OrderedDict()
        self._exchange: Exchange | None = None
        self._client = self._connected()

    def close(self) -> None:
        """Let the connection go."""
        with self._lock:
            self._files.clear()
            self._client.close()

    def _connected(self) -> paramiko.SSHClient:
        try:
            import paramiko
        except ImportError as error:
            raise SourceError(
                "what reads SFTP is not installed",
                self._top,
                "Install it on your own machine: pip install 'rustfern[remote]'",
            ) from error
        client = paramiko.SSHClient()
        client.load_system_host_keys()
        with contextlib.suppress(OSError):
            client.load_host_keys(self._known)
        client.set_missing_host_key_policy(_asks_first(self._confirm, self._known))
        try:
            while True:
                try:
                    line = _Line(socket.create_connection((self._host, self._port), _SECONDS))
                    client.connect(
                        self._host, self._port, self._user or None, self._password, sock=cast("socket.socket", line), timeout=_SECONDS, banner_timeout=_SECONDS,
                        auth_timeout=_SECONDS, channel_timeout=_SECONDS,
                    )  # fmt: skip
                    break
                except paramiko.SSHException as error:
                    # Where there is no key at all, the library says so in words only.
                    if isinstance(error, paramiko.BadHostKeyException) or not (
                        isinstance(error, (paramiko.AuthenticationException, paramiko.PasswordRequiredException))
                        or "No authentication methods" in str(error)
                    ):
                        raise
                    if self._password is None:
                        self._password = self._ask(self._user, self._host)
                        if self._password is not None:
                            continue
                    raise SourceError(
                        "the other machine does not accept the key or the password", self._top,
                        "Give the user in the address (sftp://USER@host/…), and the password in RUSTFERN_PASSWORD or when asked",
                    ) from error  # fmt: skip
        except paramiko.BadHostKeyException as error:
            raise SourceError(
                "this is not the machine that is known under that name: its key is another one", self._top,
                "Ask who runs it whether the key was changed; until then nothing is sent to it",
            ) from error  # fmt: skip
        except paramiko.SSHException as error:
            raise SourceError(
                f"the other machine refuses ({str(error)[:150]})",
                self._top,
                "Look at the address, and whether it lets you in",
            ) from error
        except OSError as error:
            raise SourceError(
                f"the other machine cannot be reached ({(error.strerror or str(error) or type(error).__name__).lower()[:120]})", self._top,
                "Look whether it is on and the network is there, and try again",
            ) from error  # fmt: skip
        return client

    def _opened(self) -> Exchange:
        """The channel that questions go through; made anew where it broke, by whoever comes first. Raises what the library raises, or `SourceError`."""
        with self._lock:
            if self._exchange is None or self._exchange.is_broken:
                self._files.clear()
                transport = self._client.get_transport()
                if transport is None or not transport.is_active():
                    self._client.close()
                    self._client = self._connected()
                    transport = self._client.get_transport()
                if transport is None:
                    raise EOFError("the line broke")
                channel = transport.open_session(timeout=_SECONDS)
                channel.invoke_subsystem("sftp")
                self._exchange = Exchange(channel, _AT_ONCE, self._pace)
            return self._exchange

    def _tried(self, what: str, path: str, work: Callable[[Exchange], Work[_Told]]) -> _Told:
        """What some work gives; a connection that broke is made anew. Raises `SourceError`."""
        import paramiko

        for attempt in range(_TRIES):
            try:
                exchange = self._opened()
                return exchange.wait(exchange.begin(work(exchange), urgent=True))
            except PermissionError as error:
                raise SourceError(
                    f"{what} (permission denied)", self._top + path, "Ask for the right to read it"
                ) from error
            except FileNotFoundError as error:
                raise SourceError(f"{what} (there is nothing)", self._top + path) from error
            except (OSError, EOFError, ValueError, paramiko.SSHException) as error:
                if attempt + 1 == _TRIES:
                    raise SourceError(
                        f"{what} ({str(error)[:120] or type(error).__name__})", self._top + path,
                        "Look whether the network is there, and try again",
                    ) from error  # fmt: skip
        raise SourceError(what, self._top + path)

    def _soon(self, work: Callable[[Exchange], Work[_Told]]) -> Future[_Told]:
        exchange = self._exchange
        if exchange is not None:
            return exchange.begin(work(exchange), urgent=False)
        told: Future[_Told] = Future()
        told.set_exception(EOFError("there is no line yet"))
        return told

    def items(self, folder: str) -> list[Item]:
        """What is in a folder."""
        return self._tried("this folder could not be listed", folder, lambda _: self._items(folder))

    def items_soon(self, folder: str) -> Future[list[Item]]:
        """The same, when it is its turn; tried once."""
        return self._soon(lambda _: self._items(folder))

    def _items(self, folder: str) -> Work[list[Item]]:
        told = yield from names(_bytes(folder), MOST_NAMES)
        if len(told) > MOST_NAMES:
            raise SourceError(
                f"the other machine lists more than {MOST_NAMES} names here, and was stopped", self._top + folder
            )
        found = [
            Item(
                name, _kind(mode), facts.size or 0, _time(facts.modified), _mark(facts), stat.S_IMODE(mode),
                "" if stat.S_ISLNK(mode) else None,
            )
            for name, facts, mode in ((_text(raw), facts, facts.mode or 0) for raw, facts in told)
            if name not in ("", ".", "..") and "/" not in name and "\0" not in name
        ]  # fmt: skip
        links = [number for number, item in enumerate(found) if item.kind == "link"][:_MOST_LINKS]
        leads = yield from targets([_bytes(posixpath.join(folder, found[number].name)) for number in links])
        for number, target in zip(links, leads, strict=True):
            found[number] = msgspec.structs.replace(found[number], target=_text(target))
        return found

    def read(self, path: str, offset: int, length: int, mark: str) -> bytes:
        """Bytes of a file, in pieces that are asked for together with what shows that it is still the same."""
        return self._tried(
            "this could not be read", path, lambda exchange: self._read(exchange, path, offset, length, mark)
        )

    def read_soon(self, path: str, offset: int, length: int, mark: str) -> Future[bytes]:
        """The same, when it is its turn; tried once."""
        return self._soon(lambda exchange: self._read(exchange, path, offset, length, mark))

    def _read(self, exchange: Exchange, path: str, offset: int, length: int, mark: str) -> Work[bytes]:
        is_whole = offset == 0 and mark.partition(":")[0] == str(length)
        known = self._files.pop((exchange, path, mark), None)
        handle, facts, data = yield from contents(_bytes(path), offset, length, known, last=is_whole)
        is_same = not mark or _mark(facts) == mark
        if not is_whole:
            # What is read in parts stays open a while; each handle has one user at a time.
            dropped = [handle]
            if is_same:
                dropped = [self._files.pop((exchange, path, mark), b"")]
                self._files[exchange, path, mark] = handle
            while len(self._files) > _MOST_OPEN:
                dropped.append(self._files.popitem(last=False)[1])
            for each in filter(None, dropped):
                yield from closing(each)
        if not is_same:
            raise SourceError("it was changed there while it was read", self._top + path, "Search again")
        return data

    def keeps_versions(self, folder: str) -> bool:
        """A file system keeps none that this protocol tells of."""
        return False

    def versions(self, files: list[tuple[str, Item]]) -> list[list[Version]]:
        """None."""
        return [[] for _ in files]

    def trash(self, folder: str) -> list[Trashed]:
        """None: a trash on that machine is a folder like any other."""
        return []

    def missed(self, tree: str) -> list[tuple[str, int]]:
        """Nothing: neither is asked for."""
        return []


class _Line:
    """A connection on which many small questions and answers go back and forth: nothing waits to be sent together with something else (RFC 896),
    and what came is confirmed at once (RFC 1122, 4.2.3.2 allows to wait for half a second), or the other side would wait for that.
    """

    def __init__(self, line: socket.socket) -> None:
        self._line = line
        line.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
        self._quick = getattr(socket, "TCP_QUICKACK", None)

    def __getattr__(self, name: str) -> Any:
        return getattr(self._line, name)

    def recv(self, size: int) -> bytes:
        """What came."""
        data = self._line.recv(size)
        if self._quick is not None:
            with contextlib.suppress(OSError):
                self._line.setsockopt(socket.IPPROTO_TCP, self._quick, 1)
        return data


def _bytes(path: str) -> bytes:
    return path.encode("utf-8", "surrogateescape")


def _text(path: bytes) -> str:
    """Names are bytes: what is no UTF-8 has to be found too."""
    return path.decode("utf-8", "surrogateescape")


def _mark(facts: Facts) -> str:
    return f"{facts.size}:{facts.modified}"


def _kind(mode: int) -> Literal["file", "folder", "link", "other"]:
    if stat.S_ISDIR(mode):
        return "folder"
    return "link" if stat.S_ISLNK(mode) else "file" if stat.S_ISREG(mode) else "other"


def _time(seconds: int | None) -> datetime | None:
    try:
        return None if seconds is None else datetime.fromtimestamp(seconds, UTC)
    except (ValueError, OverflowError, OSError):
        return None


def _asks_first(confirm: Confirm, known_hosts: str) -> paramiko.MissingHostKeyPolicy:
    """A machine that is not known yet: its key is shown, and kept only if somebody agrees."""
    import base64
    import hashlib

    import paramiko

    class AskFirst(paramiko.MissingHostKeyPolicy):
        def missing_host_key(self, client: paramiko.SSHClient, hostname: str, key: paramiko.PKey) -> None:
            told = base64.b64encode(hashlib.sha256(key.asbytes()).digest()).decode().rstrip("=")
            if not confirm(
                f"{hostname} is not known yet. Its key is {key.get_name()} SHA256:{told}. Is it the right machine?"
            ):
                raise paramiko.SSHException(f"its key SHA256:{told} is not known here, and nobody agreed to it")
            client.get_host_keys().add(hostname, key.get_name(), key)
            with contextlib.suppress(OSError):
                os.makedirs(os.path.dirname(known_hosts), mode=0o700, exist_ok=True)
                handle = os.open(known_hosts, os.O_WRONLY | os.O_CREAT | os.O_APPEND, PRIVATE)
                with os.fdopen(handle, "w", encoding="utf-8") as out:
                    out.write(f"{hostname} {key.get_name()} {key.get_base64()}\n")

    return AskFirst()
