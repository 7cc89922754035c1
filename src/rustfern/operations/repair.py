"""What `rustfern repair` does: a whole file of the same format from each damaged one, checked, compared with what it came from, and what is lost."""

from __future__ import annotations

import contextlib
import hashlib
import io
import os
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from functools import partial
from itertools import islice
from typing import BinaryIO, cast

import msgspec

from rustfern.cases.case_file import StoredCopy
from rustfern.content import open as contents
from rustfern.core.errors import Malformed, SourceError, explain
from rustfern.core.model import Content, Entry, State
from rustfern.core.paths import stem_of
from rustfern.formats import registry as formats
from rustfern.formats.format_table import FORMATS, class_of, extension_of, extension_right, format_of_extension
from rustfern.formats.interface import Limits
from rustfern.formats.text_sink import Piece, words_of
from rustfern.operations.check import LOCKS, check_paths, hindrances
from rustfern.operations.repair_compare import Compared, compare
from rustfern.operations.repair_samples import beside, is_recording, sample_in
from rustfern.operations.restore import make_new, open_target, place
from rustfern.operations.restore_names import safe_name, target_name
from rustfern.operations.session import Session
from rustfern.operations.sum_beside import SumBeside
from rustfern.operations.targets import check_target
from rustfern.output.folder import Folder
from rustfern.output.temporary import clean
from rustfern.repair.interface import (
    MAX_HELD_BYTES,
    MAX_SECONDS,
    Budget,
    Job,
    Loss,
    LossKind,
    Other,
    Outcome,
    Repairer,
    Step,
)
from rustfern.repair.registry import is_known, repairers
from rustfern.repair.together import together
from rustfern.sources.registry import Sources

__all__ = ["NotRepaired", "RepairOptions", "Repaired", "is_known", "repair"]

_CHUNK = 1 << 20
_NAMED = 8
_WITHOUT_WORDS = frozenset({"video", "audio", "image"})
_LARGE, _BYTES_A_SECOND = 32 << 20, 4e6
_TOGETHER = 512
_ERRORS = (MemoryError, RecursionError, ValueError, LookupError, ArithmeticError, AttributeError, TypeError, EOFError)


class RepairOptions(msgspec.Struct, frozen=True):
    """Marks in place of what is missing; the plain text beside; a healthy sample; further damaged copies whose parts may be used; of recordings no
    picture that cannot be shown right.
    """

    marks: bool = True
    text: bool = False
    like: str | None = None
    others: tuple[StoredCopy | str, ...] = ()
    strict: bool = False


class Repaired(msgspec.Struct, frozen=True):
    """One file that was written: the copy's id, where from, where to, its format, the verdict on it, how, how much is in it, what is lost,
    the text beside, its SHA-256, and of one that is whole what stood in the way."""

    id: str | None
    source: str
    target: str
    format: str
    state: str
    steps: tuple[Step, ...]
    kept: dict[str, int]
    lost: tuple[Loss, ...]
    text: str | None
    sha256: str
    stood: tuple[str, ...] = ()


class NotRepaired(msgspec.Struct, frozen=True):
    """One that was not repaired, and why. `whole`: there is nothing to repair."""

    id: str | None
    source: str
    message: str
    whole: bool = False


class _Input(msgspec.Struct):
    """One document to be repaired: its id, its entry, how it is rebuilt first, the name that the repaired one gets (without its ending)."""

    id: str | None
    path: str
    entry: Entry
    name: str
    stem: str
    recipe: str = ""
    bases: tuple[Entry, ...] = ()
    in_folder: bool = False
    siblings: tuple[StoredCopy, ...] = ()


def repair(
    what: Sequence[StoredCopy | str],
    folder: str,
    searched: Sequence[str],
    options: RepairOptions,
    session: Session,
    bases: Sequence[StoredCopy] = (),
) -> Iterator[Repaired | NotRepaired]:
    """Repair copies and files, each on its own: one that fails is refused with the reason, the others go on. Of a folder, every damaged file
    in it. Raises `WrongUsage` for a target that cannot be used.
    """
    door = session.sources
    roots = [*searched, *(os.path.abspath(each) for each in what if isinstance(each, str) and door.is_folder(each))]
    real = check_target(folder, roots)
    sample = _sample(door, options.like)
    with open_target(real) as target:
        clean(real)
        for number, item in enumerate(_worth_it(_inputs(door, what, bases, session), session), 1):
            if isinstance(item, NotRepaired):
                yield item
                continue
            session.observer.count(number)
            done = _one(door, item, target, options, session, sample)
            if done is not None:
                yield done


def _worth_it(inputs: Iterator[_Input | NotRepaired], session: Session) -> Iterator[_Input | NotRepaired]:
    """Inputs without the whole files of folders: these are told apart on all cores, some hundreds at a time."""
    while batch := list(islice(inputs, _TOGETHER)):
        paths = [item.path for item in batch if isinstance(item, _Input) and item.in_folder]
        states = {each.path: each.content.state for each in check_paths(paths, counted=False, session=session)}
        for item in batch:
            if not (isinstance(item, _Input) and item.in_folder and states.get(item.path) is State.INTACT):
                yield item


def _sample(door: Sources, path: str | None) -> Other | None:
    """The healthy sample. Raises `SourceError` if it cannot be read."""
    if path is None:
        return None
    whole = os.path.abspath(path)
    source = door.around(whole)
    with source.open(source.entry(whole)) as stream:
        return sample_in(stream, os.path.basename(whole))


def _inputs(
    door: Sources, what: Sequence[StoredCopy | str], bases: Sequence[StoredCopy], session: Session
) -> Iterator[_Input | NotRepaired]:
    by_id = {copy.id: copy for copy in bases}
    for each in what:
        if isinstance(each, str):
            yield from _of_path(door, each)
            continue
        try:
            entry = contents.stored_entry(door, each).at_part(each.facts.part)
            name = target_name(each, session.clock)[0]
            needed = tuple(contents.stored_entry(door, by_id[i]) for i in each.facts.needs if i in by_id)
            yield _Input(
                each.id,
                each.path,
                entry,
                os.path.basename(each.path),
                stem_of(name),
                each.facts.rebuilt_by or "",
                needed,
                siblings=tuple(other for other in bases if _is_sibling(other, each)),
            )
        except SourceError as error:
            yield NotRepaired(each.id, each.path, str(error))


def _is_sibling(other: StoredCopy, copy: StoredCopy) -> bool:
    """Whether a copy is another damaged one of the same document."""
    return (
        other.number == copy.number
        and other.id != copy.id
        and other.facts.state == "damaged"
        and not other.facts.members
    )


def _of_path(door: Sources, path: str) -> Iterator[_Input | NotRepaired]:
    whole = os.path.abspath(path)
    try:
        source = door.around(whole)
        entry = source.entry(whole)
        if entry.link_target is not None:
            whole = door.real_path(whole)
            source = door.around(whole)
            entry = source.entry(whole)
        if entry.is_folder:
            shut: list[tuple[str, str]] = []
            for inner, _, names in door.open(whole).walk(whole, lambda place, message: shut.append((place, message))):
                for name in sorted(names):
                    there = os.path.join(inner, name)
                    if name.startswith(LOCKS):
                        continue
                    if extension_of(name) and format_of_extension(extension_of(name)) is not None:
                        with contextlib.suppress(SourceError):
                            found = door.open(whole).entry(there)
                            if found.is_file and found.link_target is None:
                                yield _Input(None, there, found, name, stem_of(name), in_folder=True)
            for place, message in shut:
                yield NotRepaired(None, place, message)
            return
        if not entry.is_file:
            yield NotRepaired(None, path, "this is not a regular file and was not opened")
            return
        yield _Input(None, path, entry, os.path.basename(whole), stem_of(os.path.basename(whole)))
    except SourceError as error:
        yield NotRepaired(None, path, str(error))


def _one(
    door: Sources, item: _Input, target: Folder, options: RepairOptions, session: Session, like: Other | None
) -> Repaired | NotRepaired | None:
    try:
        with contents.open_content(door, item.entry, item.recipe, item.bases) as stream:
            found = formats.check(stream, item.name, limits=door.limits, digest=False, counted=False)
            if item.in_folder and found.state is not State.DAMAGED:
                return None
            if found.state is not State.DAMAGED:
                return _of_whole(door, item, found, stream, target)
            return _mend(door, item, found, stream, target, options, like)
    except SourceError as error:
        return NotRepaired(item.id, item.path, str(error))
    except OSError as error:
        return NotRepaired(item.id, item.path, f"it cannot be read or written ({explain(error)})")
    except _ERRORS as error:
        return NotRepaired(
            item.id, item.path, f"it could not be put together ({type(error).__name__}: {str(error)[:100]})"
        )


def _of_whole(door: Sources, item: _Input, found: Content, stream: BinaryIO, target: Folder) -> Repaired | NotRepaired:
    """One that is not damaged: a copy under the right name, without what clings to the file, if anything keeps programs from opening it."""
    right = extension_right(item.name, found.format)
    stands = (
        hindrances(door, item.entry.path, item.name, found, right)
        if found.state is State.INTACT and not item.recipe
        else []
    )
    # What clings to the file is left behind by copying it; what is inside stays.
    clinging = len(stands) - (right is False) - (found.glance.needs is not None)
    if found.state is State.INTACT and (clinging > 0 or (right is False and found.format)):
        ending = found.format if right is False and found.format else extension_of(item.name)
        with target.scratch() as made:
            stream.seek(0)
            digest = _copy(stream, target, made)
            path = place(target, made, safe_name(f"{item.stem}.{ending}" if ending else item.stem))
        steps = (*((Step.RENAMED,) if right is False else ()), *((Step.UNMARKED,) if clinging > 0 else ()))
        return Repaired(
            item.id,
            item.path,
            path,
            found.format or ending,
            "intact",
            steps,
            _kept(found),
            (),
            None,
            digest,
            tuple(stands),
        )
    nothing = "it is whole, and nothing that is known keeps programs from opening it: there is nothing to repair"
    said = {
        State.INTACT: f"it is whole: {found.glance.needs}" if found.glance.needs else nothing,
        State.EMPTY: f"nothing is in it: {found.reason}",
        State.ENCRYPTED: "it is protected by a password: it can be repaired only when it was opened with it",
        State.UNREADABLE: f"nobody knows whether it is damaged: {found.reason}",
    }[found.state]
    return NotRepaired(item.id, item.path, said, whole=found.state is State.INTACT)


def _mend(
    door: Sources,
    item: _Input,
    found: Content,
    stream: BinaryIO,
    target: Folder,
    options: RepairOptions,
    like: Other | None,
) -> Repaired | NotRepaired:
    stream.seek(0)
    head = stream.read(4096)
    size = stream.seek(0, os.SEEK_END)
    if not size or formats.is_blank(stream):
        return NotRepaired(item.id, item.path, f"nothing can be had from it: {found.reason}")
    trouble = ""
    budget = Budget(MAX_SECONDS + (size / _BYTES_A_SECOND if is_recording(item.name, found.format) else 0.0))
    size = _filled(stream, size)
    others = [*_opened(door, options.others, item), *((like,) if like is not None else ())]
    if like is None and is_recording(item.name, found.format):
        others += beside(door, item.entry, item.name)
    joined = _joined(stream, size, others)
    source: BinaryIO = io.BytesIO(joined) if joined is not None else stream
    size = len(joined) if joined is not None else size
    for format_name, mend in _whole_or_repairers(joined, head, item.name, found):
        job = Job(
            source,
            size,
            item.name,
            format_name,
            options.marks,
            door.limits,
            budget,
            tuple(others),
            strict=options.strict,
            reopen=_opened_again(door, item, stream) if joined is None else None,
        )
        with target.scratch() as made:
            try:
                with make_new(target, made) as out, SumBeside(out, partial(target.open, made)) as beside_it:
                    outcome = mend(job, cast(BinaryIO, beside_it))
                    out.flush()
                    os.fsync(out.fileno())
            except Malformed as error:
                trouble = trouble or str(error)
                continue
            name = safe_name(f"{item.stem} (repaired).{_ending(item.name, outcome.format)}")
            with ThreadPoolExecutor(1) as aside, target.open(made) as again, target.open(made) as back:
                summed = aside.submit(lambda: beside_it.sum() or _sum(again))
                verdict = formats.check(back, name, limits=door.limits, digest=False)
                digest = summed.result()
            if verdict.state is not State.INTACT:
                trouble = trouble or f"what is left of it does not make a whole file again ({verdict.reason})"
                continue
            lost, kept = list(dict.fromkeys(outcome.lost)), _kept(verdict)
            with target.open(made) as back:
                changed = outcome.source
                said = (
                    _compared(back, name, verdict, source, size, others, door)
                    if changed is None
                    else _compared(back, name, verdict, io.BytesIO(changed), len(changed), others, door)
                )
            if "words" not in kept and verdict.format in ("pdf", "ai"):
                with target.open(made) as back:
                    kept |= _words_on_pages(back, name, door.limits)
            if "words" in kept:
                kept["words"] = max(kept["words"] - said.of_marks, 0)
            if said.foreign:
                lost.append(Loss(LossKind.FOREIGN, "", len(said.foreign), text=", ".join(said.foreign[:_NAMED])))
            text = _text_beside(target, made, name, door) if options.text else None
            path = place(target, made, name)
            steps = (Step.TOGETHER, *outcome.steps) if joined is not None else outcome.steps
            state, form = str(verdict.state), verdict.format or outcome.format
            return Repaired(item.id, item.path, path, form, state, steps, kept, tuple(lost), text, digest)
    if not trouble:
        trouble = "this format cannot be repaired: `rustfern restore --as-text` writes what can be read of it"
    return NotRepaired(item.id, item.path, trouble)


def _opened_again(door: Sources, item: _Input, stream: BinaryIO) -> Callable[[], BinaryIO] | None:
    """How another process opens a plain file; None for what is unpacked or rebuilt, which would be done twice."""
    try:
        stream.fileno()
    except OSError:
        return None
    return partial(contents.open_content, door, item.entry) if not item.recipe else None


def _filled(stream: BinaryIO, size: int) -> int:
    """Up to where a large file holds anything: behind that are zeros, as a copy or a save that did not happen leaves them."""
    end, zeros = size, bytes(_CHUNK)
    while end > _LARGE and end > 0:
        start = max(end - _CHUNK, 0)
        stream.seek(start)
        if stream.read(end - start) != zeros[: end - start]:
            break
        end = start
    return end


def _opened(door: Sources, others: Sequence[StoredCopy | str], item: _Input) -> Iterator[Other]:
    """The other copies, as far as they can be read; those that were asked for may be of another version."""
    for each in others:
        root, path = (None, os.path.abspath(each)) if isinstance(each, str) else (each.root, each.path)
        name = os.path.basename(path) if isinstance(each, str) else each.id
        if path == item.entry.path:
            continue
        source = door.around(path) if root is None else door.open(root)
        with contextlib.suppress(SourceError, OSError), source.open(source.entry(path)) as stream:
            yield Other(stream.read(MAX_HELD_BYTES), name, True)
    for copy in item.siblings:
        with contextlib.suppress(SourceError, OSError):
            found = door.open(copy.root)
            with found.open(contents.stored_entry(door, copy)) as stream:
                yield Other(stream.read(MAX_HELD_BYTES), copy.id, False)


def _joined(stream: BinaryIO, size: int, others: Sequence[Other]) -> bytes | None:
    """The bytes put together with those of other copies that prove to be of the same file."""
    if not others or size > MAX_HELD_BYTES:
        return None
    stream.seek(0)
    return together(stream.read(), [other.data for other in others if not other.is_sample])


def _whole_or_repairers(joined: bytes | None, head: bytes, name: str, found: Content) -> Iterator[tuple[str, Repairer]]:
    """What is tried: if what was put together is whole, it is taken as it is."""
    if joined is not None:
        content = formats.check(io.BytesIO(joined), name, digest=False, counted=False)
        if content.state is State.INTACT:
            yield content.format or "", _as_it_is
        head = joined[:4096]
    yield from repairers(head, name, found.format)


def _as_it_is(job: Job, out: BinaryIO) -> Outcome:
    out.write(job.data())
    return Outcome(job.format, ())


def _compared(
    made: BinaryIO, name: str, verdict: Content, source: BinaryIO, size: int, others: Sequence[Other], door: Sources
) -> Compared:
    """What comparing with the damaged file gives; parts from other copies are not foreign."""
    kind = class_of(verdict.format)
    if kind in _WITHOUT_WORDS:
        return Compared(0, None)
    said = compare(
        made,
        name,
        source,
        size,
        door.limits,
        is_sheet=kind in ("sheet", "database"),
        is_page=verdict.format in ("pdf", "ai"),
    )
    return said if not said.foreign or not others else Compared(said.of_marks, None)


def _ending(name: str, format_name: str) -> str:
    """The ending of a repaired file: its own, if what was written may carry it."""
    mine = extension_of(name)
    info = FORMATS.get(format_name)
    return mine if mine and info is not None and mine in info.extensions else format_name


def _kept(found: Content) -> dict[str, int]:
    kept = {name: count for name, count in found.amounts.items() if count}
    return kept | ({"words": found.words} if found.words is not None else {})


def _words_on_pages(stream: BinaryIO, name: str, limits: Limits) -> dict[str, int]:
    """How many words can be read on pages, whose check does not count them; nothing for large ones."""
    if stream.seek(0, os.SEEK_END) > _LARGE:
        return {}
    words = 0

    def count(piece: Piece) -> None:
        nonlocal words
        words += len(words_of(piece.text))

    stream.seek(0)
    formats.all_text(stream, name, count, limits)
    return {"words": words} if words else {}


def _sum(stream: BinaryIO) -> str:
    digest = hashlib.sha256()
    while chunk := stream.read(_CHUNK):
        digest.update(chunk)
    return digest.hexdigest()


def _copy(stream: BinaryIO, target: Folder, made: str) -> str:
    digest = hashlib.sha256()
    with make_new(target, made) as out:
        while chunk := stream.read(_CHUNK):
            digest.update(chunk)
            out.write(chunk)
        out.flush()
        os.fsync(out.fileno())
    return digest.hexdigest()


def _text_beside(target: Folder, made: str, name: str, door: Sources) -> str | None:
    """The plain text of what was written, beside it; None where it has none."""
    from rustfern.formats.registry import read_text
    from rustfern.operations.as_text import lines

    with target.open(made) as stream:
        _, pieces = read_text(stream, name, 1 << 30, door.limits)
    told = "\n".join(lines(pieces)).strip("\n")
    if not told.strip():
        return None
    with target.scratch() as text:
        with make_new(target, text) as out:
            out.write((told + "\n").encode("utf-8", "replace"))
            out.flush()
            os.fsync(out.fileno())
        return place(target, text, safe_name(f"{stem_of(name)}.txt"))
