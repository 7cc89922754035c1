"""SFTP: a folder on another machine through its secure shell; nothing is installed there, and nothing is written.

Sources: draft-ietf-secsh-filexfer-02 (version 3 of the protocol, as it is spoken everywhere), RFC 4253 (host keys), RFC 4252 (keys, agents, passwords).
"""

from __future__ import annotations

import contextlib
import os
import socket
import stat
import threading
from collections import OrderedDict
from collections.abc import Callable, Iterator
from datetime import UTC, datetime
from typing import TYPE_CHECKING, Any, Literal, cast

from rustfern.core.errors import SourceError
from rustfern.core.remote_paths import parts_of
from rustfern.output.atomic import PRIVATE
from rustfern.sources.remote.interface import MOST_NAMES, Ask, Confirm, Item, Version

if TYPE_CHECKING:
    import paramiko

_PORT, _SECONDS, _PIECE_BYTES = 22, 20.0, 32 << 10
_MOST_OPEN, _MOST_LINKS, _TRIES = 4, 500, 3
_MOST_CHANNELS = 8
"""Questions that are under way at a time, each through a channel of its own: servers allow ten."""


class Sftp:
    """One machine. Keys and agents are tried first; a password is asked for only if they do not do, and kept in memory alone."""

    def __init__(self, top: str, ask: Ask, confirm: Confirm, known_hosts: str) -> None:
        """`known_hosts` is a file of ours beside the system's own. Raises `SourceError` where the library is missing, the machine cannot be
        reached, is not the one that is known, or lets nobody in.
        """
        _, self._user, host, _ = parts_of(top)
        self._host, _, port = host.partition(":")
        self._port = int(port) if port.isdigit() else _PORT
        self._top, self._ask, self._confirm, self._known = top, ask, confirm, known_hosts
        self._lock = threading.RLock()
        self._password: str | None = None
        self._files: dict[int, OrderedDict[tuple[str, str], paramiko.SFTPFile]] = {}
        self._free = threading.Condition()
        self._channels: list[paramiko.SFTPClient] = []
        self._made = 0
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

    @contextlib.contextmanager
    def _channel(self) -> Iterator[paramiko.SFTPClient]:
        """A channel that nobody else uses meanwhile. One that broke is not used again."""
        with self._free:
            while not self._channels and self._made >= _MOST_CHANNELS:
                self._free.wait()
            sftp = self._channels.pop() if self._channels else None
            self._made += sftp is None
        try:
            if sftp is None:
                sftp = self._client.open_sftp()
                channel = sftp.get_channel()
                if channel is not None:
                    channel.settimeout(_SECONDS)
            yield sftp
        except (PermissionError, FileNotFoundError, SourceError):
            self._give_back(sftp)
            raise
        except BaseException:
            self._give_back(None)
            raise
        self._give_back(sftp)

    def _give_back(self, sftp: paramiko.SFTPClient | None) -> None:
        with self._free:
            if sftp is None:
                self._made -= 1
            else:
                self._channels.append(sftp)
            self._free.notify()

    def _tried(self, what: str, path: str, work: Callable[[paramiko.SFTPClient], Any]) -> Any:
        """What some work gives; a connection that broke is made anew. Raises `SourceError`."""
        import paramiko

        for attempt in range(_TRIES):
            client = self._client
            try:
                with self._channel() as sftp:
                    return work(sftp)
            except PermissionError as error:
                raise SourceError(
                    f"{what} (permission denied)", self._top + path, "Ask for the right to read it"
                ) from error
            except FileNotFoundError as error:
                raise SourceError(f"{what} (there is nothing)", self._top + path) from error
            except (OSError, EOFError, paramiko.SSHException) as error:
                if attempt + 1 == _TRIES:
                    raise SourceError(
                        f"{what} ({str(error)[:120] or type(error).__name__})", self._top + path,
                        "Look whether the network is there, and try again",
                    ) from error  # fmt: skip
            with self._lock:
                transport = self._client.get_transport()
                if self._client is client and (transport is None or not transport.is_active()):
                    self._files.clear()
                    self._client.close()
                    self._client = self._connected()
                    with self._free:
                        self._channels.clear()
                        self._made = 0
        raise SourceError(what, self._top + path)

    def items(self, folder: str) -> list[Item]:
        """What is in a folder."""

        def work(sftp: paramiko.SFTPClient) -> list[Item]:
            found: list[Item] = []
            links = 0
            for facts in sftp.listdir_attr(folder):
                if len(found) >= MOST_NAMES:
                    raise SourceError(
                        f"the other machine lists more than {MOST_NAMES} names here, and was stopped",
                        self._top + folder,
                    )
                name, mode = str(facts.filename), facts.st_mode or 0
                if name in ("", ".", "..") or "/" in name or "\0" in name:
                    continue
                target = None
                if stat.S_ISLNK(mode):
                    links += 1
                    target = ""
                    with contextlib.suppress(OSError):
                        target = (sftp.readlink(os.path.join(folder, name)) or "") if links <= _MOST_LINKS else ""
                found.append(
                    Item(
                        name,
                        _kind(mode),
                        facts.st_size or 0,
                        _time(facts.st_mtime),
                        f"{facts.st_size}:{facts.st_mtime}",
                        stat.S_IMODE(mode),
                        target,
                    )
                )
            return found

        result: list[Item] = self._tried("this folder could not be listed", folder, work)
        return result

    def read(self, path: str, offset: int, length: int, mark: str) -> bytes:
        """Bytes of a file, in pieces that are asked for together."""

        def work(sftp: paramiko.SFTPClient) -> bytes:
            if offset == 0 and mark == f"{length}:{mark.partition(':')[2]}":
                # All of it: what has grown or shrunk since shows by its length, so that nobody has to ask for that.
                with contextlib.closing(_Whole(sftp.open(path, "rb"))) as whole:
                    data = whole.read(length)
                if len(data) != length:
                    raise SourceError("it was changed there while it was read", self._top + path, "Search again")
                return data
            # Files stay open a while in the channel that opened them: each has one user at a time.
            mine = self._files.setdefault(id(sftp), OrderedDict())
            file = mine.get((path, mark))
            if file is None:
                file = sftp.open(path, "rb")
                facts = file.stat()
                if mark and f"{facts.st_size}:{facts.st_mtime}" != mark:
                    file.close()
                    raise SourceError("it was changed there while it was read", self._top + path, "Search again")
                mine[path, mark] = file
                while len(mine) > _MOST_OPEN:
                    mine.popitem(last=False)[1].close()
            mine.move_to_end((path, mark))
            ends = range(offset, offset + length, _PIECE_BYTES)
            return b"".join(file.readv([(at, min(_PIECE_BYTES, offset + length - at)) for at in ends]))

        result: bytes = self._tried("this could not be read", path, work)
        return result

    @property
    def keeps_versions(self) -> bool:
        """A file system keeps none that this protocol tells of."""
        return False

    def versions(self, path: str) -> list[Version]:
        """None."""
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


class _Whole:
    """A file that is read once: closed without waiting for the answer to that."""

    def __init__(self, file: paramiko.SFTPFile) -> None:
        self._file: paramiko.SFTPFile | None = file

    def read(self, length: int) -> bytes:
        """So many bytes, and one more if there is one."""
        assert self._file is not None
        pieces = [(at, min(_PIECE_BYTES, length + 1 - at)) for at in range(0, length + 1, _PIECE_BYTES)]
        return b"".join(self._file.readv(pieces))

    def close(self) -> None:
        """Let it go: the library closes what nobody holds any more in passing."""
        self._file = None


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
