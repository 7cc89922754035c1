"""What can be completed where a document or a copy is to be named."""

from __future__ import annotations

from typing import TYPE_CHECKING

if TYPE_CHECKING:
    import click
    from click.shell_completion import CompletionItem


def complete_what(ctx: click.Context, _param: click.Parameter, incomplete: str) -> list[CompletionItem]:
    """Numbers of documents, ids of copies and names of documents of the case in use; nothing where there is none."""
    from click.shell_completion import CompletionItem

    from rustfern.cases.case_file import CaseFile
    from rustfern.cases.location import case_in_use
    from rustfern.core.errors import RustFernError
    from rustfern.core.paths import show_name

    try:
        file = CaseFile.open(ctx.params.get("case") or case_in_use())
    except RustFernError:
        return []
    out: list[CompletionItem] = []
    try:
        for document in file.documents():
            name, number = show_name(document.name), str(document.id)
            by_name = bool(incomplete) and name.casefold().startswith(incomplete.casefold())
            if by_name:
                out.append(CompletionItem(name, help=document.situation))
            if number.startswith(incomplete) and (document.is_lost or incomplete):
                out.append(CompletionItem(number, help=name))
            if incomplete.startswith(number) and incomplete.rstrip("abcdefghijklmnopqrstuvwxyz") == number:
                copies = [copy for copy in file.copies(document.id) if copy.id.startswith(incomplete)]
                out += [
                    CompletionItem(copy.id, help=f"{copy.facts.kind} {copy.facts.state} - {name}") for copy in copies
                ]
    finally:
        file.close()
    return out
