"""What is said of pictures and sounds that are lost, or may be wrong, and when."""

from __future__ import annotations

from collections.abc import Sequence

from rustfern.repair.interface import Loss, LossKind


def say_lost(lost: list[Loss], kind: bytes, count: int, times: Sequence[float]) -> None:
    what = LossKind.FRAMES if kind == b"vide" else LossKind.SOUND if kind == b"soun" else LossKind.PARTS
    at = ", ".join(_clock(each) for each in times[:6])
    lost.append(Loss(what, "", count, text=at))


def say_wrong(lost: list[Loss], times: Sequence[float]) -> None:
    """Pictures that stay although what they build on is gone."""
    if times:
        lost.append(Loss(LossKind.BLOCKS, "", len(times), text=_clock(times[0])))


def _clock(seconds: float) -> str:
    whole = int(seconds)
    return (
        f"{whole // 3600}:{whole // 60 % 60:02}:{whole % 60:02}" if whole >= 3600 else f"{whole // 60}:{whole % 60:02}"
    )
