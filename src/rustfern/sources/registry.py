"""The one door to what is searched: the source that a path names, whatever it is."""

from __future__ import annotations

import os
import stat
import threading
from collections.abc import Callable, Iterable, Sequence
from datetime import tzinfo
from typing import TYPE_CHECKING

from msgspec.structs import replace

from rustfern.core.errors import SourceError, WrongUsage, explain
from rustfern.core.model import Entry, SearchedDisk
from rustfern.core.paths import inside, raw_offset, show_name
from rustfern.core.remote_paths import inside_form, is_remote, top_of
from rustfern.core.services import ServiceLayout
from rustfern.formats.format_table import DOCUMENT_EXTENSIONS, extension_of, format_of_extension
from rustfern.formats.interface import Limits
from rustfern.output.temporary import Scratch
from rustfern.sources import live_machine
from rustfern.sources.disk_health import DiskAccess, Health, ReadOnceCache
from rustfern.sources.disks.containers.raw import is_device, is_device_name
from rustfern.sources.folder import FolderSource
from rustfern.sources.interface import Source
from rustfern.sources.kept_folder import lies_in_kept
from rustfern.sources.remote.pace import Pace

if TYPE_CHECKING:
    from rustfern.sources.archives import Archive, ArchiveSource
    from rustfern.sources.disks.open_disk import OpenDisk
    from rustfern.sources.disks.source import DiskSource
    from rustfern.sources.remote.interface import Ask, Confirm
    from rustfern.sources.remote.source import Remote, RemoteSource

_HEAD_BYTES = 512
_ARCHIVES = frozenset({"zip", "tar", "gz", "bz2", "xz", "7z"})
PASSWORD = "RUSTFERN_PASSWORD"
"""The environment variable that holds the password for another machine."""
_MAX_HELD = 4
"""Archives that stay open a while longer than anybody works with them."""


def ask_nobody(user: str, host: str) -> str | None:
    """The password for another machine where nobody can be asked: that of the environment."""
    return os.environ.get(PASSWORD)


def everything(name: str) -> bool:
    """Any name of a document."""
    return extension_of(name) in DOCUMENT_EXTENSIONS


def agree_to_nothing(question: str) -> bool:
    """The answer where nobody can be asked."""
    return False


class Sources:
    """All that one session searches, by its paths. Archives are kept open: reading the index of one again and again would read all of it."""

    def __init__(
        self,
        access: DiskAccess | None = None,
        limits: Limits | None = None,
        secrets: dict[tuple[str, str], str] | None = None,
    ) -> None:
        self._secrets = secrets or {}
        self.access = access or DiskAccess()
        self.limits = replace(limits or Limits(), scratch=self.access.scratch)
        self._open: dict[str, ArchiveSource | DiskSource | RemoteSource] = {}
        self._remotes: dict[str, Remote] = {}
        self.ask: Ask = ask_nobody
        """Who is asked for passwords of other machines; they are kept in memory alone."""
        self.wanted: Callable[[str], bool] = everything
        """Tells by its name whether the versions of a file are asked for of a service."""
        self.pace = Pace()
        """How fast is read from other machines."""
        self.layouts: Callable[[], Sequence[ServiceLayout]] = tuple
        """Gives what is known of services that lay out what they keep in ways of their own."""
        self.confirm: Confirm = agree_to_nothing
        """Who is asked whether a machine that is not known yet is the right one."""
        self._changing = threading.RLock()
        self._zone: tzinfo | None = None
        self.other_volumes: dict[str, dict[str, str]] = {}
        """Top of a volume → the folders that stand for other volumes, by the drive letter or mount point that the system there gives them."""

    def __reduce__(self) -> tuple[type[Sources], tuple[DiskAccess, Limits, dict[tuple[str, str], str]]]:
        """What another process of ours needs to know: it opens archives anew, and goes to other machines itself."""
        return Sources, (self.access, self.limits, self._secrets)

    def _password(self, user: str, host: str) -> str | None:
        """The password for another machine, asked for once."""
        told = self._secrets.get((user, host)) or self.ask(user, host)
        if told is not None:
            self._secrets[user, host] = told
        return told

    @property
    def health(self) -> Health:
        """What reading showed of the disks."""
        return self.access.health

    @property
    def gentle(self) -> ReadOnceCache:
        """What was read already, where disks are read gently."""
        return self.access.gentle

    @property
    def scratch(self) -> Scratch:
        """Where private copies are made."""
        return self.access.scratch

    def open(self, root: str) -> Source:
        """The source that a root names: a folder, an archive, a disk, or a folder in one of these. Raises `SourceError` for an archive or a
        disk that cannot be read.
        """
        with self._changing:
            source = self._open.get(root)
            if source is not None and source.is_current():
                return source
            if is_remote(root):
                return self._remote_source(root)
            found = _holder_of(root)
            if found is None:
                return FolderSource(root, self.access)
            path, stamp = found
            source = self._in_archive(root, path, stamp) if is_archive(path) else self._on_disk(root, path, stamp)
            self._open[root] = source
            for oldest in [each for each in self._open if not is_remote(each)][:-_MAX_HELD]:
                del self._open[oldest]  # who works with it still holds it
            return source

    def _remote_source(self, root: str) -> RemoteSource:
        from rustfern.sources.remote.connect import connect
        from rustfern.sources.remote.source import Remote, RemoteSource

        top = top_of(root)
        remote = self._remotes.get(top)
        if remote is None:
            remote = self._remotes[top] = Remote(
                top, connect(top, self._password, self.confirm, self.layouts(), self.pace)
            )
        source = self._open[root] = RemoteSource(root, remote, self.scratch, self.wanted)
        return source

    def _in_archive(self, root: str, path: str, stamp: tuple[int, int]) -> ArchiveSource:
        from rustfern.sources.archives import ArchiveSource

        for each in self._held():
            if isinstance(each, ArchiveSource) and each.archive.path == path and each.is_current():
                return ArchiveSource(root, each.archive)
        return ArchiveSource(root, self._opened(path, stamp))

    def _on_disk(self, root: str, path: str, stamp: tuple[int, int]) -> DiskSource:
        from rustfern.sources.disks.disk import Disk
        from rustfern.sources.disks.open_disk import OpenDisk
        from rustfern.sources.disks.source import DiskSource

        for each in self._held():
            if isinstance(each, DiskSource) and each.held.path == path and each.is_current():
                return DiskSource(root, each.held)
        held = OpenDisk(Disk(path, self.health), stamp, self.scratch, self.limits, self._zone)
        return DiskSource(root, held)

    def entry_at(
        self, root: str, path: str, extents: Sequence[Sequence[int]] | None = None, caution: str = ""
    ) -> Entry:
        """What a case tells of: of a find without a record also where on the disk it lies, and what must be said of it. Raises `SourceError`."""
        source = self.open(root)
        offset = raw_offset(path)
        if offset is not None and extents and (disk := self.disk(root)) is not None:
            disk.lay(offset, tuple((at, length) for at, length in extents), caution)
        return source.entry(path)

    def fetch_ahead(self, paths: Iterable[tuple[str, str]]) -> None:
        """Have small files on other machines read that are asked for soon, many at a time: (root, path) of each. What lies here is left alone."""
        if self._remotes:
            from rustfern.sources.remote.source import RemoteSource

            for root, path in paths:
                source = self._open.get(root)
                if isinstance(source, RemoteSource):
                    source.ahead(path)

    def set_zone(self, zone: tzinfo | None) -> None:
        """The zone of the clock on the wall by which file systems that keep no zone wrote their times; None for this machine's."""
        self._zone = zone
        if self._open:
            from rustfern.sources.disks.source import DiskSource

            for each in self._held():
                if isinstance(each, DiskSource):
                    each.held.zone = zone

    def _disk_source(self, root: str) -> DiskSource | None:
        source = self.open(root)
        if isinstance(source, FolderSource):
            return None  # most are, and need none of what reads disks
        from rustfern.sources.disks.source import DiskSource

        return source if isinstance(source, DiskSource) else None

    def disk(self, root: str) -> OpenDisk | None:
        """The disk that a root is, or lies on; None if it is none."""
        source = self._disk_source(root)
        return source.held if source is not None else None

    def is_disk(self, root: str) -> bool:
        """Whether a path names a disk itself: a device, or the image of one."""
        path = os.path.realpath(os.path.abspath(root))
        if os.path.isdir(path) or not on_disk(path) or is_archive(path):
            return False
        return is_searched_file(path)

    def is_live(self, root: str) -> bool:
        """Whether somebody may be at work in what a root names: files of this running machine, a device that is mounted now."""
        disk = self.disk(root)
        if disk is None:
            return bool(self.is_folder(root)) and live_machine.is_in_use(root)
        return bool(self.mounted_at(root))

    def mounted_at(self, root: str) -> list[str]:
        """Where volumes of the device that a root is, or lies on, are mounted on this machine now."""
        disk = self.disk(root)
        if disk is None or disk.disk.container != "device":
            return []
        return live_machine.mounted_from(disk.path)

    def told_disk(self, root: str) -> SearchedDisk | None:
        """What is to be said of the disk that a root lies on; None if it lies on none."""
        source = self._disk_source(root)
        return source.told() if source is not None else None

    def _held(self) -> list[ArchiveSource | DiskSource | RemoteSource]:
        return list(self._open.values())

    def _opened(self, path: str, stamp: tuple[int, int]) -> Archive:
        from rustfern.sources.archives import Archive, looks_like_archive

        folder = FolderSource(os.path.dirname(path), self.access)
        archive = Archive(folder.open(folder.entry(path)), path, stamp, self.scratch)
        top = archive.members[""].names
        inner = next(iter(top), "")
        if len(top) == 1 and archive.members[inner].kind == "file":
            # A home packed in an archive in another one: what it holds stands for it.
            with archive.open(inner) as stream:
                head = stream.read(_HEAD_BYTES)
            if looks_like_archive(head) and is_packed_home(inner):
                return Archive(archive.open(inner), path, stamp, self.scratch)
        return archive

    def of(self, entry: Entry) -> Source:
        """The source that an entry belongs to."""
        return self.open(entry.root)

    def around(self, path: str) -> Source:
        """The source that a path lies in, when nothing else tells: its own folder, or the archive that it is in."""
        for held in self._held():
            if inside(path, held.root):
                return held
        if is_remote(path):
            return self.open(os.path.dirname(path))
        found = _holder_of(os.path.dirname(path))
        return self.open(found[0]) if found else FolderSource(os.path.dirname(path), self.access)

    def check_root(self, root: str) -> str:
        """A root in absolute form: a folder, an archive, or a folder in one.

        Raises `WrongUsage` if it does not exist or is neither, `SourceError` if it cannot be read.
        """
        if not root:
            raise WrongUsage(
                "what is searched was given as nothing", None, "Name a folder, an archive or an attached disk"
            )
        root = inside_form(root)
        if is_remote(root):
            return self._check_remote(root)
        path = os.path.abspath(root)
        if is_device_name(path):
            self.open(path)  # a device: the system gives no facts of it
            return path
        try:
            mode = os.stat(path).st_mode
        except (FileNotFoundError, NotADirectoryError) as error:
            if self.open(path).is_folder(path):
                return os.path.realpath(path)
            raise WrongUsage(
                "there is nothing at this path",
                path,
                "Name the folder, the archive, the image or the attached disk to search",
            ) from error
        except (OSError, ValueError) as error:
            what = explain(error) if isinstance(error, OSError) else str(error)
            raise SourceError(
                f"this cannot be read ({what})", path, "Ask for the right to read it, or attach a copy"
            ) from error
        real = os.path.realpath(path)
        if not stat.S_ISDIR(mode):
            if is_searched_file(real):
                self.open(real)
                return real
            raise WrongUsage(
                "this is a file; a folder, an archive or a disk is searched",
                path,
                f"Try its folder: {show_name(os.path.dirname(path))}",
            )
        try:
            with os.scandir(path):
                pass
        except OSError as error:
            raise SourceError(
                f"this folder cannot be listed ({explain(error)})", path, "Ask for the right to read it"
            ) from error
        return real

    def _check_remote(self, root: str) -> str:
        """Raises `SourceError`, with what stands in the way."""
        self._remote_source(root).check()
        return root

    def may_be_written(self, path: str) -> bool:
        """Whether a path is a folder of a mounted file system: not in an archive, an image or a device, nor in what `keep` took."""
        return os.path.isdir(path) and not lies_in_kept(path)

    def real_path(self, path: str) -> str:
        """Where a path leads when every link on the way is followed; in an archive, the links that its own members are."""
        if is_device_name(path) or is_remote(path):
            return path  # a device has no way to it
        seen: set[str] = set()
        source = self.around(path)
        while not isinstance(source, FolderSource) and path not in seen:
            seen.add(path)
            try:
                target = source.entry(path).link_target
            except SourceError:
                return path
            if target is None:
                return path
            path = os.path.normpath(os.path.join(os.path.dirname(path), target))
            if not inside(path, source.root):
                return path
        return os.path.realpath(path)

    def exists(self, path: str) -> bool:
        """Whether there is anything at this path, a dangling link included; on a disk or in an archive that is open."""
        if os.path.lexists(path) if self.access.looked is None else self.access.looked.ask(path):
            return True
        return any(held.exists(path) for held in self._held() if inside(path, held.root))

    def is_file(self, path: str) -> bool:
        """Whether this is a regular file, or a link to one; on a disk or in an archive."""
        if self.access.looked is not None and self.access.looked.ask(path) and os.path.islink(path):
            self.access.looked.is_sure = False
        if os.path.isfile(path):
            return True
        source = self.around(os.path.abspath(path))
        try:
            return not isinstance(source, FolderSource) and source.entry(os.path.abspath(path)).is_file
        except SourceError:
            return False

    def is_folder(self, path: str) -> bool | None:
        """Whether this is a folder and no link to one; None if we are not allowed to know."""
        for held in self._held():
            if inside(path, held.root):
                return held.is_folder(path)
        if self.access.looked is not None:
            self.access.looked.ask(path)
        return FolderSource.is_folder_here(path)


def _holder_of(path: str) -> tuple[str, tuple[int, int]] | None:
    """The archive or disk that a path is, or lies in, with its time (ns) and size; None if it is a folder or there is none."""
    while True:
        if is_device_name(path):
            return path, (0, 0)
        try:
            facts = os.stat(path)
        except (NotADirectoryError, FileNotFoundError):
            above = os.path.dirname(path)
            if above == path:
                return None
            path = above
            continue
        except (OSError, ValueError):
            return None
        if stat.S_ISDIR(facts.st_mode):
            return None  # most are: nothing more is asked of them
        if is_device(path):
            return path, (0, 0)
        return (path, (facts.st_mtime_ns, facts.st_size)) if is_searched_file(path) else None


def is_searched_file(path: str) -> bool:
    """Whether a path is no folder, but is searched like one: an archive, the image of a disk, a device."""
    if is_device(path):
        return True
    try:
        mode = os.stat(path).st_mode
    except (OSError, ValueError):
        return False
    if stat.S_ISREG(mode) and is_archive(path):
        return True
    if not stat.S_ISREG(mode):
        return False

    if not is_packed_home(os.path.basename(path)):
        return False
    from rustfern.sources.disks.disk import is_disk

    return is_disk(path)


def is_packed_home(name: str) -> bool:
    """Whether a file's name allows for an archive of files: it is not that of a document that is packed alike."""
    known = format_of_extension(extension_of(name))
    return known is None or known in _ARCHIVES


def is_archive(path: str) -> bool:
    """Whether a file is an archive that can be searched."""
    from rustfern.sources.archives import looks_like_archive

    folder = FolderSource(os.path.dirname(path))
    try:
        with folder.open(folder.entry(path)) as stream:
            return is_packed_home(os.path.basename(path)) and looks_like_archive(stream.read(_HEAD_BYTES))
    except (SourceError, OSError):
        return False


def on_disk(path: str) -> bool:
    """Whether there is anything at this path outside of archives."""
    return os.path.lexists(path)
