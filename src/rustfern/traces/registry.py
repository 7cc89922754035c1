"""The one list of traces that are known: the name that the catalogue gives to a reader → what sort of trace it is, and what reads it.

A trace of a new application is one module here, one line in the table, and a catalogue entry that names it.
"""

from __future__ import annotations

import importlib
from collections.abc import Callable
from enum import StrEnum
from typing import Any, NamedTuple


class Sort(StrEnum):
    """What a trace is, and so which step takes it."""

    LOCK = "lock"
    LINK_LOCK = "link-lock"
    RECOVERY_LIST = "recovery-list"
    KEPT_LIST = "kept-list"
    REVISIONS = "revisions"
    TRASH_INFO = "trash-info"
    TRASH_ITEM = "trash-item"
    TRASH_LIST = "trash-list"
    TRASH_STORE = "trash-store"
    MAIL_STORE = "mail-store"
    NOTED = "noted"
    PLACEHOLDER = "placeholder"
    SWAP = "swap"
    JOURNAL = "journal"
    DEAD_FILE = "dead-file"
    UNSAVED_TEXT = "unsaved-text"
    WEB_PAGES = "web-pages"
    LINES = "lines"


class Names(StrEnum):
    """How a lock's name tells its document: whole, without its extension (or only its beginning), without its first letters."""

    WHOLE = "whole"
    STEM = "stem"
    TAIL = "tail"


class Trace(NamedTuple):
    """One kind of trace. `reader` is `module.function` below `rustfern.traces` (empty: nothing is read); it takes bytes (a recovery list: a
    stream; an index of revisions: a path) and gives frozen facts, or raises `Malformed`. `place` is the place of copies that a list names.
    For locks: how the name tells the document, of which formats it can be (the first is that of one that is gone), and whether other things
    have such names too (`common`).
    """

    sort: Sort
    reader: str = ""
    place: str = ""
    names: Names = Names.WHOLE
    extensions: tuple[str, ...] = ()
    common: bool = False

    def parse(self, data: Any) -> Any:
        """Read a trace; its module is imported only now. Raises `Malformed`."""
        module, _, function = self.reader.partition(".")
        read: Callable[[Any], Any] = getattr(importlib.import_module(f"rustfern.traces.{module}"), function)
        return read(data)


TRACES: dict[str, Trace] = {
    "odf-lock": Trace(Sort.LOCK, "odf_lock.facts"),
    "owner-lock": Trace(Sort.LOCK, "owner_lock.facts", names=Names.TAIL),
    "service-lock": Trace(Sort.LOCK, "program_locks.parse_service"),
    "dwg-lock": Trace(Sort.LOCK, "program_locks.parse_drawing", names=Names.STEM, extensions=("dwg", "dxf")),
    "database-lock": Trace(
        Sort.LOCK, "program_locks.parse_database", names=Names.STEM, extensions=("accdb", "mdb"), common=True
    ),
    "named-lock": Trace(Sort.LOCK),
    "empty-lock": Trace(Sort.LOCK, names=Names.STEM, extensions=("indd", "indt")),
    "link-lock": Trace(Sort.LINK_LOCK, "editor_marks.parse_link"),
    "recovery-list": Trace(Sort.RECOVERY_LIST, "recovery_list.parse"),
    "emacs-list": Trace(Sort.KEPT_LIST, "editor_marks.parse_list", "emacs-autosave"),
    "mousepad-session": Trace(Sort.KEPT_LIST, "mousepad_session.parse", "mousepad-autosave"),
    "kate-session": Trace(Sort.KEPT_LIST, "kept_lists.kate_session", "kate-stash"),
    "focuswriter-mapping": Trace(Sort.KEPT_LIST, "kept_lists.focuswriter_mapping", "focuswriter-cache"),
    "notepadpp-session": Trace(Sort.KEPT_LIST, "kept_lists.notepadpp_session", "notepadpp-session-copy"),
    "code-history": Trace(Sort.KEPT_LIST, "kept_lists.code_history", "code-history"),
    "revision-index": Trace(Sort.REVISIONS, "revision_index.read", "macos-revision"),
    "trash-info": Trace(Sort.TRASH_INFO, "trash_info.parse"),
    "trash-windows": Trace(Sort.TRASH_ITEM, "trash_windows.parse"),
    "trash-windows-list": Trace(Sort.TRASH_LIST, "trash_windows.parse_list"),
    "trash-ds-store": Trace(Sort.TRASH_STORE, "ds_store.original_locations"),
    "mail-store": Trace(Sort.MAIL_STORE),
    "noted": Trace(Sort.NOTED),
    "placeholder": Trace(Sort.PLACEHOLDER),
    "vim-swap": Trace(Sort.SWAP, "vim_swap.parse"),
    "kate-journal": Trace(Sort.JOURNAL, "kate_journal.parse"),
    "joe-dead": Trace(Sort.DEAD_FILE, "joe_dead.parse"),
    "code-unsaved": Trace(Sort.UNSAVED_TEXT, "code_unsaved.unsaved"),
    "editor-tab": Trace(Sort.UNSAVED_TEXT, "editor_tab.unsaved"),
    "record-file": Trace(Sort.LINES, "record_file.parse"),
    "browser-session": Trace(Sort.WEB_PAGES, "browser_session.parse"),
}
