"""How content is rebuilt where a file is no document by itself: one function a recipe."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import BinaryIO

from rustfern.core.errors import Malformed
from rustfern.core.model import Entry, Rebuilt
from rustfern.traces import (
    browser_session,
    code_unsaved,
    editor_tab,
    joe_dead,
    kate_journal,
    mail_store,
    record_file,
    vim_swap,
    zip_member,
)

_MAX_TEXT = 256 << 20


def vim_swap_text(stream: BinaryIO, entry: Entry, originals: Sequence[bytes]) -> Rebuilt:
    """A swap file on the version that was opened, if lines of it are needed."""
    return vim_swap.rebuild(stream, entry.size, originals[0] if originals else None)


def kate_journal_text(stream: BinaryIO, entry: Entry, originals: Sequence[bytes]) -> Rebuilt:
    """A journal on the version that its sum fits."""
    journal = kate_journal.parse(stream.read(_MAX_TEXT))
    for original in originals:
        if kate_journal.blob_id(original) == journal.base:
            return kate_journal.replay(journal, original)
    raise Malformed("it is a journal of changes, and no copy of the version that it fits was found")


def joe_part(stream: BinaryIO, entry: Entry, originals: Sequence[bytes]) -> Rebuilt:
    """One text of a dead file, by its number."""
    for text in joe_dead.parse(stream.read(_MAX_TEXT)):
        if str(text.number) == entry.part:
            return Rebuilt(text.data, text.data.count(b"\n"), 0, 0)
    raise Malformed(f"text {entry.part} is not in the dead file any more")


def code_unsaved_text(stream: BinaryIO, entry: Entry, originals: Sequence[bytes]) -> Rebuilt:
    """An unsaved text behind its head line."""
    data = code_unsaved.parse(stream.read(_MAX_TEXT)).data
    return Rebuilt(data, data.count(b"\n"), 0, 0)


def editor_tab_text(stream: BinaryIO, entry: Entry, originals: Sequence[bytes]) -> Rebuilt:
    """A tab's text, as UTF-8 with the line ends of its system."""
    tab = editor_tab.parse(stream.read(_MAX_TEXT))
    text = tab.text.replace("\r\n", "\n").replace("\r", "\n").replace("\n", "\r\n")
    note = "its sums fit" if tab.verified else "it carries no sum that is known, so read it through"
    return Rebuilt(text.encode(), text.count("\n") + 1, 0, 0, note)


def record_file_text(stream: BinaryIO, entry: Entry, originals: Sequence[bytes]) -> Rebuilt:
    """The lines of a file of records, each ended by a line feed."""
    found = record_file.parse(stream.read(_MAX_TEXT))
    return Rebuilt(b"".join(line + b"\n" for line in found.lines), len(found.lines), found.missing, 0)


def browser_form_text(stream: BinaryIO, entry: Entry, originals: Sequence[bytes]) -> Rebuilt:
    """The text typed into one page, by its number."""
    for form in browser_session.parse(stream.read(_MAX_TEXT)):
        if str(form.number) == entry.part:
            return Rebuilt(form.text.encode("utf-8", "replace"), form.text.count("\n") + 1, 0, 0, form.address)
    raise Malformed(f"page {entry.part} is not in the session any more")


def mail_part(stream: BinaryIO, entry: Entry, originals: Sequence[bytes]) -> Rebuilt:
    """A file in a mail, or (number 0) the mail's own text: `start of the mail in bytes/number of the part`."""
    start, _, number = (entry.part or "").partition("/")
    stream.seek(int(start))
    mail = next(mail_store.mails(stream, int(start)), None)
    if mail is None:
        raise Malformed("the mail is not in its store any more")
    message = mail_store.read(stream, mail)
    if number == "0":
        text = mail_store.body(message)
        return Rebuilt(text.encode("utf-8", "replace"), text.count("\n") + 1, 0, 0)
    for file in mail_store.attachments(message):
        if str(file.number) == number:
            return Rebuilt(file.data, 0, 0, 0)
    raise Malformed("the file is not in the mail any more")


def packed_part_text(stream: BinaryIO, entry: Entry, originals: Sequence[bytes]) -> Rebuilt:
    """The text of one member of a package whose rest is gone."""
    text = zip_member.text_of(stream.read(_MAX_TEXT))
    return Rebuilt(text.encode(), text.count("\n") + 1, 0, 0)


RECIPES: dict[str, Callable[[BinaryIO, Entry, Sequence[bytes]], Rebuilt]] = {
    "vim-swap": vim_swap_text,
    "kate-journal": kate_journal_text,
    "joe-part": joe_part,
    "code-unsaved": code_unsaved_text,
    "editor-tab": editor_tab_text,
    "record-file": record_file_text,
    "browser-form": browser_form_text,
    "mail-part": mail_part,
    "packed-part": packed_part_text,
}
SAID = {
    "vim-swap": "rebuilt whole from the swap file",
    "kate-journal": "rebuilt whole from the journal, whose sum fits its version",
    "joe-part": "taken whole out of the dead file",
    "code-unsaved": "taken whole out of the editor's store of unsaved texts",
    "editor-tab": "taken whole out of the editor's tab",
    "record-file": "rebuilt whole from the records of its lines",
    "browser-form": "typed into a page",
}
