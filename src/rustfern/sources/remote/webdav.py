"""WebDAV: folders listed by `PROPFIND`, bytes by ranges of `GET`, earlier versions by `REPORT`. Nothing else is ever sent.

Sources: RFC 4918 (9.1 PROPFIND, 10.2 Depth, 14 XML elements, 15 properties), RFC 9110 (13.1.1 If-Match, 14 ranges, 15 status codes), RFC 3253
(3.4 version-controlled resources, 3.7 version-tree report), RFC 3986, RFC 6578 (3.6: listings that are cut short).
"""

from __future__ import annotations

import posixpath
import re
import threading
import time
import weakref
from collections import Counter
from collections.abc import Callable, Iterable, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from datetime import UTC, datetime
from functools import partial
from typing import TYPE_CHECKING
from urllib.parse import quote, unquote, urljoin, urlsplit

from rustfern.core.errors import SourceError
from rustfern.core.remote_paths import parts_of
from rustfern.core.services import ServiceLayout
from rustfern.sources.remote.interface import MOST_NAMES, TRASH, VERSIONS, Ask, Item, Trashed, Version
from rustfern.sources.remote.pace import Pace
from rustfern.sources.remote.webdav_answers import Told, asks_for, item_of, log_items, multistatus, seconds, time_of

if TYPE_CHECKING:
    import httpx

_SECONDS, _MOST_WAITED, _TRIES, _MOST_REDIRECTS, _AT_ONCE = 20.0, 30.0, 4, 5, 7
_MOST_LISTING_BYTES = 96 << 20
_MOST_SPOOLED_BYTES = 256 << 20
_PROPERTIES = (
    "DAV: resourcetype",
    "DAV: getcontentlength",
    "DAV: getlastmodified",
    "DAV: getetag",
    "DAV: lockdiscovery",
)
_OF_VERSIONS = ("DAV: version-name", "DAV: creator-displayname", "DAV: getcontentlength", "DAV: getlastmodified")
_KEEPS_LOGS = "http://subversion.tigris.org/xmlns/dav/svn/"
"""What the server of an open-source version control system says that it can do begins so."""
_CHECKED_IN = re.compile(r"(/.*/!svn/(?:ver|rvr)/)(\d+)(/.*)")
_LOG = (
    b'<?xml version="1.0" encoding="utf-8"?><S:log-report xmlns:S="svn:"><S:start-revision>%d</S:start-revision><S:end-revision>0</S:end-revision>'
    b"<S:path></S:path></S:log-report>"
)
_MOST_VERSIONS = 500
_IDENT = re.compile(r"[\w-]{1,80}")
_DEEPEST, _MOST_TRASHED = 20, 20_000
_RANGE = re.compile(r"bytes (\d+)-(\d+)/(\d+|\*)")
_SAID = {
    401: ("the service does not accept the name or the password", "Give the user in the address (davs://USER@host/…), and the password in RUSTFERN_PASSWORD or when asked"),
    403: ("the service does not allow this account to look there", "Ask the person for the right, or sign in as them"),
    404: ("there is nothing at this address", "Look at the address in the browser, and copy that of the folder"),
    405: ("this address does not speak WebDAV", "Look for the service's WebDAV address in its settings"),
    423: ("it is locked by somebody at work", "Try again when they have closed it"),
    429: ("the service asks to be left alone for a while", "Try again later, or search less with --document"),
    503: ("the service is not available", "Try again later"),
}  # fmt: skip


_NONE_KEPT = frozenset({400, 404, 405, 409, 410, 415, 422, 501})
"""Answers of a service that keeps no such thing."""


class Refused(SourceError):
    """A question that the service answered with an error (RFC 9110, 15)."""

    def __init__(self, method: str, status: int, where: str) -> None:
        what, following = _SAID.get(status, (f"the service answers with an error ({status})", "Try again later"))
        super().__init__(what, where, following)
        # A report that a service does not know may be forbidden too (RFC 3253, 3.6).
        self.means_none = status in _NONE_KEPT or (status == 403 and method != "PROPFIND")


class WebDav:
    """One server. Passwords are asked for when the server wants one, and kept in memory alone."""

    def __init__(self, top: str, ask: Ask, layouts: Sequence[ServiceLayout] = (), pace: Pace | None = None) -> None:
        """Raises `SourceError` where the library is missing or the server cannot be reached."""
        try:
            import httpx
        except ImportError as error:
            raise SourceError(
                "what reads WebDAV is not installed",
                top,
                "Install it on your own machine: pip install 'rustfern[remote]'",
            ) from error
        scheme, user, host, _ = parts_of(top)
        self._pace = pace or Pace()
        self._layouts = [(re.compile(each.files), each) for each in layouts]
        self._top, self._ask, self._user, self._lock = top, ask, user, threading.RLock()
        self._base = f"{'https' if scheme == 'davs' else 'http'}://{host}"
        self._host = urlsplit(self._base).netloc.casefold()
        # The system's own trust and no proxy credentials from files: only what was said counts.
        self._client = httpx.Client(timeout=_SECONDS, follow_redirects=False, headers={"Accept-Encoding": "identity"})
        self._password: str | None = None
        self._features: str | None = None
        self._kept: tuple[str, str, bytes] | None = None
        self._missed: dict[str, Counter[str]] = {VERSIONS: Counter(), TRASH: Counter()}
        self._workers = ThreadPoolExecutor(_AT_ONCE, "webdav")
        weakref.finalize(self, self._workers.shutdown, wait=False, cancel_futures=True)

    def close(self) -> None:
        """Let the connection go."""
        self._workers.shutdown(wait=False, cancel_futures=True)
        self._client.close()

    # --- asking -------------------------------------------------------------------------------------------------------

    def _url(self, path: str) -> str:
        return self._base + quote(path.encode("utf-8", "surrogateescape"), safe="/")

    def _send(
        self, method: str, path: str, headers: dict[str, str] | None = None, body: bytes | None = None, most: int = _MOST_LISTING_BYTES,
    ) -> tuple[httpx.Response, bytes]:  # fmt: skip
        """An answer and its bytes, of at most `most`. Raises `SourceError` for every answer that is none, with what to do."""
        import httpx

        url, redirects, waits, waited = self._url(path), 0, 0, 0.0
        for attempt in range(2 * _TRIES + _MOST_REDIRECTS):
            try:
                request = self._client.build_request(method, url, headers=headers, content=body)
                response = self._client.send(request, auth=self._auth(), stream=True)
                try:
                    data = self._bytes(response, most, path)
                finally:
                    response.close()
            except httpx.TimeoutException as error:
                if attempt + 1 < _TRIES:
                    continue
                raise SourceError(
                    "the service does not answer in time",
                    self._top + path,
                    "Look whether the network is there, and try again",
                ) from error
            except httpx.HTTPError as error:
                why = str(error)
                if "CERTIFICATE" in why.upper() or "SSL" in why.upper():
                    raise SourceError(
                        f"the service's certificate is not trusted ({why[:120]})",
                        self._top,
                        "Make sure that it is the right machine: nothing was sent to it",
                    ) from error
                if attempt + 1 < _TRIES and not isinstance(error, httpx.UnsupportedProtocol):
                    time.sleep(0.2 * attempt)
                    continue
                raise SourceError(
                    f"the service cannot be reached ({why[:120]})",
                    self._top + path,
                    "Look whether the network is there, and try again",
                ) from error
            status = response.status_code
            if status in (301, 302, 307, 308):
                redirects += 1
                url = self._redirected(url, response.headers.get("location", ""), redirects, path)
                continue
            if status == 401 and self._may_ask():
                continue
            if status in (429, 503) and waits < _TRIES and waited < _MOST_WAITED:
                pause = min(_MOST_WAITED - waited, seconds(response.headers.get("retry-after")))
                waits, waited = waits + 1, waited + pause
                time.sleep(pause)
                continue
            if status >= 400:
                raise Refused(method, status, self._top + path)
            return response, data
        raise SourceError(
            "the service sends from one address to the next", self._top + path, "Name the address that it ends at"
        )

    def _auth(self) -> httpx.BasicAuth | None:
        import httpx

        return httpx.BasicAuth(self._user, self._password) if self._password is not None else None

    def _may_ask(self) -> bool:
        """Whether a password was found that was not tried yet."""
        with self._lock:
            if self._password is not None:
                return False
            self._password = self._ask(self._user, self._host)
            return self._password is not None

    def _redirected(self, url: str, to: str, redirects: int, path: str) -> str:
        new = urljoin(url, to)
        there = urlsplit(new)
        if redirects > _MOST_REDIRECTS:
            raise SourceError(
                "the service sends from one address to the next", self._top + path, "Name the address that it ends at"
            )
        if there.scheme != urlsplit(self._base).scheme or there.netloc.casefold() != self._host:
            raise SourceError(
                f"the service sends to another place ({there.scheme}://{there.netloc[:80]}), which was not followed",
                self._top + path,
                "If that is right, name it yourself",
            )
        return new

    def _bytes(self, response: httpx.Response, most: int, path: str) -> bytes:
        parts, total = [], 0
        for part in response.iter_raw():
            self._pace.take(len(part))
            total += len(part)
            if total > most:
                raise SourceError(
                    f"the service sends more than {most} bytes for this, and was stopped", self._top + path
                )
            parts.append(part)
        return b"".join(parts)

    # --- listing ------------------------------------------------------------------------------------------------------

    def items(self, folder: str) -> list[Item]:
        """What is in a folder."""
        idents = [layout.ident for layout, _ in self._layouts_of(folder)]
        return [
            item_of(name, told, next((told.values[each] for each in idents if each in told.values), ""))
            for name, told in self._listed(folder, idents).items()
        ]

    def _listed(self, folder: str, more: Iterable[str] = ()) -> dict[str, Told]:
        """What is told of each thing in a folder, with further properties."""
        path = folder.rstrip("/") + "/"
        headers = {"Depth": "1", "Content-Type": "application/xml; charset=utf-8"}
        response, data = self._send("PROPFIND", path, headers, asks_for("propfind", (*_PROPERTIES, *more)))
        if response.status_code != 207:
            raise SourceError(
                f"the service does not list this folder ({response.status_code})", self._top + path, _SAID[405][1]
            )
        found: dict[str, Told] = {}
        for told in multistatus(data, self._top + path):
            name = self._name_in(told.href, path)
            if name:
                found[name] = told
            if len(found) > MOST_NAMES:
                raise SourceError(
                    f"the service lists more than {MOST_NAMES} names here, and was stopped", self._top + path
                )
        return found

    def _layouts_of(self, path: str) -> list[tuple[ServiceLayout, dict[str, str]]]:
        """The layouts that a path of files fits, with the parts of it that stand in their templates."""
        told = [(layout, pattern.match(path)) for pattern, layout in self._layouts]
        return [(layout, found.groupdict() | {"top": found[0]}) for layout, found in told if found is not None]

    def items_soon(self, folder: str) -> Future[list[Item]]:
        """The same, when it is its turn."""
        return self._workers.submit(self.items, folder)

    def _name_in(self, href: str, folder: str) -> str | None:
        """The name that an address has in a folder; None for the folder itself, and for what is not directly in it."""
        there = urlsplit(href)
        if there.netloc and there.netloc.casefold() != self._host:
            return None
        inner = unquote(there.path, errors="surrogateescape")
        if not inner.startswith(folder):
            return None
        name = inner[len(folder) :].strip("/")
        return None if name in ("", ".", "..") or "/" in name or "\0" in name else name

    # --- versions -----------------------------------------------------------------------------------------------------

    def keeps_versions(self, folder: str) -> bool:
        """Whether the server says that files are version-controlled, or is known to keep versions."""
        return self._tells_of_versions(folder) or any(layout.versions for layout, _ in self._layouts_of(folder))

    def _tells_of_versions(self, folder: str) -> bool:
        with self._lock:
            if self._features is None:
                self._features = ""
                try:
                    response, _ = self._send("OPTIONS", folder.rstrip("/") + "/")
                    self._features = ", ".join(response.headers.get_list("dav"))
                except SourceError as error:
                    self._note(VERSIONS, error)
        return "version-control" in {part.strip() for part in self._features.split(",")}

    def missed(self, tree: str) -> list[tuple[str, int]]:
        """What failed so far, and how often."""
        with self._lock:
            return list(self._missed[tree].items())

    def _note(self, tree: str, error: SourceError) -> None:
        """Note what failed, unless it means that the service keeps none."""
        if not isinstance(error, Refused) or not error.means_none:
            with self._lock:
                self._missed[tree][error.what] += 1

    def versions(self, files: list[tuple[str, Item]]) -> list[list[Version]]:
        """The versions of files: by their version tree (RFC 3253), else as the service is known to lay them out; empty where it keeps none."""
        return list(self._workers.map(self._versions_of, [path for path, _ in files], [item for _, item in files]))

    def _versions_of(self, path: str, item: Item) -> list[Version]:
        ways: list[Callable[[], list[Version]]] = []
        if self._tells_of_versions(posixpath.dirname(path)):
            ways.append(partial(self._version_tree, path))
        if self._features and _KEEPS_LOGS in self._features:
            ways.append(partial(self._logged, path))
        if _IDENT.fullmatch(item.ident):
            ways += [partial(self._collected, *each, item.ident) for each in self._layouts_of(path)]
        found: list[Version] = []
        failed: list[SourceError] = []
        for way in ways:
            try:
                found = found or way()
            except SourceError as error:
                failed.append(error)
        for each in failed if not found else ():
            self._note(VERSIONS, each)
        return sorted(found, key=lambda version: version.modified or datetime.fromtimestamp(0, UTC), reverse=True)

    def _version_tree(self, path: str) -> list[Version]:
        headers = {"Depth": "0", "Content-Type": "application/xml; charset=utf-8"}
        response, data = self._send("REPORT", path, headers, asks_for("version-tree", _OF_VERSIONS))
        found = []
        for told in multistatus(data, self._top + path) if response.status_code == 207 else ():
            there = urlsplit(told.href)
            if told.is_folder or (there.netloc and there.netloc.casefold() != self._host):
                continue
            found.append(_version(told, unquote(there.path, errors="surrogateescape"), "creator-displayname"))
        return found

    def _logged(self, path: str) -> list[Version]:
        """The versions of a file by the log of a version control system, which lays each out below an address of its own."""
        _, data = self._send("PROPFIND", path, {"Depth": "0"}, asks_for("propfind", ["DAV: checked-in"]))
        now = next((told.values.get("checked-in", "") for told in multistatus(data, self._top + path)), "")
        last = _CHECKED_IN.fullmatch(unquote(urlsplit(now).path, errors="surrogateescape"))
        if last is None:
            return []
        _, data = self._send("REPORT", path, {}, _LOG % int(last[2]))
        found = []
        for told in log_items(data, self._top + path)[:_MOST_VERSIONS]:
            number = told.get("version-name", "")
            where = f"{last[1]}{number}{last[3]}"
            if number.isdigit() and number != last[2]:
                _, data = self._send("PROPFIND", where, {"Depth": "0"}, asks_for("propfind", _OF_VERSIONS))
                size = next((item_of("", each).size for each in multistatus(data, self._top + where)), 0)
                found.append(
                    Version(where, size, time_of(told.get("date", "")), told.get("creator-displayname", ""), number)
                )
        return found

    def _collected(self, layout: ServiceLayout, parts: dict[str, str], ident: str) -> list[Version]:
        """The versions of a file where each lies in a collection of its own."""
        if not layout.versions:
            return []
        folder = layout.versions.format(**parts, id=ident)
        listed = self._listed(folder, [layout.author] if layout.author else [])
        return [
            _version(told, f"{folder}/{name}", layout.author) for name, told in listed.items() if not told.is_folder
        ]

    def trash(self, folder: str) -> list[Trashed]:
        """What was deleted in a folder, as the service is known to show it; nothing where it does not."""
        for layout, parts in self._layouts_of(folder) if self._layouts else ():
            if not layout.trash:
                continue
            top = layout.trash.format(**parts)
            try:
                listed = self._listed(top, [layout.deleted, layout.place])
            except SourceError as error:
                self._note(TRASH, error)
                continue
            found: list[Trashed] = []
            for name, told in listed.items():
                was = posixpath.normpath(f"{parts['top']}/{told.values.get(layout.place, name)}")
                if was == folder or was.startswith(folder.rstrip("/") + "/"):
                    deleted = time_of(told.values.get(layout.deleted, ""))
                    self._trashed(f"{top}/{name}", told, deleted, was, found, _DEEPEST)
            return found
        return []

    def _trashed(
        self, where: str, told: Told, deleted: datetime | None, was: str, found: list[Trashed], depth: int
    ) -> None:
        """A file in the trash, or what is in a folder there."""
        if len(found) >= _MOST_TRASHED:
            return
        if not told.is_folder:
            item = item_of("", told)
            found.append(Trashed(where, item.size, item.modified, deleted, was))
        elif depth:
            try:
                for name, inner in self._listed(where).items():
                    self._trashed(f"{where}/{name}", inner, deleted, f"{was}/{name}", found, depth - 1)
            except SourceError as error:
                self._note(TRASH, error)

    # --- reading ------------------------------------------------------------------------------------------------------

    def read(self, path: str, offset: int, length: int, mark: str) -> bytes:
        """Bytes of a file by a range; of a server that knows none, out of the whole file, which is kept for the next."""
        if length <= 0:
            return b""
        with self._lock:
            if self._kept is not None and self._kept[:2] == (path, mark):
                return self._kept[2][offset : offset + length]
        headers = {"Range": f"bytes={offset}-{offset + length - 1}"}
        if mark.startswith('"'):
            headers["If-Match"] = mark
        try:
            response, data = self._send("GET", path, headers, most=_MOST_SPOOLED_BYTES)
        except SourceError as error:
            if "(412)" in error.what:
                raise SourceError("it was changed there while it was read", self._top + path, "Search again") from error
            raise
        told = response.headers.get("etag", "")
        if mark.startswith('"') and told and told != mark:
            raise SourceError("it was changed there while it was read", self._top + path, "Search again")
        if response.status_code == 206:
            span = _RANGE.fullmatch(response.headers.get("content-range", ""))
            if span is None or int(span[1]) != offset or len(data) != int(span[2]) - offset + 1:
                raise SourceError("the service gives other bytes than were asked for", self._top + path, "Try again")
            return data[:length]
        if response.headers.get("content-length", str(len(data))) != str(len(data)):
            raise SourceError("the service's answer is shorter than it says", self._top + path, "Try again")
        with self._lock:
            self._kept = (path, mark, data)
        return data[offset : offset + length]

    def read_soon(self, path: str, offset: int, length: int, mark: str) -> Future[bytes]:
        """The same, when it is its turn."""
        return self._workers.submit(self.read, path, offset, length, mark)


def _version(told: Told, where: str, author: str) -> Version:
    item = item_of("", told)
    return Version(where, item.size, item.modified, told.values.get(author, ""), told.values.get("version-name", ""))
