"""One page, and one table, over the answers about many roots."""

from __future__ import annotations

import base64
import csv
import io
import os
from collections.abc import Sequence
from datetime import UTC, datetime
from importlib.util import find_spec
from pathlib import PurePath
from typing import TYPE_CHECKING

from rustfern.core.command_answers import MachineAnswer, OverAnswer
from rustfern.core.paths import show_name
from rustfern.core.times import from_stamp, stamp
from rustfern.operations.session import Session
from rustfern.reports.report import cell, environment

if TYPE_CHECKING:
    from matplotlib.axes import Axes

_IN_SHORT = {
    "crashed": "not saved when a program ended", "never-saved": "never saved", "overwritten": "saved over", "deleted": "deleted", "wont-open": "do not open",
    "misplaced": "not where they were", "diverged": "in two versions",
}  # fmt: skip
_MOST_LINES, _LONGEST = 30, 28
_INK, _PALE, _GOOD, _WARN = "#20282e", "#7a858c", "#1f7a3d", "#a8321f"


def page(over: OverAnswer, session: Session) -> str:
    """The page: one file, without network."""
    made = environment(session.clock)
    made.filters["link"] = lambda path: PurePath(path).as_uri()
    text: str = made.get_template("over.html.j2").render(
        over=over,
        happened=_IN_SHORT,
        draws=find_spec("matplotlib") is not None,
        figure=_figure(over, session),
        now=made.filters["time"](stamp(datetime.now(UTC))),
    )
    return text


def table(over: OverAnswer) -> str:
    """One line for each machine, parted by commas (RFC 4180)."""
    out = io.StringIO()
    writer = csv.writer(out)
    writer.writerow(("machine", "root", "people", "lost", "found", "vanishing", "without", "damaged", "first lost (UTC)", "last lost (UTC)", "urgency", "status", "reason", "case"))  # fmt: skip
    for each in over.machines:
        row = (
            each.label, each.root, ", ".join(each.people), sum(each.lost.values()), each.found, each.vanishing, each.without, each.damaged,
            each.first_lost or "", each.last_lost or "", each.urgency, "" if each.status is None else each.status, each.reason, each.case or "",
        )  # fmt: skip
        writer.writerow([cell(str(value)) for value in row])
    return out.getvalue()


def _figure(over: OverAnswer, session: Session) -> str:
    """Losses over time, a line for each of the machines with most of them (base64 of a PNG); empty where no time is known."""
    shown = [each for each in over.machines if each.last_lost is not None][:_MOST_LINES]
    if not shown or find_spec("matplotlib") is None:
        return ""
    with session.sources.scratch.private_folder() as settings:
        os.environ["MPLCONFIGDIR"] = str(settings)
        import matplotlib

        matplotlib.use("Agg")
        from matplotlib import pyplot

        figure, axes = pyplot.subplots(figsize=(11, 1.4 + 0.3 * len(shown)), dpi=110, layout="constrained")
        _lines(axes, shown, session)
        made = io.BytesIO()
        figure.savefig(made, format="png")
        pyplot.close(figure)
    return base64.b64encode(made.getvalue()).decode()


def _lines(axes: Axes, shown: Sequence[MachineAnswer], session: Session) -> None:
    from matplotlib import dates

    for row, each in enumerate(shown):
        times = (session.clock.local(from_stamp(when or "")) for when in (each.first_lost, each.last_lost))
        first, last = (float(dates.date2num(when)) for when in times)  # type: ignore[no-untyped-call]
        lost = sum(each.lost.values())
        colour = _WARN if each.without or each.vanishing else _GOOD
        axes.hlines(row, first, last, color=_PALE, linewidth=2, zorder=1)
        axes.plot([first, last], [row, row], "o", color=colour, markersize=5 + min(lost, 60) ** 0.5, zorder=2)
        axes.annotate(
            str(lost), (last, row), xytext=(10, 0), textcoords="offset points", va="center", fontsize=9, color=_INK
        )
    axes.set_ylim(len(shown) - 0.4, -0.6)
    axes.set_yticks(range(len(shown)), [show_name(each.label)[:_LONGEST] for each in shown], fontsize=9)
    axes.margins(x=0.06)
    axes.grid(axis="x", color="#e3e7e9")
    zone = session.clock.local(datetime.now(UTC)).tzinfo
    axes.xaxis_date(tz=zone)
    form = dates.ConciseDateFormatter(axes.xaxis.get_major_locator(), tz=zone)  # type: ignore[no-untyped-call]
    axes.xaxis.set_major_formatter(form)
    axes.tick_params(colors=_INK)
    for side in ("top", "right", "left"):
        axes.spines[side].set_visible(False)
    axes.set_title(
        "First and last loss, and how many; red: copies that vanish, or none", loc="left", fontsize=10, color=_INK
    )
