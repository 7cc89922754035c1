"""What the tests share: the built command, captured homes, small documents made on the spot."""

from __future__ import annotations

import functools
import io
import json
import os
import signal
import struct
import subprocess
import sys
import tarfile
import zipfile
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any, BinaryIO

import pytest
from hypothesis import HealthCheck, settings

from rustfern.core.model import Content
from rustfern.formats import registry as formats
from rustfern.formats.interface import Limits

DATA = Path(__file__).parent / "data"
HOMES = DATA / "homes"
if signal.getsignal(signal.SIGINT) is signal.SIG_IGN:
    # A shell starts what runs in the background so, and it is passed on: interrupts are tried here all the same.
    signal.signal(signal.SIGINT, signal.default_int_handler)
# On a busy machine an example takes as long as it takes.
settings.register_profile("rustfern", deadline=None, suppress_health_check=[HealthCheck.too_slow])
settings.load_profile("rustfern")

BUILT = Path(sys.executable).parent / "rustfern"
PATH = f"{BUILT.parent}{os.pathsep}{os.environ['PATH']}"
OF_THE_INTERPRETER = ("PYTHONPATH", "PYTHONUTF8", "PYTHONIOENCODING", "LC_ALL", "LC_CTYPE")
"""What only a new interpreter takes notice of."""
SIGNATURE = b"\xd0\xcf\x11\xe0\xa1\xb1\x1a\xe1"
WORDS = [
    "keel",
    "garboard",
    "frame",
    "larch",
    "oak",
    "caulking",
    "stem",
    "scarf",
    "plank",
    "rivet",
    "seam",
    "tide",
    "crane",
    "berth",
    "mast",
    "spar",
]
ODF_SPACES = (
    'xmlns:office="urn:oasis:names:tc:opendocument:xmlns:office:1.0" xmlns:text="urn:oasis:names:tc:opendocument:xmlns:text:1.0" '
    'xmlns:table="urn:oasis:names:tc:opendocument:xmlns:table:1.0" xmlns:dc="http://purl.org/dc/elements/1.1/" '
    'xmlns:meta="urn:oasis:names:tc:opendocument:xmlns:meta:1.0"'
)


@dataclass
class Run:
    """What one call of the built command gave back."""

    status: int
    out: str
    err: str

    @property
    def json(self) -> Any:
        return json.loads(self.out)


@pytest.fixture
def state(tmp_path: Path) -> Path:
    """The state folder of this test."""
    return tmp_path / "state"


@pytest.fixture(autouse=True)
def _own_folders(tmp_path_factory: pytest.TempPathFactory, monkeypatch: pytest.MonkeyPatch) -> None:
    """No test finds the cases of another one, nor of this machine."""
    monkeypatch.setenv("XDG_RUNTIME_DIR", str(tmp_path_factory.mktemp("run")))
    monkeypatch.setenv("XDG_STATE_HOME", str(tmp_path_factory.mktemp("own")))
    monkeypatch.setenv("LANGUAGE", "en")
    monkeypatch.delenv("RUSTFERN_CASE", raising=False)


@pytest.fixture
def rustfern(state: Path, tmp_path_factory: pytest.TempPathFactory) -> Callable[..., Run]:
    """Call the built command, where it can be from a process that has it loaded already; `anew` starts an interpreter for it, and
    `without_rights` drops the right of root to read everything.
    """
    streams = tmp_path_factory.mktemp("streams")

    def call(*args: object, without_rights: bool = False, anew: bool = False, **env: str) -> Run:
        words = [str(a) if not isinstance(a, bytes) else os.fsdecode(a) for a in args]
        usual = {"XDG_STATE_HOME": str(state), "NO_COLOR": "1", "COLUMNS": "100", "TZ": "UTC", "PATH": PATH}
        env = {**os.environ, **usual, **env}
        if anew or without_rights or not hasattr(os, "fork") or any(name in env for name in OF_THE_INTERPRETER):
            rights = _drop_rights if without_rights else None
            process = subprocess.run([str(BUILT), *words], capture_output=True, timeout=120, env=env, preexec_fn=rights)
            status, written = process.returncode, [process.stdout, process.stderr]
        else:
            files = [streams / "out", streams / "err"]
            status = _fork(words, env, files)
            written = [file.read_bytes() for file in files]
        out, err = (told.decode("utf-8", "replace") for told in written)
        assert "Traceback" not in err, err
        return Run(status, out, err)

    return call


@functools.cache
def _loaded() -> subprocess.Popen[str]:
    """The process that has the command loaded; it ends with its standard input."""
    return subprocess.Popen(
        [sys.executable, Path(__file__).with_name("loaded.py")],
        stdin=subprocess.PIPE,
        stdout=subprocess.PIPE,
        text=True,
    )


def _fork(words: list[str], env: dict[str, str], streams: list[Path]) -> int:
    """Run the loaded command with these words; its exit status."""
    server = _loaded()
    assert server.stdin is not None and server.stdout is not None
    mask = os.umask(0)
    os.umask(mask)
    print(json.dumps([words, env, os.getcwd(), mask, list(map(str, streams))]), file=server.stdin, flush=True)
    return int(server.stdout.readline())


def _drop_rights() -> None:
    """Root reads everything: give up CAP_DAC_OVERRIDE and CAP_DAC_READ_SEARCH for what is executed next."""
    import ctypes

    libc = ctypes.CDLL(None)
    for capability in (1, 2):
        libc.prctl(24, capability, 0, 0, 0)


def unpack(case: str, to: Path) -> Path:
    """Lay a captured home out; returns its root."""
    root = to / case
    root.mkdir(parents=True)
    with tarfile.open(HOMES / f"{case}.tar.gz") as archive:
        archive.extractall(root, filter="fully_trusted")
    return root


@pytest.fixture
def home(tmp_path: Path) -> Callable[[str], Path]:
    """Lay out a captured home by its name."""
    return lambda case: unpack(case, tmp_path / "disk")


def member(case: str, name: str) -> bytes:
    """The bytes of one file of a captured home."""
    with tarfile.open(HOMES / f"{case}.tar.gz") as archive:
        stream = archive.extractfile(name)
        assert stream is not None
        return stream.read()


def packed(archive: str) -> dict[str, bytes]:
    """The files of an archive under tests/data, by name."""
    with tarfile.open(DATA / archive) as source:
        return {m.name: source.extractfile(m).read() for m in source.getmembers() if m.isfile()}  # type: ignore[union-attr]


def package(parts: Mapping[str, str | bytes], *, stored: tuple[str, ...] = ()) -> bytes:
    """A ZIP package of these parts, in this order."""
    buffer = io.BytesIO()
    with zipfile.ZipFile(buffer, "w") as target:
        for name, data in parts.items():
            how = zipfile.ZIP_STORED if name in stored else zipfile.ZIP_DEFLATED
            target.writestr(zipfile.ZipInfo(name, (2026, 3, 12, 16, 40, 0)), data, how)
    return buffer.getvalue()


def odt(
    *paragraphs: str,
    kind: str = "text",
    body: str = "",
    meta: str = "",
    extra: Mapping[str, str | bytes] | None = None,
) -> bytes:
    """A small ODF document; `body` replaces the paragraphs."""
    inner = body or "".join(f"<text:p>{p}</text:p>" for p in paragraphs)
    tag = {"text": "text", "spreadsheet": "spreadsheet", "presentation": "presentation"}[kind]
    parts = {
        "mimetype": f"application/vnd.oasis.opendocument.{kind}",
        "content.xml": f"<office:document-content {ODF_SPACES}><office:body><office:{tag}>{inner}</office:{tag}></office:body>"
        "</office:document-content>",
        "meta.xml": f"<office:document-meta {ODF_SPACES}><office:meta>{meta}</office:meta></office:document-meta>",
        "META-INF/manifest.xml": '<m:manifest xmlns:m="urn:oasis:names:tc:opendocument:xmlns:manifest:1.0">'
        '<m:file-entry m:full-path="/"/><m:file-entry m:full-path="content.xml"/></m:manifest>',
    }
    return package({**parts, **(extra or {})}, stored=("mimetype",))


def docx(*paragraphs: str, extra: dict[str, str] | None = None, leave_out: tuple[str, ...] = ()) -> bytes:
    """A small OOXML text."""
    runs = "".join(f"<w:p><w:r><w:t>{p}</w:t></w:r></w:p>" for p in paragraphs)
    relation = "http://schemas.openxmlformats.org/officeDocument/2006/relationships"
    parts = {
        "[Content_Types].xml": '<Types xmlns="http://schemas.openxmlformats.org/package/2006/content-types">'
        '<Default Extension="rels" ContentType="application/vnd.openxmlformats-package.relationships+xml"/>'
        '<Default Extension="xml" ContentType="application/xml"/><Override PartName="/word/document.xml" '
        'ContentType="application/vnd.openxmlformats-officedocument.wordprocessingml.document.main+xml"/></Types>',
        "_rels/.rels": '<Relationships xmlns="http://schemas.openxmlformats.org/package/2006/relationships">'
        f'<Relationship Id="r1" Type="{relation}/officeDocument" Target="word/document.xml"/></Relationships>',
        "word/document.xml": '<w:document xmlns:w="http://schemas.openxmlformats.org/wordprocessingml/2006/main">'
        f"<w:body>{runs}</w:body></w:document>",
        **(extra or {}),
    }
    return package({name: data for name, data in parts.items() if name not in leave_out})


def windows_record(version: int, path: str, when: int = 133_846_129_200_000_000, size: int = 42) -> bytes:
    """A `$I` record as the systems write it."""
    head = struct.pack("<QQQ", version, size, when)
    wide = (path + "\0").encode("utf-16-le")
    return head + (wide.ljust(520, b"\0") if version == 1 else struct.pack("<I", len(path) + 1) + wide)


def windows_list(*paths: str) -> bytes:
    """An `INFO2` list."""
    out = struct.pack("<5I", 5, 0, 0, 800, 0)
    for index, path in enumerate(paths, 1):
        out += path.encode("cp1252", "replace").ljust(260, b"\0") + struct.pack(
            "<IIQI", index, 2, 133_846_129_200_000_000, 9
        )
        out += path.encode("utf-16-le").ljust(520, b"\0")
    return out


def office_doc() -> bytes:
    """A real binary text document."""
    return member(
        "win-text-powercut-cfb",
        "Users/ivarga/AppData/Roaming/Microsoft/Word/AutoRecovery save of Hull survey Saltmarsh Lass.asd",
    )


def compound_file(streams: dict[str, bytes]) -> bytes:
    """A compound file of version 3 that holds these streams by their paths ([MS-CFB] 2): a stand-in for its real writers."""
    entries: list[list[object]] = [["Root Entry", 5, -1, -1, -1, b""]]
    folders = {"": 0}
    last: dict[int, int] = {}

    def add(path: str, kind: int, data: bytes) -> None:
        folder, _, name = path.rpartition("/")
        if folder not in folders:
            add(folder, 1, b"")
        parent, number = folders[folder], len(entries)
        entries.append([name, kind, -1, -1, -1, data])
        if parent in last:
            entries[last[parent]][3] = number
        else:
            entries[parent][4] = number
        last[parent] = number
        if kind == 1:
            folders[path] = number

    for path, data in streams.items():
        add(path, 2, data)
    fat: list[int] = []
    body, mini = bytearray(), bytearray()
    mini_fat: list[int] = []

    def chain(data: bytes, unit: int, table: list[int], out: bytearray) -> int:
        if not data:
            return 0xFFFFFFFE
        first, count = len(table), -(-len(data) // unit)
        table += [*range(first + 1, first + count), 0xFFFFFFFE]
        out += data.ljust(count * unit, b"\0")
        return first

    starts = {}
    for number, entry in enumerate(entries):
        data = entry[5]
        assert isinstance(data, bytes)
        starts[number] = chain(data, 512, fat, body) if len(data) >= 4096 else chain(data, 64, mini_fat, mini)
    starts[0] = chain(bytes(mini), 512, fat, body)
    entries[0][5] = bytes(mini)
    tree = b"".join(
        (wide := (str(name) + "\0").encode("utf-16-le")).ljust(64, b"\0")
        + struct.pack("<HBB3i36xIQ", len(wide), kind, 1, left, right, child, starts[n], len(data))
        for n, (name, kind, left, right, child, data) in enumerate(entries)  # type: ignore[arg-type,misc]
    )
    directory = chain(tree, 512, fat, body)
    minis = struct.pack(f"<{len(mini_fat)}I", *mini_fat)
    mini_start, mini_count = chain(minis + b"\xff" * (-len(minis) % 512), 512, fat, body), -(-len(minis) // 512)
    count = 1
    while count * 128 < len(fat) + count:
        count += 1
    at = len(fat)
    fat += [0xFFFFFFFD] * count
    fat += [0xFFFFFFFF] * (count * 128 - len(fat))
    head = SIGNATURE + bytes(16) + struct.pack("<HHHHH6x", 0x3E, 3, 0xFFFE, 9, 6)
    head += struct.pack("<9I", 0, count, directory, 0, 4096, mini_start, mini_count, 0xFFFFFFFE, 0)
    head += struct.pack("<109I", *range(at, at + count), *[0xFFFFFFFF] * (109 - count))
    return head + bytes(body) + struct.pack(f"<{len(fat)}I", *fat)


def by_name(answer: Any, name: str) -> Any:
    """The one document of this name in a scan's answer."""
    found = [document for document in answer["documents"] if document["name"] == name]
    assert len(found) == 1, [document["name"] for document in answer["documents"]]
    return found[0]


def best_of(document: Any) -> Any:
    """The chosen copy of a document, None if there is none."""
    return next((copy for copy in document["copies"] if copy["id"] == document["best"]), None)


def write(path: Path, data: bytes | str, when: int | None = None) -> Path:
    """Write a file with its folders, and perhaps its time (seconds since 1970)."""
    path.parent.mkdir(parents=True, exist_ok=True)
    path.write_bytes(data.encode() if isinstance(data, str) else data)
    if when is not None:
        os.utime(path, (when, when))
    return path


def read(stream: BinaryIO, name: str, keep: int) -> tuple[Content, list[str]]:
    """What `formats.read_text` gives, the pieces as plain texts."""
    content, kept = formats.read_text(stream, name, keep, Limits())
    return content, [piece.text for piece in kept]
