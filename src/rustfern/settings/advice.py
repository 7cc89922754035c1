"""What people are told of their programs' settings, in sentences: made of the same table as `protect`, so that neither contradicts the other."""

from __future__ import annotations

from collections.abc import Iterable

import msgspec

from rustfern.settings.protection import Group, Protection, grouped
from rustfern.settings.wording import amount

_RISKY_MINUTES = 15


class Advice(msgspec.Struct, frozen=True):
    """What is set in one program: a sentence, whether it puts work at risk, for which people, in which files; what would be better, by hand
    (empty where all is well), and the ids of the settings that it is about.
    """

    program: str
    says: str
    risk: bool
    people: tuple[str, ...]
    files: tuple[str, ...]
    better: str = ""
    settings: tuple[str, ...] = ()


def advice_from(rows: Iterable[Protection]) -> list[Advice]:
    """What is set and what would be better, the same sentence once for all people that it is true of; what puts work at risk comes first."""
    found: dict[tuple[str, str, bool, str], list[Group]] = {}
    for group in grouped(rows):
        if (
            all(row.holds is None and row.setting.role != "none" for row in group.rows)
            or group.rows[0].setting.role == "listed"
        ):
            continue  # nobody knows
        says, risk = _sentence(group)
        better = "; ".join(dict.fromkeys(row.steps for row in group.rows if row.is_better)) if group.counts else ""
        if group.rows[0].setting.role == "none":
            better = group.rows[0].steps
        found.setdefault((group.program, says, risk, better), []).append(group)
    out = [
        Advice(
            program, says, risk,
            tuple(dict.fromkeys(group.rows[0].home.person for group in groups)),
            tuple(dict.fromkeys(row.file for group in groups for row in group.rows if row.is_there and row.file)),
            better,
            tuple(dict.fromkeys(row.setting.id for group in groups for row in group.rows)),
        )
        for (program, says, risk, better), groups in found.items()
    ]  # fmt: skip
    return sorted(out, key=lambda advice: (not advice.risk, advice.program, advice.says))


def _sentence(group: Group) -> tuple[str, bool]:
    """What is set, in words, and whether it puts work at risk."""
    lost = group.loss_now
    own = "" if any(row.now is not None for row in group.rows) else " (its default)"
    match group.against:
        case "overwritten" if group.rows[0].program.common:
            return f"dated versions: {'no' if lost is None else 'yes'}{own}", False
        case "overwritten":
            return f"backup copies at saving: {'no' if lost is None else 'yes'}{own}", False
        case "closed":
            return (
                f"closed without saving: {'all is lost' if lost is None else 'the last autosave is kept'}{own}",
                lost is None,
            )
        case "deleted":
            return f"deleted documents {'are not kept' if lost is None else 'are kept in the trash'}{own}", lost is None
    if group.rows[0].setting.role == "none":
        return "it has no autosave: all that is not saved can be lost", True
    if lost is None:
        return f"autosaves: off{own}", True
    often = amount(lost, "crash")
    return f"an autosave every {often.removeprefix('1 ')}{own}: that much work can still be lost", lost > _RISKY_MINUTES


def worst_cases(rows: Iterable[Protection]) -> dict[str, str]:
    """For each person (by the path of the home) in one line: the most that a crash can cost now, in which programs."""
    out: dict[str, str] = {}
    by_home: dict[str, list[Group]] = {}
    for group in grouped(rows):
        if group.against == "crash" and any(row.holds is not None or row.setting.role == "none" for row in group.rows):
            by_home.setdefault(group.rows[0].home.path, []).append(group)
    for home, groups in by_home.items():
        unbounded = list(dict.fromkeys(group.program for group in groups if group.loss_now is None))
        if unbounded:
            out[home] = f"{amount(None, 'crash')} in {', '.join(unbounded)}"
        else:
            most = max(group.loss_now or 0 for group in groups)
            programs = list(dict.fromkeys(group.program for group in groups if group.loss_now == most))
            out[home] = f"{amount(most, 'crash')} of work in {', '.join(programs)}"
    return out
