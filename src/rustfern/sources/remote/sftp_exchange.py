"""Questions and answers of SFTP on one channel, as many under way at a time as are asked: a long line then costs its delay once, not for every file.

The connection, its keys and its ciphers are the library's; the messages are few, and only those that read.

Source: draft-ietf-secsh-filexfer-02 (3 general packet format, 5 file attributes, 6 requests, 7 responses).
"""

from __future__ import annotations

import itertools
import struct
import threading
import time
from collections import deque
from collections.abc import Callable, Generator, Sequence
from concurrent.futures import Future
from concurrent.futures import TimeoutError as TooLate
from contextlib import suppress
from functools import partial
from typing import Any, Protocol, TypeVar

import msgspec

from rustfern.sources.remote.pace import Pace

_VERSION = 3
_INIT, _TOLD_VERSION = 1, 2
_OPEN, _CLOSE, _READ, _FSTAT, _OPENDIR, _READDIR, _READLINK = 3, 4, 5, 8, 11, 12, 19
_STATUS, _HANDLE, _DATA, _NAME, _ATTRS = 101, 102, 103, 104, 105
_END_OF_FILE, _NOTHING, _DENIED = 1, 2, 3
_TO_READ = 1
_HAS_SIZE, _HAS_OWNER, _HAS_MODE, _HAS_TIMES, _HAS_MORE = 1, 2, 4, 8, 0x80000000
_PIECE_BYTES, _MOST_BYTES, _RECEIVED_BYTES = 32 << 10, 1 << 20, 1 << 17
"""No answer is longer: what is asked for in one is at most 32 KiB, or some hundred names."""
_SECONDS, _LEAST_SECONDS = 60.0, 0.1


class Facts(msgspec.Struct, frozen=True):
    """What is told of one thing: its size (bytes), type and permissions as in `st_mode`, seconds since 1970; None for what is not told."""

    size: int | None = None
    mode: int | None = None
    modified: int | None = None


class Channel(Protocol):
    """What the library gives to send and receive by."""

    def sendall(self, data: bytes) -> None:
        """Send all of it."""

    def recv(self, size: int) -> bytes:
        """Some bytes, none at the end."""

    def close(self) -> None:
        """Let it go."""


Answer = tuple[int, bytes]
"""The type of an answer, and what follows its number."""


Question = tuple[int, bytes]
"""The type of a question, and what follows its number."""
_Told = TypeVar("_Told")
Work = Generator[list[Question], list[Answer], _Told]
"""Something that takes several questions: it gives those that can be asked together, and gets their answers, until it knows. Files and folders that
are closed are not waited for: of those there is no answer.
"""


class _Task(msgspec.Struct, eq=False):
    """Some work under way: what it is, who waits for it, the answers that are there, and how many are not."""

    work: Work[Any]
    waits: Future[Any]
    answers: list[Answer] = msgspec.field(default_factory=list)
    missing: int = 0


class Exchange:
    """One channel. Any thread may begin work. What is waited for raises `EOFError` where the line broke, `FileNotFoundError`, `PermissionError` and
    `OSError` as the other side says, and `ValueError` for answers that are none.
    """

    def __init__(self, channel: Channel, at_once: int, pace: Pace) -> None:
        """Raises as above, also where the other side does not speak SFTP; of what is not urgent, at most `at_once` are under way at a time."""
        self._channel, self._at_once, self._pace = channel, at_once, pace
        self._lock = threading.Lock()
        self._numbers = itertools.count(1)
        self._asked: dict[int, tuple[_Task, int]] = {}
        self._queue: deque[_Task] = deque()
        self._under_way = 0
        self._heard = time.monotonic()
        self._broken = ""
        self._first: Future[Answer] = Future()
        threading.Thread(target=self._listen, name="sftp", daemon=True).start()
        channel.sendall(struct.pack(">IBI", 5, _INIT, _VERSION))
        self.wait(self._first)

    @property
    def is_broken(self) -> bool:
        """Whether nothing more can be asked here."""
        return bool(self._broken)

    def begin(self, work: Work[_Told], *, urgent: bool) -> Future[_Told]:
        """Begin something: now, or when it is its turn. It can be cancelled until then."""
        task = _Task(work, Future())
        done: list[Callable[[], None]] = []
        with self._lock:
            if self._broken:
                task.waits.set_exception(EOFError(self._broken))
                return task.waits
            if not self._asked:
                self._heard = time.monotonic()  # nobody was asked anything until now
            if urgent:
                task.waits.set_running_or_notify_cancel()
                self._under_way += 1
                self._send(self._go_on(task, None, done))
            else:
                self._queue.append(task)
                self._send(self._started(done))
        self._tell(done)
        return task.waits

    def wait(self, waits: Future[_Told]) -> _Told:
        """What work gives. Raises what it raises, and `TimeoutError` where nothing comes: the line is given up then."""
        while True:
            try:
                return waits.result(max(self._heard + _SECONDS - time.monotonic(), _LEAST_SECONDS))
            except TooLate as error:
                # A slow line is no silent one: what was asked for before comes first.
                if time.monotonic() - self._heard >= _SECONDS:
                    self._end("the other machine does not answer in time")
                    raise TimeoutError(self._broken) from error

    # --- going on -----------------------------------------------------------------------------------------------------

    def _started(self, done: list[Callable[[], None]]) -> bytes:
        """What is to be sent for the work whose turn it is now."""
        out = bytearray()
        while self._queue and self._under_way < self._at_once:
            task = self._queue.popleft()
            if task.waits.set_running_or_notify_cancel():
                self._under_way += 1
                out += self._go_on(task, None, done)
        return bytes(out)

    def _go_on(self, task: _Task, answers: list[Answer] | None, done: list[Callable[[], None]]) -> bytes:
        """What is to be sent next for some work; where it is done, who waits for it is told later (`done`)."""
        out = bytearray()
        try:
            while True:
                questions = task.work.send(answers) if answers is not None else next(task.work)
                waited = [kind != _CLOSE for kind, _ in questions]
                task.missing = sum(waited)
                task.answers = [(0, b"")] * task.missing
                place = itertools.count()
                for (kind, body), is_waited in zip(questions, waited, strict=True):
                    number = next(self._numbers) & 0xFFFFFFFF
                    if is_waited:
                        self._asked[number] = task, next(place)
                    out += struct.pack(">IBI", len(body) + 5, kind, number) + body
                if task.missing:
                    return bytes(out)
                answers = []
        except StopIteration as end:
            done.append(partial(task.waits.set_result, end.value))
        except Exception as error:  # it belongs to who waits
            done.append(partial(task.waits.set_exception, error))
        self._under_way -= 1
        return bytes(out)

    def _send(self, data: bytes) -> None:
        """Send what was gathered. A line that is broken shows where it is listened to."""
        if data:
            with suppress(OSError, EOFError):
                self._channel.sendall(data)

    @staticmethod
    def _tell(done: list[Callable[[], None]]) -> None:
        """Tell those who wait; never while the lock is held, as they may ask for more."""
        for each in done:
            each()

    # --- listening ----------------------------------------------------------------------------------------------------

    def _listen(self) -> None:
        """Take what comes, and go on with the work that it belongs to, until the line ends."""
        came = bytearray()
        try:
            while data := self._channel.recv(_RECEIVED_BYTES):
                self._pace.take(len(data))
                self._heard = time.monotonic()
                came += data
                packets, at = [], 0
                while len(came) - at >= 4:
                    (size,) = struct.unpack_from(">I", came, at)
                    if not 5 <= size <= _MOST_BYTES:
                        raise ValueError("it does not speak SFTP")
                    if len(came) - at < 4 + size:
                        break
                    packets.append((came[at + 4], bytes(came[at + 5 : at + 4 + size])))
                    at += 4 + size
                del came[:at]
                self._take(packets)
            self._end("the line broke")
        except Exception as error:  # whatever the library raises: this thread is the only one to see it
            self._end(str(error) or type(error).__name__)

    def _take(self, packets: list[Answer]) -> None:
        if packets and not self._first.done():
            if packets[0][0] != _TOLD_VERSION:
                raise ValueError("it does not speak SFTP")
            self._first.set_result(packets.pop(0))
        done: list[Callable[[], None]] = []
        with self._lock:
            out = bytearray()
            for kind, body in packets:
                task, place = self._asked.pop(int.from_bytes(body[:4], "big"), (None, 0))
                if task is not None:
                    task.answers[place] = kind, body[4:]
                    task.missing -= 1
                    if not task.missing:
                        out += self._go_on(task, task.answers, done)
            out += self._started(done)
            self._send(bytes(out))
        self._tell(done)

    def _end(self, why: str) -> None:
        """The line is of no use any more: all who wait are told."""
        with self._lock:
            self._broken = self._broken or why
            tasks = [*dict.fromkeys(task for task, _ in self._asked.values()), *self._queue]
            self._asked.clear()
            self._queue.clear()
        self._channel.close()
        for each in (self._first, *(task.waits for task in tasks)):
            with suppress(Exception):  # cancelled, or told already
                each.set_exception(EOFError(self._broken))


# --- what can be asked for --------------------------------------------------------------------------------------------


def names(folder: bytes, most: int) -> Work[list[tuple[bytes, Facts]]]:
    """What is in a folder; more than `most` names are not read on."""
    handle = _handle(*(yield [(_OPENDIR, _packed(folder))]))
    found: list[tuple[bytes, Facts]] = []
    together, ended = 2, False
    while not ended and len(found) <= most:
        for kind, body in (yield [(_READDIR, _packed(handle))] * together):
            if kind == _NAME and not ended:
                found += names_in(body)
            elif kind != _NAME and _is_end(kind, body):
                ended = True
            elif kind != _NAME:
                raise _error(kind, body)
        together = 8
    yield [(_CLOSE, _packed(handle))]
    return found


def targets(links: Sequence[bytes]) -> Work[list[bytes]]:
    """Where links lead; nothing for what is not told."""
    told = (yield [(_READLINK, _packed(link)) for link in links]) if links else []
    return [next((name for name, _ in names_in(body)), b"") if kind == _NAME else b"" for kind, body in told]


def contents(
    path: bytes, offset: int, length: int, handle: bytes | None, *, last: bool
) -> Work[tuple[bytes, Facts, bytes]]:
    """Bytes of a file: less than asked for only at its end. Gives its handle, what is told of it, and the bytes. With `last` it is closed."""
    if handle is None:
        handle = _handle(*(yield [(_OPEN, _packed(path) + struct.pack(">II", _TO_READ, 0))]))
    close = [(_CLOSE, _packed(handle))] if last else []
    spans = [(at, min(_PIECE_BYTES, offset + length - at)) for at in range(offset, offset + length, _PIECE_BYTES)]
    questions = [_span(handle, at, size) for at, size in spans]
    (kind, body), *told = yield [(_FSTAT, _packed(handle)), *questions]
    if kind != _ATTRS:
        raise _error(kind, body)
    facts, parts = facts_at(body, 0)[0], []
    for (at, size), answer in zip(spans, told, strict=True):
        part = bytearray(_data(*answer))
        while 0 < len(part) < size:
            # Answers may be shorter than asked for: the rest is asked for again.
            more = _data(*(yield [_span(handle, at + len(part), size - len(part))])[0])
            if not more:
                break
            part += more
        if len(part) > size:
            raise ValueError("more bytes came than were asked for")
        parts.append(bytes(part))
    yield close
    return handle, facts, b"".join(parts)


def closing(handle: bytes) -> Work[None]:
    """A file is let go."""
    yield [(_CLOSE, _packed(handle))]


def _span(handle: bytes, at: int, size: int) -> Question:
    return _READ, _packed(handle) + struct.pack(">QI", at, size)


def _handle(answer: Answer) -> bytes:
    kind, body = answer
    if kind != _HANDLE:
        raise _error(kind, body)
    return _string(body, 0)[0]


def _data(kind: int, body: bytes) -> bytes:
    """The bytes of an answer, none at the end of the file."""
    if kind == _DATA:
        return _string(body, 0)[0]
    if _is_end(kind, body):
        return b""
    raise _error(kind, body)


# --- what is in an answer ---------------------------------------------------------------------------------------------


def _packed(text: bytes) -> bytes:
    return struct.pack(">I", len(text)) + text


def _string(body: bytes, at: int) -> tuple[bytes, int]:
    """A string of an answer, and where the next thing begins. Raises `ValueError` where it is cut."""
    end = at + 4 + int.from_bytes(body[at : at + 4], "big")
    if len(body) < at + 4 or end > len(body):
        raise ValueError("an answer is cut")
    return body[at + 4 : end], end


def facts_at(body: bytes, at: int) -> tuple[Facts, int]:
    """The attributes that begin at a byte of an answer, and where they end. Raises `ValueError` where they are cut. Source: draft, 5."""
    size = mode = modified = None
    try:
        (flags,) = struct.unpack_from(">I", body, at)
        at += 4
        if flags & _HAS_SIZE:
            (size,) = struct.unpack_from(">Q", body, at)
            at += 8
        if flags & _HAS_OWNER:
            at += 8
        if flags & _HAS_MODE:
            (mode,) = struct.unpack_from(">I", body, at)
            at += 4
        if flags & _HAS_TIMES:
            _, modified = struct.unpack_from(">II", body, at)
            at += 8
        if flags & _HAS_MORE:
            (count,) = struct.unpack_from(">I", body, at)
            at += 4
            for _ in range(2 * count):
                _, at = _string(body, at)
    except struct.error as error:
        raise ValueError("an answer is cut") from error
    if at > len(body):
        raise ValueError("an answer is cut")
    return Facts(size, mode, modified), at


def names_in(body: bytes) -> list[tuple[bytes, Facts]]:
    """The names of an answer, each with what is told of it. Raises `ValueError` where it is cut. Source: draft, 7."""
    found, at = [], 4
    if len(body) < 4:
        raise ValueError("an answer is cut")
    for _ in range(int.from_bytes(body[:4], "big")):
        name, at = _string(body, at)
        _, at = _string(body, at)  # the line that a listing would show
        facts, at = facts_at(body, at)
        found.append((name, facts))
    return found


def _is_end(kind: int, body: bytes) -> bool:
    return kind == _STATUS and int.from_bytes(body[:4], "big") == _END_OF_FILE


def _error(kind: int, body: bytes) -> Exception:
    """What an answer that is none of the expected ones says."""
    if kind != _STATUS:
        return ValueError("an answer is none to what was asked")
    code = int.from_bytes(body[:4], "big")
    said = ""
    with suppress(ValueError):
        said = _string(body, 4)[0].decode("utf-8", "replace")[:120]
    kinds = {_NOTHING: FileNotFoundError, _DENIED: PermissionError}
    return kinds.get(code, OSError)(said or f"the other side answers with error {code}")
