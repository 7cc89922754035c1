"""A small simulated sync service of the boatyard: files with their history and a trash over WebDAV, on this machine alone. It stands in for a real
one, and lays out files, trash and versions where the open-source one that many people run itself (Nextcloud) has them.

Sources: RFC 4918 (PROPFIND), RFC 3253 (3.7 version-tree), RFC 9110 (ranges, entity tags), RFC 7617 (basic authentication).
"""

from __future__ import annotations

import base64
import hashlib
import os
from collections.abc import Mapping
from datetime import UTC, datetime, timedelta
from email.utils import format_datetime
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from urllib.parse import quote, unquote, urlsplit
from xml.sax.saxutils import escape

import msgspec

USER, PASSWORD, PORT = "ines", "oakum", 8_736
FILES, _TRASH = f"/remote.php/dav/files/{USER}", f"/remote.php/dav/trashbin/{USER}/trash"
_VERSIONS = f"/remote.php/dav/versions/{USER}/versions"
_SPACES = 'xmlns:d="DAV:" xmlns:oc="http://owncloud.org/ns" xmlns:nc="http://nextcloud.org/ns"'
_PLACEHOLDER = ".nextcloud"
_FIRST = datetime(2026, 11, 16, 9, 0, tzinfo=UTC)
_MOST_ASKED = 1 << 20
_PLAN = (
    "Mooring plan, spring\nKittiwake on the north pontoon, berth 4\nSaltern Lass on the swinging mooring off the slip\n"
)
_SURVEY = "Hull survey of the Petrel\nGarboard seam weeping at frame 7, to be raked out and caulked with oakum\nSheer strake sound\n"
_ORDER = "timber;length;price\nlarch;18 ft;240\noak;12 ft;310\n"


class Revision(msgspec.Struct, frozen=True):
    """One state of a file: when it was saved, by whom, its bytes."""

    saved: datetime
    by: str
    data: bytes

    @property
    def mark(self) -> str:
        """Its entity tag."""
        return '"' + hashlib.sha256(self.data).hexdigest()[:20] + '"'


def boatyard() -> dict[str, list[Revision]]:
    """What the service keeps: path → states, the oldest first; the last one lives. One plan was saved over by mistake."""

    def states(*texts: tuple[int, str, str]) -> list[Revision]:
        return [Revision(_FIRST + timedelta(hours=hours), by, text.encode()) for hours, by, text in texts]

    return {
        "/Documents/mooring plan.txt": states(
            (0, "Ines Varga", _PLAN),
            (26, "Ines Varga", _PLAN + "Marigold waits for the dolphin, Tobias to shackle the pennant before the spring tide\n"),
            (50, "Petra Lund", "Mooring plan\n"),
        ),
        "/Documents/Surveys/hull survey Petrel.txt": states((3, "Ines Varga", _SURVEY), (29, "Ines Varga", _SURVEY + "Keel bolts drawn: two wasted\n")),
        "/Timber/orders.csv": states((5, "Petra Lund", _ORDER), (30, "Petra Lund", _ORDER + "elm;8 ft;150\n")),
        "/Documents/launch schedule (conflicted copy 2026-11-17 101500).txt": states((25, "Tobias Okoro", "Launch schedule\nTue Kittiwake\nWed Petrel, at high water\n")),
        "/Documents/launch schedule.txt": states((6, "Tobias Okoro", "Launch schedule\nTue Kittiwake\nThu Saltern Lass\n")),
    }  # fmt: skip


def lay_out_synced(folder: str) -> str:
    """The folder of somebody whose machine was off for a day: what it has of the service's files, one of them only as a placeholder. Raises `OSError`."""
    files = boatyard()
    plan, survey = "/Documents/mooring plan.txt", "/Documents/Surveys/hull survey Petrel.txt"
    for name, states in files.items():
        state, path = states[0 if name == survey else -1], os.path.join(folder, *name.strip("/").split("/"))
        os.makedirs(os.path.dirname(path), exist_ok=True)
        Path(path + (_PLACEHOLDER if name == plan else "")).write_bytes(b" " if name == plan else state.data)
        if name != plan:
            os.utime(path, (state.saved.timestamp(), state.saved.timestamp()))
    return folder


class Deleted(msgspec.Struct, frozen=True):
    """What lies in the trash: where it was, when it was deleted, its last state."""

    was: str
    deleted: datetime
    state: Revision


def thrown_away() -> dict[str, Deleted]:
    """The trash: name there → what it was."""
    survey = Revision(
        _FIRST + timedelta(hours=7),
        "Ines Varga",
        (_SURVEY.replace("Petrel", "Kittiwake") + "Rudder gudgeons worn\n").encode(),
    )
    rota = Revision(_FIRST + timedelta(hours=8), "Tobias Okoro", b"Rota of the yard\nMon Ines, Tue Tobias, Wed Petra\n")
    return {
        "hull survey Kittiwake.txt.d1795082400": Deleted("/Documents/Surveys/hull survey Kittiwake.txt", _FIRST + timedelta(hours=53), survey),
        "Rota.d1795089600/rota spring.txt": Deleted("/Rota/rota spring.txt", _FIRST + timedelta(hours=55), rota),
    }  # fmt: skip


class Service(ThreadingHTTPServer):
    """The service: it listens on this machine alone, and nothing can be changed through it."""

    daemon_threads = True

    def __init__(
        self, port: int = PORT, files: Mapping[str, list[Revision]] | None = None, password: str = PASSWORD
    ) -> None:
        """Raises `OSError` where the port is taken."""
        super().__init__(("127.0.0.1", port), _Handler)
        self.files = dict(boatyard() if files is None else files)
        self.trash = thrown_away() if files is None else {}
        self.locks = {"/Timber/orders.csv": "Petra Lund"} if files is None else {}
        self.password = password
        self.requests: list[tuple[str, str]] = []
        """(method, path) of all requests, for those who count them."""

    @property
    def address(self) -> str:
        """What is searched."""
        return f"dav://{USER}@127.0.0.1:{self.server_address[1]}{FILES}/"


class _Handler(BaseHTTPRequestHandler):
    protocol_version = "HTTP/1.1"
    server: Service

    def log_message(self, format: str, *args: object) -> None:
        """Nothing is said of each request."""

    def _answer(self, status: int, body: bytes = b"", **headers: str) -> None:
        self.send_response(status)
        for name, value in headers.items():
            self.send_header(name.replace("_", "-"), value)
        self.send_header("Content-Length", str(len(body)))
        self.end_headers()
        if self.command != "HEAD":
            self.wfile.write(body)

    def _path(self) -> str | None:
        """The path that is asked for; None, with the answer given, for who may not ask."""
        length = int(self.headers.get("Content-Length") or 0)
        self.rfile.read(min(length, _MOST_ASKED))
        path = unquote(urlsplit(self.path).path)
        self.server.requests.append((self.command, path))
        wanted = base64.b64encode(f"{USER}:{self.server.password}".encode()).decode()
        if self.headers.get("Authorization") != f"Basic {wanted}":
            self._answer(401, WWW_Authenticate='Basic realm="Marlow Quay Boatyard"')
            return None
        return path

    def do_OPTIONS(self) -> None:
        """What it can do."""
        if self._path() is not None:
            self._answer(200, DAV="1, version-control", Allow="OPTIONS, PROPFIND, REPORT, GET, HEAD")

    def do_PROPFIND(self) -> None:
        """A folder and what is in it, or a file."""
        path = self._path()
        if path is None:
            return
        rows = self._trash_rows(path.rstrip("/")) if path.startswith(_TRASH) else self._rows(path.rstrip("/"))
        if path.startswith(_VERSIONS):
            rows = self._version_rows(path.rstrip("/"))
        if rows is None:
            self._answer(404)
        else:
            self._multistatus(rows[:1] if self.headers.get("Depth") == "0" else rows)

    def _rows(self, path: str) -> list[str] | None:
        """A folder of files, or a file."""
        files, top = self.server.files, path.removeprefix(FILES)
        if top in files:
            return [self._file(path, top)]
        below = [name for name in files if name.startswith(top + "/")]
        if not below and top:
            return None
        inner = {name[len(top) + 1 :].partition("/") for name in below}
        rows = [_told(path + "/", None)]
        rows += [_told(f"{path}/{name}/", None) for name in sorted({name for name, slash, _ in inner if slash})]
        return rows + [self._file(f"{path}/{name}", f"{top}/{name}") for name, slash, _ in sorted(inner) if not slash]

    def _file(self, path: str, name: str) -> str:
        number = list(self.server.files).index(name) + 1
        owner = self.server.locks.get(name)
        lock = (
            f"<d:lockdiscovery><d:activelock><d:owner>{owner}</d:owner></d:activelock></d:lockdiscovery>"
            if owner
            else ""
        )
        return _told(path, self.server.files[name][-1], more=f"<oc:fileid>{number}</oc:fileid>{lock}")

    def _trash_rows(self, path: str) -> list[str] | None:
        inner = path.removeprefix(_TRASH).strip("/")
        rows = [_told(path + "/", None)]
        for name, each in self.server.trash.items():
            first, slash, rest = name.partition("/")
            where = f"/{first}" if slash and not inner else each.was
            more = (
                f"<nc:trashbin-original-location>{escape(each.was.split('/')[1] if slash else where.strip('/'))}</nc:trashbin-original-location>"
                f"<nc:trashbin-deletion-time>{int(each.deleted.timestamp())}</nc:trashbin-deletion-time>"
            )
            if not inner:
                rows.append(_told(f"{_TRASH}/{first}{slash}", None if slash else each.state, more=more))
            elif inner == first and slash:
                rows.append(_told(f"{path}/{rest}", each.state))
        return rows

    def _version_rows(self, path: str) -> list[str] | None:
        """The states of a file before the present one, each by its second."""
        number = path.removeprefix(_VERSIONS).strip("/")
        if not number.isdigit() or not 0 < int(number) <= len(self.server.files):
            return None
        states = list(self.server.files.values())[int(number) - 1]
        return [_told(path + "/", None)] + [
            _told(
                f"{path}/{int(state.saved.timestamp())}",
                state,
                more=f"<nc:version-author>{escape(state.by)}</nc:version-author>",
            )
            for state in states[:-1]
        ]

    def do_REPORT(self) -> None:
        """The history of a file."""
        path = self._path()
        if path is None:
            return
        name = path.removeprefix(FILES)
        states = self.server.files.get(name)
        if states is None:
            self._answer(404)
            return
        self._multistatus(
            [_told(f"/history/{number}{name}", state, str(number + 1)) for number, state in enumerate(states)]
        )

    def _multistatus(self, rows: list[str]) -> None:
        body = f'<?xml version="1.0" encoding="utf-8"?>\n<d:multistatus {_SPACES}>{"".join(rows)}</d:multistatus>'
        self._answer(207, body.encode(), Content_Type="application/xml; charset=utf-8")

    def _state(self, path: str) -> Revision | None:
        """What lies at an address: a file as it is, one of its states, or something in the trash."""
        if path.startswith(_TRASH):
            gone = self.server.trash.get(path.removeprefix(_TRASH).strip("/"))
            return gone.state if gone is not None else None
        if path.startswith(_VERSIONS):
            number, _, second = path.removeprefix(_VERSIONS).strip("/").partition("/")
            files = list(self.server.files.values())
            states = files[int(number) - 1] if number.isdigit() and 0 < int(number) <= len(files) else []
            return next((state for state in states if str(int(state.saved.timestamp())) == second), None)
        number, path = "-1", path.removeprefix(FILES)
        if path.startswith("/history/"):
            number, _, path = path.removeprefix("/history/").partition("/")
            path = "/" + path
        states = self.server.files.get(path, [])
        return states[int(number)] if states and number.lstrip("-").isdigit() and int(number) < len(states) else None

    def do_GET(self) -> None:
        """The bytes of a file, or of one of its earlier states."""
        path = self._path()
        if path is None:
            return
        state = self._state(path)
        if state is None:
            self._answer(404)
            return
        if self.headers.get("If-Match") not in (None, state.mark):
            self._answer(412)
            return
        span = self.headers.get("Range", "").removeprefix("bytes=").partition("-")
        if not span[0].isdigit():
            self._answer(200, state.data, ETag=state.mark)
            return
        start, end = int(span[0]), min(int(span[2] or len(state.data)), len(state.data) - 1)
        if start > end:
            self._answer(416)
            return
        piece = state.data[start : end + 1]
        self._answer(206, piece, ETag=state.mark, Content_Range=f"bytes {start}-{end}/{len(state.data)}")


def _told(path: str, state: Revision | None, version: str = "", more: str = "") -> str:
    """One resource of a multistatus answer."""
    kind = "" if state else "<d:collection/>"
    facts = more
    if state is not None:
        facts += (
            f"<d:getcontentlength>{len(state.data)}</d:getcontentlength><d:getlastmodified>{format_datetime(state.saved, usegmt=True)}</d:getlastmodified>"
            f"<d:getetag>{escape(state.mark)}</d:getetag><d:creator-displayname>{escape(state.by)}</d:creator-displayname>"
            f"<d:version-name>{version}</d:version-name>"
        )
    return (
        f"<d:response><d:href>{quote(path)}</d:href><d:propstat><d:prop><d:resourcetype>{kind}</d:resourcetype>{facts}</d:prop>"
        "<d:status>HTTP/1.1 200 OK</d:status></d:propstat></d:response>"
    )
