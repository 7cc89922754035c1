"""Folders on other machines: the same answers as of a local folder, and servers that lie, break off or ask too much."""

from __future__ import annotations

import hashlib
import io
import itertools
import json
import os
import shutil
import socket
import stat
import struct
import subprocess
import tarfile
import threading
import time
from collections.abc import Callable, Iterator
from concurrent.futures import Future
from contextlib import contextmanager, suppress
from datetime import UTC, datetime
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import Any

import pytest
from conftest import Run, best_of, by_name, packed, unpack, write
from hypothesis import given
from hypothesis import strategies as st
from shadow_writer import ShadowWriter

from rustfern.catalogue.loader import catalogue
from rustfern.core.errors import SourceError, WrongUsage
from rustfern.core.remote_paths import as_written, inside_form, is_remote, parts_of, top_of
from rustfern.demo.service import FILES as SERVED
from rustfern.demo.service import PASSWORD, Revision, Service, boatyard
from rustfern.sources.registry import Sources
from rustfern.sources.remote.interface import Item, Version
from rustfern.sources.remote.pace import Pace
from rustfern.sources.remote.sftp_exchange import Exchange, contents, names, targets
from rustfern.sources.remote.webdav import WebDav
from rustfern.sources.remote.webdav_answers import log_items, multistatus

Rustfern = Callable[..., Run]
T0 = 1_790_000_000
_PROGRAMS = os.environ.get("PATH", "") + ":/usr/sbin:/sbin"
APACHE, SVN, MODULES = shutil.which("apache2", path=_PROGRAMS), shutil.which("svn"), Path("/usr/lib/apache2/modules")
MKFS = shutil.which("mkfs.ext4", path=_PROGRAMS)
FILES = {
    "home/ines/a.txt": b"oak",
    "home/ines/deep/er/b.odt": b"keel" * 400_000,
    "home/ines/\u00fcber 100%.txt": b"larch",
    "home/ines/empty": b"",
}


@pytest.mark.parametrize(
    ("written", "inside"),
    [
        ("davs://ines@Host/remote.php/dav/", "/davs:ines@host/remote.php/dav"),
        ("dav://host:8080", "/dav:host:8080"),
        ("sftp://ines:secret@pc/home/ines/../petra", "/sftp:ines@pc/home/petra"),
        ("sftp://pc/a%20b", "/sftp:pc/a b"),
        ("/home/ines", "/home/ines"),
        ("http://host/x", "http://host/x"),
    ],
)  # fmt: skip
def test_addresses(written: str, inside: str) -> None:
    assert inside_form(written) == inside and is_remote(inside) == (inside != written)
    if is_remote(inside):
        assert top_of(inside) == "/{}:{}{}".format(
            *parts_of(inside)[:1], f"{parts_of(inside)[1]}@" if parts_of(inside)[1] else "", parts_of(inside)[2]
        )
        assert inside_form(as_written(inside)) == inside and "secret" not in inside


@given(st.text(max_size=40))
def test_any_text_is_an_address_or_not(text: str) -> None:
    told = inside_form(text)
    assert inside_form(told) == told and (told == text or is_remote(told))
    as_written(text)


# --- servers ------------------------------------------------------------------------------------------------------------


@contextmanager
def serving(server: Any) -> Iterator[Any]:
    """A server that works in a thread of its own."""
    thread = threading.Thread(target=server.serve_forever, daemon=True)
    thread.start()
    try:
        yield server
    finally:
        server.shutdown()
        server.server_close()


@pytest.fixture
def service(monkeypatch: pytest.MonkeyPatch) -> Iterator[Service]:
    monkeypatch.setenv("RUSTFERN_PASSWORD", PASSWORD)
    with serving(Service(0)) as server:
        yield server


@contextmanager
def webdav(folder: Path) -> Iterator[str]:
    """A real WebDAV server of the package index, read only."""
    from cheroot import wsgi
    from wsgidav.wsgidav_app import WsgiDAVApp

    told = {
        "provider_mapping": {"/": {"root": str(folder), "readonly": True}},
        "simple_dc": {"user_mapping": {"*": {"ines": {"password": PASSWORD}}}},
        "http_authenticator": {"accept_basic": True, "accept_digest": False, "default_to_digest": False},
        "verbose": 0, "logging": {"enable_loggers": []}, "lock_storage": False, "property_manager": False,
    }  # fmt: skip
    server = wsgi.Server(("127.0.0.1", 0), WsgiDAVApp(told))
    server.prepare()
    threading.Thread(target=server.serve, daemon=True).start()
    try:
        yield f"dav://ines@127.0.0.1:{server.bind_addr[1]}"
    finally:
        server.stop()


@contextmanager
def sftp(folder: Path, known_hosts: Path | None, *, dies_after: int = 0) -> Iterator[str]:
    """An SFTP server by the library's own parts; with `dies_after` each connection breaks after so many answers."""
    import paramiko

    key = paramiko.ECDSAKey.generate()
    left = [dies_after]

    class Door(paramiko.ServerInterface):
        def check_auth_password(self, username: str, password: str) -> int:
            return paramiko.AUTH_SUCCESSFUL if (username, password) == ("ines", PASSWORD) else paramiko.AUTH_FAILED

        def get_allowed_auths(self, username: str) -> str:
            return "password"

        def check_channel_request(self, kind: str, chanid: int) -> int:
            return paramiko.OPEN_SUCCEEDED

    class Files(paramiko.SFTPServerInterface):
        def _at(self, path: str) -> str:
            left[0] -= 1
            if dies_after and left[0] == 0:
                left[0] = dies_after
                for each in list(lines):
                    each.close()
            return str(folder) + self.canonicalize(path)

        def list_folder(self, path: str) -> Any:
            try:
                names = os.listdir(self._at(path))
            except OSError as error:
                return paramiko.SFTPServer.convert_errno(error.errno or 0)
            found = []
            for name in names:
                told = paramiko.SFTPAttributes.from_stat(os.lstat(os.path.join(str(folder) + path, name)))
                told.filename = name
                found.append(told)
            return found

        def stat(self, path: str) -> Any:
            return self.lstat(path)

        def lstat(self, path: str) -> Any:
            try:
                return paramiko.SFTPAttributes.from_stat(os.lstat(self._at(path)))
            except OSError as error:
                return paramiko.SFTPServer.convert_errno(error.errno or 0)

        def readlink(self, path: str) -> Any:
            return os.readlink(self._at(path))

        def open(self, path: str, flags: int, attr: Any) -> Any:
            assert not flags & (os.O_WRONLY | os.O_RDWR | os.O_CREAT)
            try:
                stream = Path(self._at(path)).open("rb")  # noqa: SIM115 - closed with its handle
            except OSError as error:
                return paramiko.SFTPServer.convert_errno(error.errno or 0)
            handle = paramiko.SFTPHandle(flags)
            handle.readfile = stream  # type: ignore[attr-defined]
            handle.stat = lambda: paramiko.SFTPAttributes.from_stat(os.fstat(stream.fileno()))  # type: ignore[method-assign,assignment]
            return handle

    listener = socket.create_server(("127.0.0.1", 0))
    port = listener.getsockname()[1]
    lines: list[Any] = []

    def listen() -> None:
        while True:
            try:
                line, _ = listener.accept()
            except OSError:
                return
            transport = paramiko.Transport(line)
            lines.append(transport)
            transport.add_server_key(key)
            transport.set_subsystem_handler("sftp", paramiko.SFTPServer, Files)
            transport.start_server(server=Door(), event=threading.Event())

    threading.Thread(target=listen, daemon=True).start()
    if known_hosts is not None:
        write(known_hosts, f"[127.0.0.1]:{port} {key.get_name()} {key.get_base64()}\n")
    try:
        yield f"sftp://ines@127.0.0.1:{port}"
    finally:
        listener.close()
        for each in lines:
            each.close()


# --- the same as of a local folder ------------------------------------------------------------------------------------


@pytest.mark.parametrize("kind", ["dav", "sftp"])
def test_the_contract(kind: str, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("RUSTFERN_PASSWORD", PASSWORD)
    for name, data in FILES.items():
        write(tmp_path / "disk" / name, data, T0)
    (tmp_path / "disk/home/ines/none").mkdir()
    if kind == "sftp":
        (tmp_path / "disk/home/ines/link").symlink_to("ines@pc:77")
    known = Path(os.environ["XDG_STATE_HOME"]) / "rustfern/known-hosts"
    with webdav(tmp_path / "disk") if kind == "dav" else sftp(tmp_path / "disk", known) as address:
        door = Sources()
        root = door.check_root(address + "/")
        source = door.open(root)
        assert source.names(root) == (["home"], []) and source.tops == (root,) and source.trouble == ""
        names = sorted(["a.txt", "empty", "\u00fcber 100%.txt", *(["link"] if kind == "sftp" else [])])
        assert source.names(f"{root}/home/ines") == (["deep", "none"], names)
        walked = {folder[len(root) :] for folder, _, _ in source.walk(root, pytest.fail)}
        assert walked == {"", "/home", "/home/ines", "/home/ines/deep", "/home/ines/deep/er", "/home/ines/none"}
        for name, data in FILES.items():
            entry = source.entry(f"{root}/{name}")
            assert (entry.size, entry.is_file, entry.modified_ns) == (len(data), True, T0 * 10**9)
            with source.open(entry) as stream, source.open(entry) as again:
                assert stream.read() == data and again.read(2) == data[:2]
                stream.seek(max(0, len(data) - 3))
                assert stream.read(9) == data[-3:] and stream.seek(0, io.SEEK_END) == len(data)
            with source.materialise(entry) as copy:
                assert copy.read_bytes() == data
            assert (
                source.exists(entry.path)
                and door.exists(entry.path)
                and door.is_file(entry.path)
                and door.around(entry.path).exists(entry.path)
            )
        if kind == "sftp":
            link = source.entry(f"{root}/home/ines/link")
            assert link.link_target == "ines@pc:77" and not link.is_file
        for bad in ("nothing", "home/nothing"):
            assert not source.exists(f"{root}/{bad}") and source.is_folder(f"{root}/{bad}") is False
            with pytest.raises(SourceError):
                source.entry(f"{root}/{bad}")
        with pytest.raises(SourceError):
            source.names(f"{root}/nothing")
        with pytest.raises(SourceError):
            source.open(source.entry(f"{root}/home"))
        with pytest.raises(SourceError):
            door.check_root(address + "/nothing")


def answer(run: Run, root: str) -> object:
    found = run.json
    for name in ("case", "totals"):
        found[name] = None
    text = json.dumps(found).replace(root, "ROOT")
    told = json.loads(text)
    for document in told["documents"]:
        for copy in document["copies"]:
            copy["clocks"] = None
    return told


@pytest.mark.parametrize("kind", ["dav", "sftp"])
def test_a_home_is_the_same_from_afar(kind: str, tmp_path: Path, rustfern: Rustfern, state: Path) -> None:
    disk = unpack("captured-text-ines", tmp_path / "disk")
    env = {"RUSTFERN_PASSWORD": PASSWORD}
    near = answer(rustfern("scan", disk, "--json"), str(disk))
    with webdav(disk) if kind == "dav" else sftp(disk, state / "rustfern/known-hosts") as address:
        run = rustfern("scan", f"{address}/", "--json", **env)
        assert answer(run, address) == near
        assert rustfern("restore", "1", "--to", tmp_path / "to", **env).status == 0
        text = (tmp_path / "to/restored.jsonl").read_text()
        assert f'"from": "{address}/' in text
        assert rustfern("keep", f"{address}/", "--to", tmp_path / "kept", **env).status in (0, 3)
    for path in [*state.rglob("*"), *(tmp_path / "to").rglob("*")]:
        assert not path.is_file() or PASSWORD.encode() not in path.read_bytes()


def test_one_document_from_everywhere(tmp_path: Path, rustfern: Rustfern, service: Service, state: Path) -> None:
    """The same text, saved over: in a folder with a dated tree, an archive and an image of it, a service with its history, over SFTP and in shadow
    copies: the same version, words and sum.
    """
    now, old = ntfs_states()
    states = boatyard()["/Documents/mooring plan.txt"]
    near = tmp_path / "near"
    for number, each in enumerate(states):
        folder = near if number == len(states) - 1 else near / ".snapshots" / str(number) / "snapshot"
        write(folder / "Documents/mooring plan.txt", each.data, int(each.saved.timestamp()))
    with tarfile.open(tmp_path / "near.tar", "w") as archive:
        archive.add(near, "near")
    if MKFS is not None:
        subprocess.run([MKFS, "-q", "-d", near, tmp_path / "near.img", "2M"], check=True, capture_output=True)
    writer = ShadowWriter([*old, now])
    for number, (then, later) in enumerate(itertools.pairwise([*old, now])):
        writer.keep(states[number].saved, then, later)
    write(tmp_path / "shadows.img", writer.finished())
    found = []
    with sftp(near, state / "rustfern/known-hosts") as address:
        images = [path for path in sorted(tmp_path.iterdir()) if path.suffix in (".tar", ".img")]
        for root in (str(near), *images, address + "/", service.address):
            told = rustfern("scan", root, "--json", "--document", "mooring plan").json["documents"]
            document = next(each for each in told if each["name"] == "mooring plan.txt")
            best = best_of(document)
            found.append((document["situation"], best["kind"], best["sha256"], best["words"], len(document["copies"])))
    assert len(set(found)) == 1 and found[0][:2] == ("overwritten", "version"), found
    assert found[0][2] == hashlib.sha256(states[1].data).hexdigest()


def ntfs_states() -> tuple[bytes, list[bytes]]:
    """The volume as it is, and as it was before, the oldest first."""
    held = packed("snapshots.tar.xz")
    return held["now.img"], [held["then.img"], held["then2.img"]]


def test_only_what_fits_is_asked_for(tmp_path: Path, rustfern: Rustfern, monkeypatch: pytest.MonkeyPatch) -> None:
    """200 versions of 50 documents: at most three requests for a document that fits, and none for its neighbours' history."""
    monkeypatch.setenv("RUSTFERN_PASSWORD", PASSWORD)
    start = datetime(2026, 11, 1, tzinfo=UTC).timestamp()
    files = {
        f"/Orders/order {number:02}.txt": [
            Revision(datetime.fromtimestamp(start + version * 3600 + number, UTC), "Petra Lund", f"order {number}\n{'oak plank ' * (version + 1) if version < 3 else 'saved over'}\n".encode())
            for version in range(4)
        ]
        for number in range(50)
    }  # fmt: skip
    with serving(Service(0, files)) as server:
        assert len(rustfern("scan", server.address, "--document", "order 07", "--json").json["documents"]) >= 1
        asked = [path for method, path in server.requests if method == "REPORT"]
        assert set(asked) == {f"{SERVED}/Orders/order 07.txt"} and len(asked) == 1
        server.requests.clear()
        told = rustfern("scan", server.address, "--json").json["documents"]
        assert sum(each["situation"] == "overwritten" for each in told) == 50
        reports = [path for method, path in server.requests if method == "REPORT"]
        assert len(reports) == len(set(reports)) == 50
        assert len([1 for method, _ in server.requests if method == "GET"]) <= 50 * 4, "each state is read once"
        server.requests.clear()
        again = rustfern("scan", server.address, "--json").json["documents"]
        assert [each["best"] for each in again] == [each["best"] for each in told]
        assert not [path for method, path in server.requests if method == "GET"], (
            "what did not change is not read again"
        )


@pytest.mark.parametrize("after", [2, 3, 5, 8])
def test_a_link_that_breaks_again_and_again(after: int, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """Connections that break after every few answers are made anew; nothing half is taken for whole."""
    monkeypatch.setenv("RUSTFERN_PASSWORD", PASSWORD)
    for name, data in FILES.items():
        write(tmp_path / "disk" / name, data, T0)
    known = Path(os.environ["XDG_STATE_HOME"]) / "rustfern/known-hosts"
    with sftp(tmp_path / "disk", known, dies_after=after) as address:
        door = Sources()
        try:
            root = door.check_root(address + "/home/ines")
            source = door.open(root)
            for name, data in FILES.items():
                with source.open(source.entry(f"{root}/{name.removeprefix('home/ines/')}")) as stream:
                    assert stream.read() == data
        except (SourceError, WrongUsage) as error:
            assert after < 5 and str(error)


@contextmanager
def cutting(port: int, every: int) -> Iterator[int]:
    """A line to a server on this machine that is cut behind every so many answers; gives its port."""
    listener = socket.create_server(("127.0.0.1", 0))
    lines: list[socket.socket] = []
    left = [every]

    def pass_on(source: socket.socket, target: socket.socket, *, counted: bool) -> None:
        with suppress(OSError):
            while data := source.recv(65_536):
                if counted:
                    left[0] -= 1
                    if left[0] < 0:
                        left[0] = every
                        target.sendall(data[: len(data) // 2])
                        break
                target.sendall(data)
        for each in (source, target):
            with suppress(OSError):
                each.shutdown(socket.SHUT_RDWR)

    def listen() -> None:
        with suppress(OSError):
            while True:
                near, _ = listener.accept()
                far = socket.create_connection(("127.0.0.1", port))
                lines.extend((near, far))
                threading.Thread(target=pass_on, args=(near, far), kwargs={"counted": False}, daemon=True).start()
                threading.Thread(target=pass_on, args=(far, near), kwargs={"counted": True}, daemon=True).start()

    threading.Thread(target=listen, daemon=True).start()
    try:
        yield listener.getsockname()[1]
    finally:
        listener.close()
        for each in lines:
            each.close()


@pytest.mark.parametrize("every", range(1, 13))
def test_a_service_whose_line_is_cut_at_every_so_many_answers(
    every: int, service: Service, monkeypatch: pytest.MonkeyPatch
) -> None:
    """It goes on, or says that it cannot; never is something half taken for whole."""
    monkeypatch.setattr("rustfern.sources.remote.webdav._SECONDS", 5.0)
    served = {f"{SERVED}{name}": states[-1].data for name, states in service.files.items()}
    with cutting(service.server_address[1], every) as port:
        door = Sources()
        try:
            root = door.check_root(f"dav://ines@127.0.0.1:{port}{SERVED}")
            source = door.open(root)
            shut: list[str] = []
            found = [
                f"{folder}/{name}"
                for folder, _, names in source.walk(root, lambda path, message: shut.append(message))
                for name in names
                if "/@" not in folder and not name.endswith(".@lock")
            ]
            if shut:
                raise SourceError(shut[0], root, "Try again")
            assert sorted(path.partition(str(port))[2] for path in found) == sorted(served)
            for path in found:
                with source.open(source.entry(path)) as stream:
                    assert stream.read() == served[path.partition(str(port))[2]]
        except (SourceError, WrongUsage) as error:
            assert every < 6 and "again" in str(error)


# --- servers that are not what they should be ---------------------------------------------------------------------------

ROW = (
    "<d:response><d:href>{}</d:href><d:propstat><d:prop><d:resourcetype>{}</d:resourcetype><d:getcontentlength>{}</d:getcontentlength>"
    '<d:getetag>"1"</d:getetag></d:prop><d:status>HTTP/1.1 200 OK</d:status></d:propstat></d:response>'
)
BODY = '<?xml version="1.0"?>{}<d:multistatus xmlns:d="DAV:">{}</d:multistatus>'


class Lying(BaseHTTPRequestHandler):
    """Answers as it was told to, by the first part of the path."""

    protocol_version = "HTTP/1.1"

    def log_message(self, format: str, *args: object) -> None:
        pass

    def say(self, status: int, body: bytes = b"", **headers: str) -> None:
        self.send_response(status)
        for name, value in headers.items():
            self.send_header(name.replace("_", "-"), value)
        if "Content_Length" not in headers:
            self.send_header("Content-Length", str(len(body)))
        self.end_headers()
        self.wfile.write(body)

    def do_OPTIONS(self) -> None:
        self.say(200, DAV="1")

    def do_PROPFIND(self) -> None:
        self.rfile.read(int(self.headers["Content-Length"]))
        kind = self.path.strip("/").partition("/")[0]
        if kind.isdigit():
            self.say(int(kind), Retry_After="0")
        elif kind == "elsewhere":
            self.say(302, Location="http://other.example/dav/")
        elif kind == "files":
            self.say(301, Location="file:///etc/passwd")
        elif kind == "round":
            self.say(302, Location=f"/round/{self.path.count('x') * 'x'}x/")
        elif kind == "bomb":
            self.say(
                207,
                BODY.format(
                    '<!DOCTYPE a [<!ENTITY b "cccccccccc"><!ENTITY d "&b;&b;&b;">]>', ROW.format("/bomb/&d;", "", 1)
                ).encode(),
            )
        elif kind == "html":
            self.say(207, b"<html><body>Sign in<br></body></html>")
        elif kind == "plain":
            self.say(200, b"a page")
        else:
            rows = [ROW.format(f"/{kind}/", "<d:collection/>", "")]
            rows += [
                ROW.format(href, "", 10)
                for href in (
                    f"/{kind}/a.txt",
                    f"/{kind}/..%2f..%2fb.txt",
                    "/other/c.txt",
                    "http://other.example/x/d.txt",
                    f"/{kind}/%2e%2e",
                )
            ]
            self.say(207, BODY.format("", "".join(rows)).encode())

    def do_GET(self) -> None:
        kind = self.path.strip("/").partition("/")[0]
        if kind == "shorter":
            self.say(206, b"12345", Content_Range="bytes 0-4/10")
        elif kind == "shifted":
            self.say(206, b"1234567890", Content_Range="bytes 3-12/20")
        elif kind == "changed":
            self.say(206, b"1234567890", Content_Range="bytes 0-9/10", ETag='"2"')
        elif kind == "whole":
            self.say(200, b"1234567890")
        elif kind == "gone":
            self.say(404)
        elif kind == "cut":
            self.say(200, b"123", Content_Length="10")
            self.close_connection = True


@pytest.fixture(scope="module")
def lying() -> Iterator[str]:
    with serving(ThreadingHTTPServer(("127.0.0.1", 0), Lying)) as server:
        yield f"dav://127.0.0.1:{server.server_address[1]}"


@pytest.mark.parametrize(
    ("kind", "why"),
    [
        ("401", "name or the password"), ("403", "does not allow"), ("404", "nothing at this address"), ("405", "does not speak"), ("429", "left alone"), ("503", "not available"),
        ("500", "error (500)"), ("elsewhere", "another place (http://other.example)"), ("files", "another place (file"), ("round", "one address to the next"), ("bomb", "entities"),
        ("html", "no XML"), ("plain", "does not list"),
    ],
)  # fmt: skip
def test_a_server_that_does_not_list(
    kind: str, why: str, lying: str, rustfern: Rustfern, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr("rustfern.sources.remote.webdav._MOST_WAITED", 0.3)
    run = rustfern("scan", f"{lying}/{kind}/")
    assert run.status in (2, 3) and why in run.err, run.err
    assert run.err.count("\n") <= 2


def test_names_that_climb_are_not_taken(lying: str) -> None:
    door = Sources()
    root = door.check_root(f"{lying}/names/")
    assert door.open(root).names(root) == ([], ["a.txt"])


@pytest.mark.parametrize(
    ("kind", "why"),
    [
        ("shorter", "5 bytes of 10"),
        ("shifted", "other bytes"),
        ("changed", "was changed there"),
        ("gone", "nothing at this address"),
        ("cut", "cannot be reached"),
        ("whole", ""),
    ],
)
def test_bytes_that_are_not_what_was_asked_for(kind: str, why: str, lying: str) -> None:
    door = Sources()
    root = door.check_root(f"{lying}/{kind}/")
    source = door.open(root)
    if not why:
        with source.open(source.entry(f"{root}/a.txt")) as stream:
            assert stream.read() == b"1234567890"
        return
    with (
        pytest.raises(SourceError, match=why.replace("(", "\\(")),
        source.open(source.entry(f"{root}/a.txt")) as stream,
    ):
        stream.read()


def test_nobody_is_there(rustfern: Rustfern) -> None:
    with socket.create_server(("127.0.0.1", 0)) as taken:
        port = taken.getsockname()[1]
    for scheme in ("dav", "davs", "sftp"):
        run = rustfern("scan", f"{scheme}://ines@127.0.0.1:{port}/")
        assert run.status in (2, 3) and "cannot be reached" in run.err and "try again" in run.err


def test_a_machine_that_is_not_known_is_asked_about(tmp_path: Path, state: Path, rustfern: Rustfern) -> None:
    write(tmp_path / "disk/a.txt", "oak")
    env = {"RUSTFERN_PASSWORD": PASSWORD}
    with sftp(tmp_path / "disk", None) as address:
        run = rustfern("scan", f"{address}/", **env)
        assert run.status == 3 and "not known here" in run.err and "SHA256:" in run.err
        door = Sources()
        door.ask, asked = (lambda user, host: PASSWORD), list[str]()
        door.confirm = lambda question: not asked.append(question)  # type: ignore[func-returns-value]
        assert (
            door.open(door.check_root(f"{address}/")).exists(f"{door.check_root(address + '/')}/a.txt")
            and "SHA256:" in asked[0]
        )
        kept = Path(os.environ["XDG_STATE_HOME"]) / "rustfern/known-hosts"
        assert kept.stat().st_mode & 0o077 == 0 and "127.0.0.1" in kept.read_text()
        write(state / "rustfern/known-hosts", kept.read_text())
        assert rustfern("scan", f"{address}/", **env).status in (0, 1)
        assert "password" in rustfern("scan", f"{address}/", RUSTFERN_PASSWORD="wrong").err
    with sftp(tmp_path / "disk", None) as other:
        line = kept.read_text().split(" ", 1)[1]
        write(state / "rustfern/known-hosts", f"[127.0.0.1]:{other.rpartition(':')[2]} {line}")
        run = rustfern("scan", f"{other}/", **env)
        assert run.status == 3 and "its key is another one" in run.err


@given(st.binary(max_size=300))
def test_any_listing(data: bytes) -> None:
    try:
        list(multistatus(data, "x"))
        list(multistatus(BODY.format("", "").encode()[:-15] + data + b"</d:multistatus>", "x"))
    except SourceError as error:
        assert error.what


class Talking:
    """A channel whose other side says what it was told to, whatever it is asked."""

    def __init__(self, said: bytes) -> None:
        self.said = [struct.pack(">IBI", 5, 2, 3), said]

    def sendall(self, data: bytes) -> None:
        pass

    def recv(self, size: int) -> bytes:
        return self.said.pop(0) if self.said else b""

    def close(self) -> None:
        pass


@given(st.binary(max_size=200), st.lists(st.tuples(st.integers(101, 105), st.binary(max_size=60)), max_size=6))
def test_any_answer_over_sftp(tail: bytes, answers: list[tuple[int, bytes]]) -> None:
    """Whatever comes: what was asked for ends, with something or with an error that is handled."""
    packets = [
        struct.pack(">IBI", len(body) + 5, kind, number + 1) + body for number, (kind, body) in enumerate(answers)
    ]
    exchange = Exchange(Talking(b"".join(packets) + tail), 4, Pace())
    for work in (names(b"/", 10), contents(b"/a", 0, 10, None, last=True), targets([b"/l"])):
        waits: Future[object] = exchange.begin(work, urgent=True)  # type: ignore[arg-type]
        with suppress(OSError, EOFError, ValueError):
            exchange.wait(waits)


@pytest.mark.parametrize("is_silent", [False, True])
def test_a_slow_line_is_no_silent_one(is_silent: bool, monkeypatch: pytest.MonkeyPatch) -> None:
    """An answer may take as long as it comes; a line on which nothing comes is given up."""
    monkeypatch.setattr("rustfern.sources.remote.sftp_exchange._SECONDS", 0.4)
    told = struct.pack(">II", 1, 4) + b"plan" + struct.pack(">III", 4, 0, 0)[:4] + b"line" + struct.pack(">I", 0)
    answer = struct.pack(">IBI", len(told) + 5, 104, 1) + told

    class Slow(Talking):
        def recv(self, size: int) -> bytes:
            time.sleep(5.0 if is_silent and len(self.said) < 2 else 0.1)
            return super().recv(size)

    channel = Slow(b"")
    channel.said[1:] = [answer[at : at + 3] for at in range(0, len(answer), 3)]
    exchange = Exchange(channel, 4, Pace())
    if is_silent:
        channel.said[1:] = []
        with pytest.raises(TimeoutError, match="in time"):
            exchange.wait(exchange.begin(targets([b"/l"]), urgent=True))
    else:
        assert exchange.wait(exchange.begin(targets([b"/l"]), urgent=True)) == [b"plan"]


@given(st.binary(max_size=200))
def test_any_history(data: bytes) -> None:
    with suppress(SourceError):
        log_items(b"<S:log-report xmlns:S='svn:'><S:log-item>" + data + b"</S:log-item></S:log-report>", "x")


def test_versions_are_a_tree_of_their_own(service: Service) -> None:
    door = Sources()
    root = door.check_root(service.address)
    source = door.open(root)
    stamps = source.names(f"{root}/@versions")[0]
    assert len(stamps) == 4 and any(each.endswith("Ines Varga") for each in stamps)
    path = f"{root}/@versions/{stamps[0]}/Documents/mooring plan.txt"
    with source.open(source.entry(path)) as stream:
        assert stream.read() == boatyard()["/Documents/mooring plan.txt"][0].data
    assert source.names(f"{root}/@versions/{stamps[0]}") == (["Documents"], []) and not source.exists(
        f"{root}/@versions/1999"
    )
    link = WebDav(top_of(root), lambda user, host: PASSWORD)
    some = Item("x", "file")
    timber, nothing = link.versions([(f"{SERVED}/Timber/orders.csv", some), (f"{SERVED}/nothing", some)])
    assert [each.name for each in timber] == ["2", "1"] and nothing == []
    assert isinstance(link.items("/")[0], Item) and all(isinstance(each, Version) for each in timber)
    link.close()


@pytest.mark.skipif(
    not (APACHE and SVN and os.path.exists(MODULES / "mod_dav_svn.so")),
    reason="Apache with its versioning module is not installed",
)
def test_a_real_versioning_server(tmp_path: Path, rustfern: Rustfern) -> None:
    """Apache with the module of Subversion: its versions are told by a log."""
    states = boatyard()["/Documents/mooring plan.txt"]
    repository, copy = tmp_path / "repository", tmp_path / "copy"
    subprocess.run([f"{SVN}admin", "create", repository], check=True)
    subprocess.run([SVN, "-q", "checkout", repository.as_uri(), copy], check=True)
    for number, state in enumerate(states, 1):
        write(copy / "Documents/mooring plan.txt", state.data)
        subprocess.run([SVN, "-q", "add", "--force", "Documents"], cwd=copy, check=True)
        subprocess.run([SVN, "-q", "commit", "--username", "ines", "-m", "saved"], cwd=copy, check=True)
        when = write(tmp_path / "when", f"{state.saved:%Y-%m-%dT%H:%M:%S}.000000Z")
        subprocess.run([f"{SVN}admin", "setrevprop", repository, "-r", str(number), "svn:date", when], check=True)
    with socket.create_server(("127.0.0.1", 0)) as taken:
        port = taken.getsockname()[1]
    modules = ("mpm_event", "authz_core", "dav", "dav_svn")
    loaded = "".join(f"LoadModule {name}_module {MODULES}/mod_{name}.so\n" for name in modules)
    write(
        tmp_path / "conf",
        f"ServerRoot {tmp_path}\nPidFile {tmp_path}/pid\nErrorLog {tmp_path}/log\nListen 127.0.0.1:{port}\nServerName localhost\n{loaded}<Location /yard>\nDAV svn\nSVNPath {repository}\n</Location>\n",
    )
    server = subprocess.Popen([APACHE, "-X", "-f", tmp_path / "conf"])
    try:
        for _ in range(100):
            if socket.socket().connect_ex(("127.0.0.1", port)) == 0:
                break
            time.sleep(0.05)
        plan = by_name(rustfern("scan", f"dav://127.0.0.1:{port}/yard", "--json").json, "mooring plan.txt")
    finally:
        server.kill()
        server.wait()
    assert best_of(plan)["sha256"] == hashlib.sha256(states[1].data).hexdigest() and len(plan["copies"]) == 3
    assert " ines/Documents/" in best_of(plan)["path"]


def test_what_a_service_keeps_is_laid_out_by_kind(service: Service, rustfern: Rustfern) -> None:
    """Trash with its times and places, a lock with its owner, versions also where each is a collection of its own."""
    told = rustfern("scan", service.address, "--json").json
    rota = by_name(told, "rota spring.txt")
    assert (
        rota["situation"] == "deleted"
        and best_of(rota)["kind"] == "trash"
        and rota["records"][0]["when"] == "2026-11-18T16:00:00Z"
    )
    assert rota["original"].endswith("/Rota/rota spring.txt")
    assert (
        best_of(by_name(told, "hull survey Kittiwake.txt"))["sha256"]
        == hashlib.sha256(service.trash["hull survey Kittiwake.txt.d1795082400"].state.data).hexdigest()
    )
    orders = by_name(rustfern("scan", service.address, "--everything", "--json").json, "orders.csv")
    assert [lock["owner"] for lock in orders["locks"]] == ["Petra Lund"] and orders["situation"] == "nothing-lost"
    link = WebDav(
        top_of("/" + service.address.replace("://", ":").rstrip("/")), lambda user, host: PASSWORD, catalogue().services
    )
    monkey = {each.name: each for each in link.items(f"{SERVED}/Documents")}
    link._features = "1"  # a server that knows no version trees
    (plan,) = link.versions([(f"{SERVED}/Documents/mooring plan.txt", monkey["mooring plan.txt"])])
    assert [(each.by, each.size) for each in plan] == [("Ines Varga", 196), ("Ines Varga", 111)]
    assert link.read(plan[0].where, 0, 196, "") == boatyard()["/Documents/mooring plan.txt"][1].data
    assert link.trash("/elsewhere") == [] and not WebDav(link._top, link._ask).trash(SERVED)
    link.close()


@pytest.mark.parametrize(
    ("asked", "status", "told"),
    [
        ("REPORT", 500, "asked for earlier versions, and failed 2 times"),
        ("REPORT", 501, ""),
        ("OPTIONS", 500, "asked for earlier versions, and failed: "),
        ("OPTIONS", 405, ""),
        ("PROPFIND", 500, "asked for the trash, and failed: "),
        ("PROPFIND", 404, ""),
    ],
)
def test_a_history_that_cannot_be_had_is_no_empty_one(
    asked: str, status: int, told: str, service: Service, rustfern: Rustfern, monkeypatch: pytest.MonkeyPatch
) -> None:
    handler: Any = service.RequestHandlerClass
    answers = getattr(handler, f"do_{asked}")

    def answer(self: Any) -> None:
        if asked != "PROPFIND" or "/trashbin/" in self.path:
            self.rfile.read(int(self.headers.get("Content-Length", 0)))
            self.send_response(status)
            self.send_header("Content-Length", "0")
            self.end_headers()
        else:
            answers(self)

    monkeypatch.setattr(handler, f"do_{asked}", answer)
    problems = [each["message"] for each in rustfern("scan", service.address, "--json").json["problems"]]
    assert any(told in each for each in problems) if told else problems == []


def test_which_side_is_newer_is_said(service: Service, tmp_path: Path, rustfern: Rustfern) -> None:
    for number, name in ((-1, "/Documents/launch schedule.txt"), (0, "/Documents/Surveys/hull survey Petrel.txt")):
        state = boatyard()[name][number]
        write(tmp_path / f"Sync{name}", state.data, int(state.saved.timestamp()))
    write(tmp_path / "Sync/Documents/mooring plan.txt.nextcloud", " ")
    run = rustfern("scan", tmp_path / "Sync", service.address)
    assert "The service has the version of 2026-11-17 14:00, this machine that of 2026-11-16 12:00." in run.out
    plan = by_name(rustfern("scan", tmp_path / "Sync", service.address, "--json").json, "mooring plan.txt")
    assert plan["original"] == str(tmp_path / "Sync/Documents/mooring plan.txt"), "a placeholder stands for it here"
    assert best_of(plan)["words"] == 33 and {copy["place"] for copy in plan["copies"]} == {"service-copy"}


def test_no_faster_than_was_allowed(service: Service, rustfern: Rustfern, monkeypatch: pytest.MonkeyPatch) -> None:
    slept: list[float] = []
    monkeypatch.setattr("rustfern.sources.remote.pace.time.sleep", slept.append)
    door = Sources()
    door.pace.limit = 2_000
    source = door.open(door.check_root(service.address))
    assert source.names(source.root)[0] and sum(slept) > 0.2
    assert "network_limit" in rustfern("scan", service.address, RUSTFERN_NETWORK_LIMIT="fast").err


def test_demo_service_listens_here_alone(rustfern: Rustfern) -> None:
    with serving(Service(0)) as server:
        assert server.server_address[0] == "127.0.0.1"
        busy = rustfern("demo", "--service", "--port", server.server_address[1])
        assert busy.status == 2 and "--port" in busy.err
    assert stat.S_ISREG(os.stat(__file__).st_mode)


def test_a_synced_folder_and_its_service_are_one_answer(service: Service, tmp_path: Path, rustfern: Rustfern) -> None:
    """What is here and there is one document with both copies; what only the service has is no loss."""
    first = boatyard()["/Documents/mooring plan.txt"][0]
    write(tmp_path / "Sync/Documents/mooring plan.txt", first.data, int(first.saved.timestamp()))
    write(tmp_path / "Sync/Documents/Surveys/hull survey Petrel.txt", b"", T0 + 10**8)
    told = {
        each["name"]: each for each in rustfern("scan", tmp_path / "Sync", service.address, "--json").json["documents"]
    }
    assert told["mooring plan.txt"]["original"].startswith("dav:"), "names alone prove nothing"
    same = boatyard()["/Documents/launch schedule.txt"][0]
    write(tmp_path / "Sync/Documents/launch schedule.txt", same.data, int(same.saved.timestamp()))
    told = {
        each["name"]: each for each in rustfern("scan", tmp_path / "Sync", service.address, "--json").json["documents"]
    }
    plan, survey = told["mooring plan.txt"], told["hull survey Petrel.txt"]
    best = {copy["id"]: copy for each in (plan, survey) for copy in each["copies"]}
    assert plan["original"] == str(tmp_path / "Sync/Documents/mooring plan.txt") and len(plan["copies"]) == 3
    assert best[plan["best"]]["written"] == "2026-11-17T11:00:00Z" and best[plan["best"]]["path"].startswith(
        service.address.rstrip("/")
    )
    assert best[survey["best"]]["words"] == 27 and best[survey["best"]]["place"] == "service-copy"
    assert told["orders.csv"]["situation"] == "nothing-lost"
