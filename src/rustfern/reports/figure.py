"""The line of a document's life as a picture or drawing (Matplotlib, imported only here)."""

from __future__ import annotations

import io
import os
from collections.abc import Sequence
from typing import TYPE_CHECKING

from rustfern.core.errors import WrongUsage
from rustfern.core.paths import show_name
from rustfern.core.times import Clock
from rustfern.operations.life import Event
from rustfern.operations.session import Session
from rustfern.operations.targets import write_new

if TYPE_CHECKING:
    from matplotlib.axes import Axes

_INK, _PALE, _CHOSEN, _BROKEN = "#20282e", "#7a858c", "#1f7a3d", "#a8321f"
_SIGNS = {"saved": "s", "autosave": "o", "trash": "X", "opened": "|", "lost": "v"}


def draw(session: Session, title: str, found: Sequence[Event], path: str, roots: Sequence[str] = ()) -> None:
    """Write the figure as `.png` or `.svg`, outside of the roots that were searched. Raises `WrongUsage` for another ending, or where it cannot be written."""
    if not path.lower().endswith((".png", ".svg")):
        raise WrongUsage("a figure is written as .png or .svg", path, "Name it so: --figure life.png")
    with session.sources.scratch.private_folder() as settings:
        # The library keeps settings and a list of fonts in folders of its own: here they vanish with the figure.
        os.environ["MPLCONFIGDIR"] = str(settings)
        made = _drawn(title, found, session.clock, path[-3:].lower())
    write_new(path, made, "figure", roots)


def _drawn(title: str, found: Sequence[Event], clock: Clock, form: str) -> bytes:
    try:
        import matplotlib
    except ImportError as error:
        raise WrongUsage(
            "what draws figures is not installed",
            None,
            "Install it on your own machine: pip install 'rustfern[figures]'; on a stick, put its folder of figures beside the program",
        ) from error
    matplotlib.use("Agg")
    from matplotlib import pyplot

    figure, axes = pyplot.subplots(figsize=(10, 1.6 + 0.42 * len(found)), dpi=120, layout="constrained")
    _rows(axes, found, clock)
    axes.set_title(show_name(title), loc="left", fontsize=13, fontweight="bold", color=_INK)
    made = io.BytesIO()
    figure.savefig(made, format=form)
    pyplot.close(figure)
    return made.getvalue()


def _rows(axes: Axes, found: Sequence[Event], clock: Clock) -> None:
    from matplotlib import dates

    times = [clock.local(event.when) for event in found]
    places = [float(dates.date2num(when)) for when in times]  # type: ignore[no-untyped-call]
    for row, (event, when) in enumerate(zip(found, places, strict=True)):
        colour = _CHOSEN if event.chosen else _INK if event.whole else _BROKEN
        axes.hlines(row, places[0], when, color="#e3e7e9", linewidth=1, zorder=1)
        axes.plot(when, row, _SIGNS.get(event.kind, "D"), color=colour, markersize=11 if event.chosen else 8, zorder=2)
        note = f"{event.name}  {event.kind} {times[row]:%H:%M}, {event.says}" + ("  (best)" if event.chosen else "")
        late = when > places[0] + (places[-1] - places[0]) * 0.6
        axes.annotate(
            show_name(note), (when, row), xytext=(-12 if late else 12, 0), textcoords="offset points",
            ha="right" if late else "left", va="center", fontsize=9, color=colour,
            fontweight="bold" if event.chosen else "normal", bbox={"facecolor": "white", "edgecolor": "none", "pad": 1.0},
        )  # fmt: skip
    axes.set_ylim(len(found) - 0.4, -0.6)
    axes.set_yticks([])
    axes.xaxis_date(tz=times[0].tzinfo)
    locator = dates.AutoDateLocator(minticks=3, maxticks=7, tz=times[0].tzinfo)  # type: ignore[no-untyped-call]
    axes.xaxis.set_major_locator(locator)
    formatter = dates.ConciseDateFormatter(locator, tz=times[0].tzinfo)  # type: ignore[no-untyped-call]
    axes.xaxis.set_major_formatter(formatter)
    axes.tick_params(axis="x", labelsize=9, colors=_PALE)
    axes.set_xlabel(f"time on the person's wall clock ({times[0]:%Z})", fontsize=9, color=_PALE)
    for side in ("top", "left", "right"):
        axes.spines[side].set_visible(False)
    axes.margins(x=0.05)
