"""Whole homes with known truth: documents edited over weeks, interrupted at random, with every kind of leftover.

`make(seed, folder)` writes one disk and returns what is true of it. The same seed gives the same disk, byte for byte.
"""

from __future__ import annotations

import os
import random
import string
import tomllib
from dataclasses import dataclass, field, replace
from datetime import UTC, datetime, timedelta
from pathlib import Path
from urllib.parse import quote
from xml.sax.saxutils import escape

from documents import ODF_OF, WRITERS, Identity, Rows, Version, edited, row_of

from rustfern.catalogue.loader import catalogue

BEGIN = datetime(2026, 2, 2, 8, 0, tzinfo=UTC)
PEOPLE = {
    "windows": {"Ines Varga": "Users/ivarga", "Tobias Okoro": "Users/tokoro", "Petra Lund": "Users/plund"},
    "linux": {"Ines Varga": "home/ines", "Tobias Okoro": "home/tobias", "Petra Lund": "home/petra"},
    "macos": {"Ines Varga": "Users/ines", "Tobias Okoro": "Users/tobias", "Petra Lund": "Users/petra"},
}
SIGNS = {"windows": "AppData/Roaming", "linux": ".config", "macos": "Library/Preferences"}
FORMATS = {
    "windows": ["docx"] * 5 + ["xlsx"] * 4 + ["pptx"] * 2 + ["odt", "ods", "txt", "csv"],
    "macos": ["docx"] * 4 + ["xlsx"] * 3 + ["pptx"] * 2 + ["odt", "txt"],
    "linux": ["odt"] * 4 + ["ods"] * 3 + ["odp", "docx", "xlsx", "txt", "txt", "csv", "md"],
}
_FIRST = [
    "Hull",
    "Keel",
    "Timber",
    "Mooring",
    "Launch",
    "Winch",
    "Crane",
    "Sail",
    "Rigging",
    "Berth",
    "Engine",
    "Varnish",
    "Insurance",
    "Crew",
    "Yard",
    "Slip",
    "Tide",
    "Rate",
]
_SECOND = [
    "survey",
    "orders",
    "plan",
    "schedule",
    "rota",
    "estimate",
    "invoice",
    "letter",
    "report",
    "list",
    "minutes",
    "handover",
    "inventory",
    "notes",
    "offer",
]
_FOLDERS = (
    "Documents",
    "Documents/Surveys",
    "Documents/Orders",
    "Documents/2026/March",
    "Desktop",
    "Documents/Customers/Okoro & Sons",
    "Documents/Archive",
)
# What happened to a lost document, and how often.
STORIES = {
    "crash": 8, "stale": 3, "diverged": 3, "torn": 3, "never-saved": 4, "overwritten": 4, "deleted": 4, "gone": 2,
    "misplaced": 2, "broken-autosave": 2, "conflict": 2, "both-open": 2, "moved": 1, "scratch": 2, "nothing-left": 1, "saved-as": 2, "protected-folder": 1,
    "unknown-program": 4,
}  # fmt: skip


@dataclass
class Doc:
    """One document of a home while it is made. Paths are relative to the disk."""

    person: str
    home: str
    folder: str
    stem: str
    ext: str
    rows: Rows
    identity: Identity
    saves: tuple[str, ...]
    saved: datetime

    @property
    def name(self) -> str:
        return f"{self.stem}.{self.ext}"

    @property
    def path(self) -> str:
        return f"{self.folder}/{self.name}"

    def version(self) -> Version:
        return Version(self.rows, self.identity, self.saved, self.saves)


@dataclass
class Truth:
    """What is true of one lost document: any of `best` is the right pick; empty: nothing intact exists."""

    story: str
    name: str
    original: str | None
    situations: tuple[str, ...]
    best: tuple[str, ...]


@dataclass
class Disk:
    """One generated disk: its truths, which leftover belongs to which original ("" for none), and what it is like."""

    seed: int
    layout: str
    clock: str
    documents: int = 0
    truths: list[Truth] = field(default_factory=list)
    links: dict[str, str] = field(default_factory=dict)
    files: dict[str, tuple[bytes, datetime]] = field(default_factory=dict)


def _habits() -> dict[str, list[dict[str, object]]]:
    with (Path(__file__).parent / "leftovers.toml").open("rb") as stream:
        return tomllib.load(stream)


HABITS = _habits()


class Maker:
    """Makes one disk."""

    def __init__(self, seed: int, size: int | None = None) -> None:
        self.rng = rng = random.Random(seed)
        layout = rng.choice(("windows", "windows", "linux", "macos"))
        clock = rng.choices(("good", "stamped", "fat", "future", "inner"), (70, 8, 8, 6, 8))[0]
        self.disk = Disk(seed, layout, clock)
        self.size = size or rng.choices((50, 80, 200, 600), (70, 20, 8, 2))[0]
        self.ids = 0
        self.taken: set[str] = set()
        self.listed: dict[str, list[tuple[str, str, str]]] = {}
        self.templates: list[tuple[str, Identity, Rows]] = []

    # --- small things -----------------------------------------------------------------------------------------------

    def hexed(self, count: int) -> str:
        return "".join(self.rng.choice("0123456789ABCDEF") for _ in range(count))

    def moment(self, low: float = 0, high: float = 35) -> datetime:
        """A time in office hours of the weeks before."""
        day = BEGIN + timedelta(days=int(self.rng.uniform(low, high)))
        return day + timedelta(seconds=self.rng.randrange(9 * 3600), microseconds=self.rng.randrange(1_000_000))

    def add(self, path: str, data: bytes, when: datetime) -> str:
        assert path not in self.disk.files, path
        self.disk.files[path] = data, when
        return path

    def write(self, doc: Doc, path: str, when: datetime, ext: str | None = None) -> str:
        return self.add(path, WRITERS[ext or doc.ext](doc.version()), when)

    def work(self, doc: Doc, minutes: int = 30, how_much: int | None = None, *, saved: bool = True) -> datetime:
        """Time passes, and the document is edited; `saved` is when it was last saved, by its own account."""
        when = doc.saved + timedelta(
            minutes=minutes, seconds=self.rng.randrange(600), microseconds=self.rng.randrange(10**6)
        )
        # Work always adds something: what is only cut is in the saved file already.
        doc.rows = (*edited(self.rng, doc.rows, doc.ext, how_much or self.rng.randint(1, 6)), row_of(self.rng, doc.ext))
        if saved:
            doc.saved = when
            doc.saves = (*doc.saves, self.hexed(8))
        return when

    # --- documents --------------------------------------------------------------------------------------------------

    def identity(self, person: str) -> Identity:
        return Identity(self.moment(-300, -10), person, self.hexed(8), self.hexed(32))

    def doc(self, *, ext: str | None = None, person: str | None = None, folder: str | None = None) -> Doc:
        """A document with weeks of work behind it, not yet on the disk."""
        rng, layout = self.rng, self.disk.layout
        homes = PEOPLE[layout]
        person = person or rng.choices(list(homes), (6, 2, 1))[0]
        ext = ext or rng.choice(FORMATS[layout])
        folder = f"{homes[person]}/{folder or rng.choice(_FOLDERS)}"
        like = [each for each in self.templates if each[0] == ext]
        if like and rng.random() < 0.25:
            _, identity, rows = rng.choice(like)
            identity = replace(identity, ident=self.hexed(32))
        else:
            identity = self.identity(person)
            rows = tuple(row_of(rng, ext) for _ in range(rng.randint(2, 10)))
        for _ in range(20):
            stem = f"{rng.choice(_FIRST)} {rng.choice(_SECOND)}"
            shape = rng.random()
            if shape < 0.4:
                stem += rng.choice(
                    (
                        f" {rng.randint(1, 60)}",
                        f" v{rng.randint(2, 9)}",
                        " 2026-03",
                        " (final)",
                        " Müller",
                        f"_{rng.randint(100, 999)}",
                        " Žofie",
                    )
                )
            if f"{folder}/{stem}".casefold() not in self.taken:
                break
        else:
            stem += " " + self.hexed(6)
        self.taken.add(f"{folder}/{stem}".casefold())
        doc = Doc(person, homes[person], folder, stem, ext, rows, identity, (identity.root,), self.moment())
        for _ in range(rng.choice((0, 1, 1, 3, 8))):
            doc.rows = edited(rng, doc.rows, ext, rng.randint(1, 5))
            doc.saves = (*doc.saves, self.hexed(8))
        self.disk.documents += 1
        return doc

    # --- leftovers --------------------------------------------------------------------------------------------------

    def leftover(self, sort: str, doc: Doc, when: datetime, names: int | None = None, **more: str) -> str | None:
        """Write a leftover of one sort with the document's rows as they are; None if no program of this disk leaves one."""
        fitting = [
            habit
            for habit in HABITS[sort]
            if self.disk.layout in habit["layouts"] and doc.ext in habit["formats"]  # type: ignore[operator]
        ]
        if not fitting:
            return None
        habit = self.rng.choice(fitting)
        place = catalogue().places[str(habit["place"])]
        shapes = list(habit["names"])  # type: ignore[call-overload]
        ext = ODF_OF[doc.ext] if habit.get("odf") else doc.ext
        fields = {
            "stem": doc.stem, "quoted": quote(doc.stem, safe="()"), "name": doc.name, "ext": doc.ext, "odfext": ODF_OF.get(doc.ext, ""),
            "stamp": str(self.rng.randrange(10**17, 4 * 10**17)), "hex": self.hexed(4).lower(), "HEX4": self.hexed(4), "counter": str(self.rng.randrange(4)),
            "number4": f"{self.rng.randrange(5):04}", "untitled": f"Document{self.rng.randint(1, 9)}", "odfuntitled": "untitled",
            "draftext": {"docx": "asd", "xlsx": "xlsb"}.get(doc.ext, doc.ext), **more,
        }  # fmt: skip
        if habit.get("in_folder"):
            folder = str(habit["in_folder"])
        elif place.where == "beside":
            folder = doc.folder
        else:
            spec = catalogue().places[place.same_folders_as] if place.same_folders_as else place
            folder = f"{doc.home}/{spec.folders[self.disk.layout][0]}".replace("*", "4").replace(
                "$temp", "AppData/Local/Temp"
            )  # type: ignore[index]
        for _ in range(8):
            path = f"{folder}/{self.rng.choice(shapes).format(**fields)}"
            if path not in self.disk.files:
                break
            fields |= {
                "counter": str(self.rng.randrange(4, 99)),
                "hex": self.hexed(5).lower(),
                "HEX4": self.hexed(4),
                "number4": f"{self.rng.randrange(9999):04}",
            }
            fields["stamp"] = str(self.rng.randrange(10**17, 4 * 10**17))
        else:
            return None
        self.write(doc, path, when, ext)
        if habit["place"] == "odf-suite-autosave" and sort == "autosave" and self.rng.random() < 0.5:
            self.listed.setdefault(doc.home, []).append((doc.path, path, doc.name))
        return path

    def habit(self) -> tuple[str, str]:
        """What a program that nobody listed does, invented: where it keeps its copies, and how it names them."""
        rng = self.rng
        program = "".join(rng.choice(string.ascii_lowercase) for _ in range(6))
        where = rng.choice(("beside", "beside", f".{program}", f"{program}-backups", "program", "program", "listed"))
        word = rng.choice(("autosave", "recover", "bak", "crash", "save", "orig", "swp", "backup"))
        stamp, counter = (
            f"{rng.randint(2025, 2026)}{rng.randint(1, 12):02}{rng.randint(1, 28):02}{rng.randrange(240000):06}",
            str(rng.randrange(1, 40)),
        )
        added = rng.choice(
            (
                f".{word}",
                f".{word}{counter}",
                f".{stamp}",
                f"-{word}-{stamp}",
                f"~{counter}",
                f".{self.hexed(3).lower()}Q{self.hexed(3)}",
                f"_{word}",
            )
        )
        if where == "program":
            return f".config/{program}/{rng.choice(('autosave', 'open', 'sessions'))}", rng.choice(
                ("{name}", "%{path}", "!{path}")
            )
        if where == "listed":
            return f".local/share/{program}", "listed"
        return where, rng.choice(
            ("{name}" + added, "." + "{name}" + added, "#{name}#", "{stem}" + f" ({word}).{{ext}}")
        ) if where == "beside" else "{name}" + rng.choice(("", added))

    def unlisted(self, doc: Doc, when: datetime) -> str | None:
        """A leftover of a program that nobody listed, newer than the document."""
        where, shape = self.habit()
        listed = shape == "listed"
        own = ("C:/" if self.disk.layout == "windows" else "/") + doc.path
        name = (
            self.hexed(6).lower()
            if listed
            else shape.format(name=doc.name, stem=doc.stem, ext=doc.ext, path=own.lstrip("/").replace("/", shape[0]))
        )
        folder = (
            doc.folder if where == "beside" else f"{doc.folder}/{where}" if "/" not in where else f"{doc.home}/{where}"
        )
        path = f"{folder}/{name.replace(':', shape[0])}"
        if path in self.disk.files or path == doc.path:
            return None
        self.write(doc, path, when)
        if listed:
            text = self.rng.choice(('{{"{copy}": "{own}"}}', "[{copy}]\npath={own}\n", "{own}\t{copy}\n")).format(
                copy=name, own=own
            )
            self.add(f"{folder}/{self.rng.choice(('index.json', 'list', 'open.ini'))}", text.encode(), when)
        return path

    def lock(self, doc: Doc, when: datetime) -> str | None:
        """The lock of whichever program had it open."""
        if doc.ext in ("docx", "xlsx", "pptx") and self.disk.layout != "linux":
            base = doc.stem
            cut = (2 if len(base) >= 8 else 1 if len(base) == 7 else 0) if doc.ext == "docx" else 0
            size, room = (162, 53) if doc.ext == "docx" else (165, 54)
            narrow = doc.person.encode("cp1252")
            data = (
                bytes([len(narrow)])
                + narrow.ljust(room, b" ")
                + len(doc.person).to_bytes(2, "little")
                + doc.person.encode("utf-16-le")
            )
            path, data = f"{doc.folder}/~${doc.name[cut:]}", data.ljust(size, b"\0")
        elif doc.ext in ODF_OF:
            path = f"{doc.folder}/.~lock.{doc.name}#"
            data = f",{doc.person.split()[0].lower()},quay-pc,{when:%d.%m.%Y %H:%M},file:///home/x/.config;".encode()
        else:
            return None
        if path in self.disk.files:
            return None
        self.add(path, data, when)
        self.disk.links[path] = doc.path
        return path

    def link(self, path: str | None, doc: Doc) -> None:
        if path:
            self.disk.links[path] = doc.path

    def told(self, story: str, doc: Doc, situations: tuple[str, ...], *best: str | None) -> None:
        self.disk.truths.append(Truth(story, doc.name, doc.path, situations, tuple(each for each in best if each)))

    # --- stories ----------------------------------------------------------------------------------------------------

    def crash(self) -> None:
        doc = self.doc()
        self.write(doc, doc.path, doc.saved)
        old = self.rng.random() < 0.3 and self.leftover("backup", self.earlier(doc), doc.saved)
        self.link(old or None, doc)
        opened = doc.saved + timedelta(minutes=self.rng.randint(-30, 200))
        when = self.work(doc, 210, saved=self.rng.random() < 0.5)
        path = self.leftover("autosave", doc, when)
        if path is None:
            return self.told("crash", doc, ("nothing-lost", "crashed"), doc.path)
        self.link(path, doc)
        if self.rng.random() < 0.7:
            self.lock(doc, opened)
        return self.told("crash", doc, ("crashed",), path)

    def earlier(self, doc: Doc) -> Doc:
        """The document as it was before its last work: what stood there is the end of what is there."""
        rows = doc.rows[: max(1, len(doc.rows) - self.rng.randint(1, 3))]
        if self.rng.random() < 0.3 and len(rows) > 3:
            rows = (*rows[:-1], row_of(self.rng, doc.ext))
        when = doc.saved - timedelta(hours=self.rng.randint(1, 70))
        return Doc(
            doc.person, doc.home, doc.folder, doc.stem, doc.ext, rows, doc.identity, doc.saves[:-1] or doc.saves, when
        )

    def stale(self) -> None:
        """An autosave stayed, then the person saved: nothing is lost."""
        doc = self.doc()
        path = self.leftover("autosave", doc, doc.saved - timedelta(minutes=9))
        for _ in range(2):
            # Only added to: the saved file holds all that the autosave holds.
            doc.rows = (*doc.rows, row_of(self.rng, doc.ext))
        self.write(doc, doc.path, doc.saved)
        self.link(path, doc)
        self.told("stale", doc, ("nothing-lost",), doc.path)

    def diverged(self) -> None:
        doc = self.doc()
        base = doc.rows
        doc.rows = (*base, row_of(self.rng, doc.ext), row_of(self.rng, doc.ext))
        path = self.leftover("autosave", doc, doc.saved)
        if path is None:
            return
        doc.rows = base
        self.work(doc, 24 * 60, 4)
        self.write(doc, doc.path, doc.saved)
        self.link(path, doc)
        self.told("diverged", doc, ("diverged",), path)

    def torn(self) -> None:
        """A save was cut short: the saved file is broken; the newest whole copy is an autosave or a backup."""
        doc = self.doc()
        old = self.leftover("backup", doc, doc.saved)
        self.link(old, doc)
        auto = None
        when = doc.saved
        if self.rng.random() < 0.6:
            when = self.work(doc, 40, saved=False)
            auto = self.leftover("autosave", doc, when)
            self.link(auto, doc)
        self.work(doc, 10)
        whole = WRITERS[doc.ext](doc.version())
        cut = self.rng.randrange(len(whole) // 3, len(whole) - 30) if doc.ext not in ("txt", "md", "csv") else 0
        broken = whole[:cut] + bytes(0 if cut and self.rng.random() < 0.5 else len(whole) - cut)
        self.add(doc.path, broken, doc.saved)
        self.told("torn", doc, ("wont-open",), auto or old)

    def never_saved(self) -> None:
        doc = self.doc(ext=self.rng.choice([f for f in FORMATS[self.disk.layout] if f in ODF_OF]))
        path = self.leftover("draft", doc, doc.saved)
        if path is None:
            return
        self.disk.links[path] = ""
        self.disk.truths.append(Truth("never-saved", Path(path).name, None, ("never-saved",), (path,)))

    def saved_as(self) -> None:
        """A draft without a name was saved at last, under a name that the person forgot; the draft stayed."""
        doc = self.doc(ext=self.rng.choice([f for f in FORMATS[self.disk.layout] if f in ODF_OF]))
        path = self.leftover("draft", doc, doc.saved)
        if path is None:
            return
        if self.rng.random() < 0.5:
            doc.rows = (*doc.rows, row_of(self.rng, doc.ext))
        doc.saved += timedelta(minutes=self.rng.randint(1, 200))
        self.write(doc, doc.path, doc.saved)
        self.disk.links[path] = ""
        self.disk.truths.append(
            Truth("saved-as", Path(path).name, None, ("misplaced", "never-saved"), (path, doc.path))
        )

    def overwritten(self) -> None:
        """Something else was saved under its name; a backup or an autosave still holds it."""
        doc = self.doc()
        path = self.leftover("backup", doc, doc.saved) or self.leftover("autosave", doc, doc.saved)
        if path is None:
            return
        self.link(path, doc)
        other = tuple(row_of(self.rng, doc.ext) for _ in range(self.rng.randint(2, 8)))
        doc.rows, doc.saved = other, doc.saved + timedelta(hours=self.rng.randint(1, 30))
        doc.saves = (*doc.saves, self.hexed(8))
        if self.rng.random() < 0.5:  # another document was saved there, with an identity of its own
            doc.identity = self.identity(doc.person)
            doc.saves = (doc.identity.root,)
        self.write(doc, doc.path, doc.saved)
        self.told("overwritten", doc, ("overwritten",), path)

    def deleted(self) -> None:
        doc = self.doc()
        when = doc.saved + timedelta(days=1)
        if self.disk.layout == "windows":
            ident = "".join(self.rng.choice(string.ascii_uppercase + string.digits) for _ in range(6))
            folder = f"$Recycle.Bin/S-1-5-21-1-2-3-{1001 + list(PEOPLE['windows']).index(doc.person)}"
            path = self.write(doc, f"{folder}/$R{ident}.{doc.ext}", doc.saved)
            recorded = "C:\\" + doc.path.replace("/", "\\") + "\0"
            ticks = int((when - datetime(1601, 1, 1, tzinfo=UTC)).total_seconds() * 10**7)
            data = (
                (2).to_bytes(8, "little")
                + len(self.disk.files[path][0]).to_bytes(8, "little")
                + ticks.to_bytes(8, "little")
            )
            self.add(
                f"{folder}/$I{ident}.{doc.ext}",
                data + len(recorded).to_bytes(4, "little") + recorded.encode("utf-16-le"),
                when,
            )
        elif self.disk.layout == "linux":
            folder = f"{doc.home}/.local/share/Trash"
            name = doc.name if f"{folder}/files/{doc.name}" not in self.disk.files else f"{doc.stem}.2.{doc.ext}"
            path = self.write(doc, f"{folder}/files/{name}", doc.saved)
            text = f"[Trash Info]\nPath=/{quote(doc.path)}\nDeletionDate={when:%Y-%m-%dT%H:%M:%S}\n"
            self.add(f"{folder}/info/{name}.trashinfo", text.encode(), when)
        else:
            path = f"{doc.home}/.Trash/{doc.name}"
            if path in self.disk.files:
                return
            self.write(doc, path, doc.saved)
            self.disk.truths.append(Truth("deleted", doc.name, None, ("deleted",), (path,)))
            return
        self.disk.links[path] = doc.path
        if self.rng.random() < 0.4:
            self.link(self.leftover("backup", self.earlier(doc), doc.saved - timedelta(hours=2)), doc)
        self.told("deleted", doc, ("deleted",), path)

    def gone(self) -> None:
        """Deleted for good; a backup beside it is left."""
        doc = self.doc()
        path = self.leftover("backup", doc, doc.saved)
        if path is None or "/lu" in path or "~WRL" in path or (path.endswith(".bak") and doc.ext in ODF_OF):
            return  # such a name tells nothing, or not where the document was
        self.link(path, doc)
        self.told("gone", doc, ("deleted",), path)

    def misplaced(self) -> None:
        """An attachment was opened from the mail and edited there; the person looks at the file they once saved."""
        doc = self.doc()
        self.write(doc, doc.path, doc.saved)
        self.work(doc, 50)
        path = self.leftover("mail", doc, doc.saved)
        if path is None:
            return self.told("misplaced", doc, ("nothing-lost",), doc.path)
        self.link(path, doc)
        return self.told("misplaced", doc, ("misplaced",), path)

    def broken_autosave(self) -> None:
        """The newest autosave was cut short; the saved file is the best there is."""
        doc = self.doc(ext=self.rng.choice([f for f in FORMATS[self.disk.layout] if f in ODF_OF]))
        self.write(doc, doc.path, doc.saved)
        when = self.work(doc, 40, saved=False)
        path = self.leftover("autosave", doc, when)
        if path is None:
            return
        data, _ = self.disk.files[path]
        self.disk.files[path] = data[: self.rng.randrange(200, len(data) - 22)], when
        self.link(path, doc)
        self.lock(doc, doc.saved + timedelta(minutes=1))
        self.told("broken-autosave", doc, ("crashed", "nothing-lost"), doc.path)

    def conflict(self) -> None:
        doc = self.doc()
        base = doc.rows
        self.write(doc, doc.path, doc.saved)
        more = self.rng.random() < 0.5
        doc.rows = (
            (*base, row_of(self.rng, doc.ext))
            if more
            else (*base[1:], row_of(self.rng, doc.ext), row_of(self.rng, doc.ext))
        )
        when = doc.saved + timedelta(hours=3)
        shape = self.rng.choice(
            ("{} (conflicted copy {:%Y-%m-%d %H%M%S}).{}", "{}.sync-conflict-{:%Y%m%d-%H%M%S}-ABCDEF7.{}")
        )
        doc.saved = when if more else doc.saved
        path = self.write(doc, f"{doc.folder}/{shape.format(doc.stem, when, doc.ext)}", when)
        self.link(path, doc)
        best = (doc.path, path) if more else (doc.path,)
        self.told("conflict", doc, ("nothing-lost", "diverged", "crashed"), *best)

    def both_open(self) -> None:
        """Two documents of one name in two folders, both open when the program died."""
        ext = self.rng.choice([f for f in FORMATS[self.disk.layout] if f in ODF_OF])
        first = self.doc(ext=ext, folder="Documents/Surveys")
        second = self.doc(ext=ext, folder="Documents/Orders", person=first.person)
        if f"{second.folder}/{first.stem}".casefold() in self.taken:
            return
        second.stem = first.stem
        self.taken.add(f"{second.folder}/{second.stem}".casefold())
        for doc in (first, second):
            self.write(doc, doc.path, doc.saved)
            self.lock(doc, doc.saved + timedelta(minutes=2))
        for doc in (first, second):
            when = self.work(doc, 200, saved=False)
            path = self.leftover("autosave", doc, when)
            self.link(path, doc)
            self.told("both-open", doc, ("crashed",) if path else ("nothing-lost",), path or doc.path)

    def moved(self) -> None:
        """The document was moved to another folder after its backup was made; nothing is lost."""
        doc = self.doc()
        old = self.leftover("backup", self.earlier(doc), doc.saved - timedelta(hours=5))
        doc.folder = f"{doc.home}/Documents/Moved"
        if doc.path in self.disk.files:
            return
        self.write(doc, doc.path, doc.saved)
        self.link(old, doc)
        self.told("moved", doc, ("nothing-lost",), doc.path)

    def scratch(self) -> None:
        """A previous version under a name that says nothing lies beside a document that was saved since."""
        doc = self.doc()
        old = self.leftover("backup", self.earlier(doc), doc.saved - timedelta(minutes=20))
        self.write(doc, doc.path, doc.saved)
        self.lock(doc, doc.saved - timedelta(minutes=50))
        self.link(old, doc)
        self.told("scratch", doc, ("nothing-lost",), doc.path)

    def nothing_left(self) -> None:
        """Open at the crash, nothing was autosaved: the lock proves no loss."""
        doc = self.doc(ext=self.rng.choice([f for f in FORMATS[self.disk.layout] if f in ODF_OF]))
        self.write(doc, doc.path, doc.saved)
        self.lock(doc, doc.saved + timedelta(minutes=2))
        self.told("nothing-left", doc, ("nothing-lost",), doc.path)

    def protected_folder(self) -> None:
        """Saved file and backup both broken: nothing intact exists."""
        doc = self.doc(ext=self.rng.choice([f for f in FORMATS[self.disk.layout] if f in ODF_OF]))
        old = self.leftover("backup", doc, doc.saved)
        if old is None:
            return
        data, when = self.disk.files[old]
        self.disk.files[old] = data[: len(data) * 2 // 3], when
        self.add(doc.path, bytes(len(data)), doc.saved + timedelta(minutes=5))
        self.link(old, doc)
        self.told("protected-folder", doc, ("wont-open",))

    # --- the disk ---------------------------------------------------------------------------------------------------

    def make(self) -> Disk:
        for home in PEOPLE[self.disk.layout].values():
            self.add(f"{home}/{SIGNS[self.disk.layout]}/settings.ini", b"[main]\n", BEGIN)
        for ext in sorted(set(FORMATS[self.disk.layout])):
            rows = tuple(row_of(self.rng, ext) for _ in range(self.rng.randint(4, 9)))
            self.templates.append((ext, self.identity("Petra Lund"), rows))
        stories = self.rng.choices(list(STORIES), list(STORIES.values()), k=self.rng.randint(4, 10))
        for story in stories:
            getattr(self, story.replace("-", "_"))()
        while self.disk.documents < self.size:
            self.quiet()
        for home, entries in self.listed.items():
            self.recovery_list(home, entries)
        return self.disk

    def quiet(self) -> None:
        """A document that nothing happened to, with what lies about all the same."""
        doc = self.doc()
        if doc.path in self.disk.files:
            return
        if self.rng.random() < 0.06:
            self.link(self.leftover("backup", self.earlier(doc), doc.saved - timedelta(hours=1)), doc)
        self.write(doc, doc.path, doc.saved)
        if self.rng.random() < 0.06:
            twin = f"{doc.folder}/{self.rng.choice(('Copy of {}', '{} - Copy', '{} (2)')).format(doc.stem)}.{doc.ext}"
            if twin not in self.disk.files:
                self.write(doc, twin, doc.saved + timedelta(days=1))

    def unknown_program(self) -> None:
        doc = self.doc()
        if doc.path in self.disk.files:
            return
        self.write(doc, doc.path, doc.saved)
        when = self.work(doc, self.rng.randint(5, 90), saved=self.rng.random() < 0.5)
        path = self.unlisted(doc, when)
        if path is not None:
            self.link(path, doc)
            self.told("unknown-program", doc, ("crashed", "overwritten", "diverged"), path)

    def recovery_list(self, home: str, entries: list[tuple[str, str, str]]) -> None:
        top = "file:///C:/" if self.disk.layout == "windows" else "file:///"
        nodes = "".join(
            f'<node oor:name="recovery_item_{number}" oor:op="replace">'
            f'<prop oor:name="OriginalURL" oor:op="fuse"><value>{escape(top + quote(original))}</value></prop>'
            f'<prop oor:name="TempURL" oor:op="fuse"><value>{escape(top + quote(copy))}</value></prop>'
            f'<prop oor:name="Title" oor:op="fuse"><value>{escape(title)}</value></prop>'
            '<prop oor:name="DocumentState" oor:op="fuse"><value>513</value></prop></node>'
            for number, (original, copy, title) in enumerate(entries)
        )
        folder = str(Path(entries[0][1]).parent.parent)
        text = (
            '<?xml version="1.0" encoding="UTF-8"?><oor:items xmlns:oor="http://openoffice.org/2001/registry">'
            f'<item oor:path="/org.openoffice.Office.Recovery/RecoveryList">{nodes}</item></oor:items>'
        )
        self.add(f"{folder}/registrymodifications.xcu", text.encode(), BEGIN + timedelta(days=40))

    def on_disk(self, when: datetime) -> datetime:
        """A file's time as this disk shows it."""
        clock = self.disk.clock
        if clock == "stamped":
            return BEGIN + timedelta(days=50)
        if clock == "fat":
            return when.replace(microsecond=0, second=when.second // 2 * 2)
        if clock == "future" and self.rng.random() < 0.1:
            return when + timedelta(days=3_000)
        return when


def make(seed: int, folder: Path, size: int | None = None) -> Disk:
    """Write one disk below `folder`."""
    maker = Maker(seed, size)
    disk = maker.make()
    for path, (data, when) in disk.files.items():
        target = folder / path
        target.parent.mkdir(parents=True, exist_ok=True)
        target.write_bytes(data)
        shown = maker.on_disk(when).timestamp()
        os.utime(target, (shown, shown))
    return disk
