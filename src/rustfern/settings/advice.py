"""What the settings that were read mean for the person's work: is it autosaved, how often, are backup copies made."""

from __future__ import annotations

import msgspec

from rustfern.catalogue.loader import Catalogue
from rustfern.settings.read import Settings, SettingValue


class Advice(msgspec.Struct, frozen=True):
    """What a setting says of one program: a sentence, whether it puts work at risk, for which people, in which files."""

    program: str
    says: str
    risk: bool
    people: tuple[str, ...]
    files: tuple[str, ...]


def advice_from(told: Settings, catalogue: Catalogue) -> list[Advice]:
    """What was set: autosave on or off, how often, backup copies."""
    settings = {setting.id: setting for setting in catalogue.settings}
    found: dict[tuple[str, str, bool], list[SettingValue]] = {}
    for each in told.told:
        setting = settings.get(each.setting)
        if setting is None:
            continue  # told by the file system, not by a settings file
        off = each.text.casefold() in ("0", "false", "off", "no", "none", "disabled")
        if each.means == "autosave":
            says, risk = f"autosaves: {'off' if off else 'on'}", off
        elif each.means == "minutes" and each.text.isdigit():
            often = "minute" if int(each.text) == 1 else f"{int(each.text)} minutes"
            says, risk = f"an autosave every {often}: that much work can still be lost", int(each.text) > 15
        elif each.means == "backups":
            says, risk = f"backup copies at saving: {'no' if off else 'yes'}", False
        else:
            continue
        found.setdefault((setting.program, says, risk), []).append(each)
    rows = [
        Advice(
            program,
            says,
            risk,
            tuple(dict.fromkeys(t.home.person for t in all_ if t.home)),
            tuple(t.file for t in all_),
        )
        for (program, says, risk), all_ in found.items()
    ]
    return sorted(rows, key=lambda advice: (not advice.risk, advice.program, advice.says))
