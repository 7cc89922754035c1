"""The first page of a PDF as a picture, for showing it. It is made in a process of its own, which is stopped when it takes long.

Source: ISO 32000-1, 8 to 10 (painting), through PDFium. Nothing is run that a page may hold (no script, no form).
"""

from __future__ import annotations

import io
import sys

from rustfern.formats.drawn_aside import drawn_aside

_MOST, _PATIENCE, _WIDTH, _LARGEST = 96 << 20, 15, 900, 14_400.0


def first_page(data: bytes) -> bytes | None:
    """The first page as PNG; None where it cannot be made, is protected, or takes too long."""
    if not data.startswith(b"%PDF-") or len(data) > _MOST:
        return None
    return drawn_aside("rustfern.formats.pages.pdf_render", data, _PATIENCE)


def main() -> None:
    """The process of its own: a document comes in, a picture goes out."""
    import pypdfium2

    page = pypdfium2.PdfDocument(sys.stdin.buffer.read())[0]
    width, height = page.get_size()
    if not 0 < width <= _LARGEST or not 0 < height <= _LARGEST:
        sys.exit(1)
    made = io.BytesIO()
    page.render(scale=min(_WIDTH / width, _WIDTH / height), may_draw_forms=False).to_pil().save(made, "PNG")
    sys.stdout.buffer.write(made.getvalue())


if __name__ == "__main__":
    main()
