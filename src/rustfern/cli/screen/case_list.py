"""The documents of a case again, as they were found: the list that a search ended with."""

from __future__ import annotations

from rich.console import Console
from rich.text import Text

from rustfern.cases.case_file import CaseFile
from rustfern.cli.screen.console import PALE, next_steps
from rustfern.cli.screen.document_view import document_block, short_block
from rustfern.core.answers import DocumentAnswer
from rustfern.core.remarks import counted

_FULL = 4


def documents_of(file: CaseFile) -> list[DocumentAnswer]:
    """The documents of a case with their copies, by number."""
    out = []
    for facts in file.documents():
        copies = [copy.facts for copy in file.copies(facts.id)]
        told = {name: getattr(facts, name) for name in facts.__struct_fields__}
        out.append(DocumentAnswer(**told, copies=copies))
    return out


def show(console: Console, documents: list[DocumentAnswer], root: str | None) -> None:
    """What was lost, the likeliest first; what lost nothing is counted."""
    lost = [document for document in documents if document.is_lost]
    shown = [document for document in lost if document.within is None]
    for place, document in enumerate(shown):
        if place <= _FULL or len(shown) <= _FULL:
            console.print()
        if len(shown) <= _FULL:
            document_block(console, document, root)
        else:
            short_block(console, document)
    if not shown:
        console.print(Text("No lost document was found.", style="bold"))
    calm = len(documents) - len(lost)
    if calm:
        console.print()
        console.print(Text(f"{counted(calm, 'document')} with leftovers lost nothing", style=PALE))
    back = [document for document in shown if document.best and not document.shows_no_loss]
    if back:
        first = back[0]
        more = (
            [("restore --all-best --to DIR", "write the best copies of all of them, verified")] if len(back) > 1 else []
        )
        next_steps(
            console,
            [
                (f"look {first.id}", "its life, and why its best copy is the best"),
                (f"restore {first.id} --to DIR", "write that copy, verified, into a folder elsewhere"),
                *more,
            ],
        )
