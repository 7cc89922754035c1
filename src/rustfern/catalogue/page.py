"""The catalogue as a page for people: `docs/places.md` is made from it."""

from __future__ import annotations

from rustfern.catalogue.loader import catalogue

HEAD = """# Where copies are looked for

Made from the catalogue (`src/rustfern/catalogue/*.toml`) by `rustfern places --markdown`; change the catalogue, not this page.
Folders are relative to the home (or, where it says *volume*, to the root of the disk); *beside* means any folder with documents,
`$temp` the temporary folder, wherever it is. Where a setting can move a place, the setting is read and both folders are searched: see
the end of this page.
"""


_MEANS = {
    "folder": "copies go to the folder that it names",
    "recent": "documents that were opened lately, and where they are or were",
    "recovery": "which autosave belongs to which document",
    "documents": "where a folder of the person's own is",
    "temporary": "where the temporary folder is",
    "autosave": "whether autosaves are made",
    "minutes": "the time between autosaves",
    "backups": "whether backup copies are made",
    "zone": "the time zone",
    "host": "the machine's name",
    "owner": "the name that locks carry",
}


def markdown() -> str:
    """The whole catalogue as a page, one section a place."""
    lines = [HEAD]
    for place in catalogue().places.values():
        lines += [f"## {place.id}", "", f"{place.what[0].upper()}{place.what[1:]}.", ""]
        lines.append(f"- Program: {place.program}. Kind: {place.kind}. How sure we are: {place.confidence}.")
        if place.where == "beside":
            lines.append("- Where: beside documents.")
        if place.where == "tree":
            lines.append(f"- Where: whole trees that repeat folders, `{place.mirror}`.")
        if place.where == "index":
            lines.append("- Where: beside documents, told by the original in the same folder.")
        if place.where == "neighbour":
            lines.append("- Where: beside documents, and in folders for copies beside them, by a general rule.")
        if place.where == "program":
            lines.append("- Where: in the folders of programs in a home, by a general rule.")
        if place.where == "live":
            lines.append("- Where: on a running machine, through the process that holds it.")
        if place.where == "thorough":
            lines.append("- Where: anywhere, by its first bytes.")
        if place.companions:
            lines.append(
                "- Taken together with the files of the same name and "
                + ", ".join(f"`{end}`" for end in place.companions)
                + "."
            )
        for layout, folders in sorted(place.folders.items()):
            where = " (volume)" if place.where == "volume" else ""
            lines.append(f"- Where, {layout}{where}: " + ", ".join(f"`{folder}`" for folder in folders))
        lines.append("- Names such as " + ", ".join(f"`{example}`" for example in place.examples) + ".")
        if place.clues:
            lines.append(f"- What leads to the original: {', '.join(place.clues)}.")
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
    lines += ["# Settings that are read", ""]
    for setting in catalogue().settings:
        files = sorted({file for group in setting.files.values() for file in group})
        lines += [f"## {setting.id}", "", f"{setting.program}: {setting.what}.", ""]
        lines.append("- Files: " + ", ".join(f"`{file}`" for file in files) + ".")
        parts = [f"`{part}`" for part in (setting.key, setting.value) if part]
        if parts:
            lines.append("- Where in it: " + ", ".join(parts) + ".")
        lines.append(
            f"- Means: {_MEANS[setting.means]}." + (f" Places: {', '.join(setting.places)}." if setting.places else "")
        )
        lines.append("")
    lines += [
        "# Settings that protect work",
        "",
        "What `rustfern protect` judges, and sets where it can. [How](protect.md).",
        "",
    ]
    lines += ["| program | what | against | default | set as | by hand |", "| --- | --- | --- | --- | --- | --- |"]
    for program in catalogue().protected:
        for each in program.settings:
            default = (
                ", ".join(f"{one.value}{f' (from {one.since})' if one.since else ''}" for one in each.defaults)
                or "not known"
            )
            low, high = each.bounds
            how = f"{low} to {high} {each.unit}" if each.role == "interval" else "on" if each.role != "none" else "-"
            how += ", by hand only" if each.by_hand else ""
            steps = each.steps.replace("{wanted}", "…").replace("|", "\\|")
            lines.append(f"| {program.program} | {each.what} | {each.against} | {default} | {how} | {steps} |")
    lines.append("")
    return "\n".join(lines)
