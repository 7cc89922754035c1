"""The catalogue as a page for people: `docs/places.md` is made from it."""

from __future__ import annotations

from rustfern.places.loader import catalogue

HEAD = """# Where copies are looked for

Made from the catalogue (`src/rustfern/places/catalogue/*.toml`) by `rustfern places --markdown`; change the catalogue, not this page.
Folders are relative to the home (or, where it says *volume*, to the root of the disk); *beside* means any folder with documents.
"""


def markdown() -> str:
    """The whole catalogue as a page, one section a place."""
    lines = [HEAD]
    for place in catalogue().places.values():
        lines += [f"## {place.id}", "", f"{place.what[0].upper()}{place.what[1:]}.", ""]
        lines.append(f"- Program: {place.program}. Kind: {place.kind}. How sure we are: {place.sure}.")
        if place.where == "beside":
            lines.append("- Where: beside documents.")
        for layout, folders in sorted(place.folders.items()):
            where = " (volume)" if place.where == "volume" else ""
            lines.append(f"- Where, {layout}{where}: " + ", ".join(f"`{folder}`" for folder in folders))
        lines.append("- Names such as " + ", ".join(f"`{example}`" for example in place.examples) + ".")
        if place.leads:
            lines.append(f"- What leads to the original: {', '.join(place.leads)}.")
        if place.order != "unknown":
            lines.append(f"- Made {place.order} the saved file it belongs to.")
        if not place.complete:
            lines.append("- Often cut short: taken as damaged unless its own sums prove it whole.")
        lines.append(f"- How long it lives: {place.lifetime}.")
        if place.moved_by:
            lines.append(f"- Moved by: `{place.moved_by}`.")
        if place.setting:
            lines.append(f"- The setting that makes it: {place.setting}.")
        lines.append("")
    return "\n".join(lines)
