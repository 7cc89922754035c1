#!/usr/bin/env python3
"""Check the documents of other projects' test suites, with independent readers beside: tools/foreign.py fetch|judge|all DIR [--only SUITE …]

`fetch` gets the sources named in tools/foreign.toml by the registries' own clients (`pip download`, `apt-get source`) and unpacks them below
DIR; nothing of them is committed or run. `judge` has the built `rustfern` check every file and the readers that are installed read it too
(qpdf, pdfinfo, djpeg, tiffinfo, flac, ffmpeg, xmllint, unzip, 7z, gzip, xz, bzip2, zstd, tar, sqlite3, heif-info, Pillow, python-docx,
openpyxl, python-pptx, lxml), and prints where they disagree, by cause, and what took long. The results are in DIR/judged.json too.
"""

from __future__ import annotations

import argparse
import concurrent.futures
import hashlib
import json
import os
import re
import resource
import shutil
import signal
import subprocess
import sys
import tarfile
import time
import tomllib
import zipfile
from collections import defaultdict
from collections.abc import Callable, Iterable, Iterator
from pathlib import Path

HERE = Path(__file__).parent
RUSTFERN = str(Path(sys.executable).parent / "rustfern")
AT_ONCE, SLOW, SECONDS = 60, 10.0, 20
MAX_SIZE, MEMORY = 64 << 20, 6 << 30
ARCHIVES = (".tar.gz", ".tgz", ".tar.xz", ".tar.bz2", ".zip")
CODE = (
    ".py .pyi .pyx .c .h .cc .cpp .cxx .hpp .hxx .java .js .ts .go .rs .rb .php .pl .pm .pas .cs .swift .kt .m .mm .s .asm .am .ac .in .po .pot"
    " .mk .cmake .sh .bat .m4 .y .l .idl .ui .hrc .src .gir .vala .glade .cfg .toml .xba .phpt .t .rst .recipe .test .out .scad "
)
"""Endings of what suites are written in, not of what they are tried on."""


def run(command: list[str], seconds: float = SECONDS) -> subprocess.CompletedProcess[str]:
    """Run a program; after so many seconds it is ended with all that it started. Raises `subprocess.TimeoutExpired`."""
    started = subprocess.Popen(command, stdout=subprocess.PIPE, stderr=subprocess.PIPE, start_new_session=True)
    try:
        out, err = started.communicate(timeout=seconds)
    except subprocess.TimeoutExpired:
        os.killpg(started.pid, signal.SIGKILL)
        started.communicate()
        raise
    return subprocess.CompletedProcess(
        command, started.returncode, out.decode("utf-8", "replace"), err.decode("utf-8", "replace")
    )


# --- getting them ---------------------------------------------------------------------------------------------------


def fetch(base: Path, only: Iterable[str]) -> None:
    """Get the sources that are not there yet; what cannot be had is said."""
    wanted = tomllib.loads((HERE / "foreign.toml").read_text())
    sources, apt = base / "sources", base / "apt"
    for part in (sources, apt / "lists/partial"):
        part.mkdir(parents=True, exist_ok=True)
    for name in wanted["pip"]:
        if (not only or name in only) and not list(sources.glob(f"pip-{name}/*")):
            command = [
                sys.executable,
                "-m",
                "pip",
                "download",
                "-q",
                "--no-deps",
                "--no-binary",
                name,
                "-d",
                str(sources / f"pip-{name}"),
                name,
            ]
            _say(name, command)
    (apt / "sources.list").write_text(wanted["debian-sources"] + "\n")
    options = [
        f"-oDir::Etc::sourcelist={apt}/sources.list",
        "-oDir::Etc::sourceparts=-",
        f"-oDir::State::lists={apt}/lists",
    ]
    _say("the list of source packages", ["apt-get", *options, "-q", "update"])
    for name in wanted["debian"]:
        folder = sources / f"debian-{name}"
        if (not only or name in only) and not list(folder.glob("*")):
            folder.mkdir(exist_ok=True)
            _say(name, ["apt-get", *options, "-q", "source", "--download-only", name], folder)


def _say(name: str, command: list[str], folder: Path | None = None) -> None:
    done = subprocess.run(command, capture_output=True, text=True, cwd=folder)
    if done.returncode:
        print(f"{name}: could not be had: {(done.stderr.strip().splitlines() or ['no word of why'])[-1]}")


def unpack(base: Path) -> None:
    """Unpack every source into a folder of its own, without links and devices."""
    for archive in sorted((base / "sources").rglob("*")):
        out = base / "files" / archive.parent.name / archive.name
        if not archive.name.endswith(ARCHIVES) or ".debian.tar" in archive.name or out.exists():
            continue
        partly = out.with_name("part")
        shutil.rmtree(partly, ignore_errors=True)
        partly.mkdir(parents=True)
        try:
            if archive.suffix == ".zip":
                with zipfile.ZipFile(archive) as package:
                    package.extractall(partly)
            else:
                with tarfile.open(archive) as tape:
                    for item in tape:
                        if item.isreg() and f"{Path(item.name).suffix.lower()} " not in CODE:
                            tape.extract(item, partly, filter="data")
        except (OSError, tarfile.TarError, zipfile.BadZipFile) as error:
            print(f"{archive}: {error}")
        partly.rename(out)


def documents(base: Path, only: Iterable[str]) -> Iterator[Path]:
    """What is judged: each content once, without what the suites are written in."""
    seen: set[bytes] = set()
    for suite in sorted((base / "files").iterdir()):
        if only and suite.name.partition("-")[2] not in only:
            continue
        for path in sorted(suite.rglob("*")):
            if path.is_symlink() or not path.is_file() or not path.suffix or f"{path.suffix.lower()} " in CODE:
                continue
            if 0 < path.stat().st_size <= MAX_SIZE:
                digest = hashlib.sha256(path.read_bytes()).digest() + path.suffix.lower().encode()
                if digest not in seen:
                    seen.add(digest)
                    yield path


# --- other readers --------------------------------------------------------------------------------------------------


def ends(*command: str, good: Iterable[int] = (0,), quiet: bool = False) -> Callable[[Path], str]:
    """A program that tells by its exit status, or by what it says."""

    def read(path: Path) -> str:
        done = run([each.replace("{}", str(path)) for each in command])
        said = done.stderr + done.stdout
        if re.search(r"(?i)password|(?<!not )encrypted", said) and done.returncode:
            return "encrypted"
        return "good" if done.returncode in good and not (quiet and done.stderr.strip()) else "bad"

    read.__name__ = command[0]
    return read


def pillow(path: Path) -> str:
    from PIL import Image, ImageSequence

    Image.MAX_IMAGE_PIXELS = None
    with Image.open(path) as picture:
        for number, frame in enumerate(ImageSequence.Iterator(picture)):
            frame.load()
            if number > 50:
                break
    return "good"


def docx(path: Path) -> str:
    import docx as reader

    reader.Document(str(path))
    return "good"


def pptx(path: Path) -> str:
    import pptx as reader

    reader.Presentation(str(path))
    return "good"


def xlsx(path: Path) -> str:
    import openpyxl

    openpyxl.load_workbook(path, read_only=True).close()
    return "good"


def odf(path: Path) -> str:
    from lxml import etree

    with zipfile.ZipFile(path) as package:
        if package.testzip() is not None:
            return "bad"
        etree.fromstring(package.read("content.xml"), etree.XMLParser(huge_tree=True))
    return "good"


def text(path: Path) -> str:
    data = path.read_bytes()
    return "good" if b"\0" not in data else "?"


def strict_json(path: Path) -> str:
    json.loads(path.read_bytes())
    return "good"


MEDIA = ends("ffmpeg", "-v", "error", "-xerror", "-i", "{}", "-f", "null", "-", quiet=True)
UNZIP = ends("unzip", "-tqq", "{}", good=(0, 1))
READERS: dict[str, tuple[Callable[[Path], str], ...]] = {
    "pdf": (ends("qpdf", "--check", "{}", good=(0, 3)), ends("pdfinfo", "{}")),
    "jpg": (ends("djpeg", "-strict", "-outfile", "/dev/null", "{}"), pillow),
    "tif": (ends("tiffinfo", "-D", "{}"), pillow), "png": (pillow,), "gif": (pillow,), "bmp": (pillow,), "webp": (pillow,), "psd": (pillow,),
    "ico": (pillow,), "heif": (ends("heif-info", "{}"),), "avif": (ends("heif-info", "{}"),),
    "flac": (ends("flac", "-ts", "{}"),), "mp3": (MEDIA,), "wav": (MEDIA,), "ogg": (MEDIA,), "mp4": (MEDIA,), "mov": (MEDIA,), "m4a": (MEDIA,),
    "mkv": (MEDIA,), "webm": (MEDIA,), "avi": (MEDIA,), "aiff": (MEDIA,), "mpg": (MEDIA,),
    "xml": (ends("xmllint", "--noout", "--huge", "--nonet", "{}"),), "svg": (ends("xmllint", "--noout", "--huge", "--nonet", "{}"),),
    "zip": (UNZIP, ends("7z", "t", "-p", "{}")), "epub": (UNZIP,), "7z": (ends("7z", "t", "-p", "{}"),),
    "gz": (ends("gzip", "-tq", "{}", good=(0, 2)),), "xz": (ends("xz", "-tq", "{}"),), "bz2": (ends("bzip2", "-tq", "{}"),),
    "zst": (ends("zstd", "-tq", "{}"),), "tar": (ends("tar", "tf", "{}"),),
    "docx": (UNZIP, docx), "pptx": (UNZIP, pptx), "xlsx": (UNZIP, xlsx), "odt": (odf,), "ods": (odf,), "odp": (odf,), "odg": (odf,),
    "sqlite": (ends("sqlite3", "-readonly", "{}", "pragma integrity_check"),), "json": (strict_json,), "txt": (text,),
}  # fmt: skip
OPTIONAL = {
    "docm": "docx",
    "dotx": "docx",
    "xlsm": "xlsx",
    "pptm": "pptx",
    "ppsx": "pptx",
    "ott": "odt",
    "ots": "ods",
    "opus": "ogg",
    "tiff": "tif",
}


def others(path: Path, kind: str | None) -> dict[str, str]:
    """What independent readers of this format say: good, bad or encrypted."""
    said = {}
    for reader in READERS.get(OPTIONAL.get(kind or "", kind or ""), ()):
        if reader.__name__ in ("pillow", "docx", "pptx", "xlsx", "odf", "text", "strict_json") or shutil.which(
            reader.__name__
        ):
            try:
                said[reader.__name__] = reader(path)
            except subprocess.TimeoutExpired:
                said[reader.__name__] = "slow"
            except ImportError:
                continue
            except Exception:  # whatever a reader raises, it did not read the file
                said[reader.__name__] = "bad"
    return said


# --- judging --------------------------------------------------------------------------------------------------------


def checked(paths: list[Path]) -> list[dict[str, object]]:
    """What the built command says of some files; where they take long, each alone, with its seconds."""
    started = time.monotonic()
    try:
        done = run([RUSTFERN, "check", "--json", *map(str, paths)], SLOW * 6 if len(paths) > 1 else 600)
        files: list[dict[str, object]] = json.loads(done.stdout)["files"]
    except (subprocess.TimeoutExpired, ValueError, KeyError):
        files = []
    seconds = time.monotonic() - started
    if len(paths) > 1 and (len(files) != len(paths) or seconds > SLOW):
        half = len(paths) // 2
        return checked(paths[:half]) + checked(paths[half:])
    if not files:
        return [{"path": str(paths[0]), "state": "no answer", "reason": "", "format": None, "seconds": seconds}]
    for each in files:
        each["seconds"] = round(seconds / len(files), 2)
    return files


def judged(paths: list[Path]) -> list[dict[str, object]]:
    files = checked(paths)
    for each in files:
        each["others"] = others(Path(str(each["path"])), str(each["format"]))
    return files


def disagreement(each: dict[str, object]) -> str | None:
    """In what our verdict and those of others differ; None if they do not, or nobody else reads this."""
    state, told = str(each["state"]), each["others"]
    assert isinstance(told, dict)
    said = set(told.values()) - {"?", "slow"}
    if state == "no answer":
        return "no answer"
    if state in ("damaged", "unreadable", "encrypted") and "good" in said and "bad" not in said:
        return f"{state}, others read it"
    if state == "intact" and "bad" in said:
        return "intact, another cannot read it" if "good" in said else "intact, no other can read it"
    if state in ("damaged", "unreadable") and not said:
        return f"{state}, nobody else was asked"
    return "its ending is called wrong" if each.get("extension_right") is False else None


def report(files: list[dict[str, object]]) -> None:
    """Disagreements by cause: ours, the format, the reason without its numbers; with one example each."""
    causes: dict[tuple[str, ...], list[str]] = defaultdict(list)
    for each in files:
        if (differs := disagreement(each)) is not None:
            reason = re.sub(r"\d[\d,.]*|'[^']*'|\"[^\"]*\"", "…", str(each["reason"]))[:110]
            ending = Path(str(each["path"])).suffix if "ending" in differs else ""
            causes[differs, str(each["format"]), ending or reason].append(str(each["path"]))
    for (differs, kind, reason), paths in sorted(causes.items(), key=lambda item: (item[0][0], -len(item[1]))):
        print(f"{len(paths):5} {differs:32} {kind:8} {reason}\n{'':6}{paths[0]}")
    for each in sorted(files, key=lambda each: -float(str(each["seconds"]))):
        if float(str(each["seconds"])) > SLOW:
            print(f"{each['seconds']} s: {each['path']}")
    print(f"{len(files)} files, {sum(map(bool, map(disagreement, files)))} disagreements")


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("what", choices=("fetch", "judge", "all"))
    parser.add_argument("folder", type=Path)
    parser.add_argument("--only", nargs="*", default=(), help="these suites only")
    given = parser.parse_args()
    if given.what != "judge":
        fetch(given.folder, given.only)
    if given.what != "fetch":
        unpack(given.folder)
        found = list(documents(given.folder, given.only))
        groups = [found[at : at + AT_ONCE] for at in range(0, len(found), AT_ONCE)]
        # Some of the readers beside us would take all the memory there is for a file that was made for that.
        resource.setrlimit(resource.RLIMIT_AS, (MEMORY, MEMORY))
        with concurrent.futures.ThreadPoolExecutor(2) as pool:
            files = [each for group in pool.map(judged, groups) for each in group]
        (given.folder / "judged.json").write_text(json.dumps(files, indent=1))
        report(files)
    return 0


if __name__ == "__main__":
    sys.exit(main())
