"""A picture on the terminal: two pixels in each character cell, the upper one as its ink, the lower one as its ground."""

from __future__ import annotations

from typing import TYPE_CHECKING

from rich.console import Console
from rich.text import Text

from rustfern.cli.screen.console import PALE

if TYPE_CHECKING:
    from PIL.Image import Image

_COLUMNS, _LINES = 72, 22


def can_show(console: Console) -> bool:
    """Whether the terminal has the colours for it."""
    return console.is_terminal and console.color_system in ("256", "truecolor", "windows")


def show(console: Console, picture: Image, note: str, columns: int = _COLUMNS, lines: int = _LINES) -> None:
    """Draw a picture, and say below what it is; only the words where there are no colours."""
    if can_show(console):
        for line in rows(picture, min(columns, console.width - 4), lines):
            console.print(Text("   ").append_text(line), soft_wrap=True)
        console.print(Text(f"   {note}", style=PALE))
    else:
        console.print(Text(f"   a picture of {note}", style=PALE))


def rows(picture: Image, columns: int, lines: int) -> list[Text]:
    """The character cells of a picture that fits into so many columns and lines; what is transparent shows on white."""
    from PIL import Image

    flat = Image.new("RGB", picture.size, "white")
    coloured = picture.convert("RGBA")
    flat.paste(coloured, mask=coloured.getchannel("A"))
    scale = min(columns / flat.width, 2 * lines / flat.height, 1.0)
    width, height = max(int(flat.width * scale), 1), max(int(flat.height * scale), 2)
    small = flat.resize((width, height - height % 2), Image.Resampling.LANCZOS)
    pixels = small.load()
    assert pixels is not None
    out = []
    for y in range(0, small.height, 2):
        line = Text()
        for x in range(small.width):
            line.append("▀", style=f"rgb{_plain(pixels[x, y])} on rgb{_plain(pixels[x, y + 1])}")
        out.append(line)
    return out


def _plain(pixel: object) -> str:
    return str(pixel).replace(" ", "")
