"""Sets of parameters that are made anew, bit by bit, and the sizes that pictures usually have. Source: ITU-T H.264 7.4.1 and 9.1; H.265 7.4.2 and 9.2."""

from __future__ import annotations

from rustfern.formats.media.coded_video import guarded

USUAL_SIZES = (
    (1920, 1080), (1280, 720), (640, 480), (640, 360), (854, 480), (3840, 2160), (2560, 1440), (1366, 768), (1600, 900), (1024, 768), (1440, 900), (1680, 1050),
    (1920, 1200), (1280, 1024), (1280, 800), (800, 600), (960, 540), (720, 576), (720, 480), (480, 360), (480, 270), (426, 240), (352, 288), (320, 240), (320, 180),
    (256, 144), (240, 160), (176, 144), (160, 120), (1080, 1920), (720, 1280), (540, 960), (480, 854), (1080, 1080), (720, 720),
    (1024, 576), (848, 480), (1280, 960), (1440, 1080), (1360, 768), (2560, 1600), (2560, 1080), (3440, 1440), (2704, 1520), (4096, 2160), (1080, 2400), (1080, 2340),
    (720, 1600), (886, 1920),
)  # fmt: skip


class SetBits:
    """Bits that are written."""

    def __init__(self) -> None:
        self._bits: list[str] = []

    def put(self, value: int, count: int) -> None:
        """Some bits."""
        self._bits.append(format(value, f"0{count}b"))

    def number(self, value: int) -> None:
        """A number of the kind ue(v)."""
        width = (value + 1).bit_length()
        self.put(value + 1, 2 * width - 1)

    def signed(self, value: int) -> None:
        """A number of the kind se(v)."""
        self.number(2 * value - 1 if value > 0 else -2 * value)

    def last_bit(self) -> None:
        """A one, and zeros up to the next whole byte."""
        self._bits.append("1")
        self._bits.append("0" * (-sum(map(len, self._bits)) % 8))

    def ones_to_byte(self) -> None:
        """Ones up to the next whole byte."""
        self._bits.append("1" * (-sum(map(len, self._bits)) % 8))

    def unit_with(self, head: bytes, code: bytes) -> bytes:
        """The unit whose bits, whole bytes of them, are followed by code that ends with its last bit."""
        text = "".join(self._bits)
        return head + guarded(int("1" + text, 2).to_bytes(len(text) // 8 + 1, "big")[1:] + code)

    def unit(self, head: bytes) -> bytes:
        """The unit, with its last bit, and with the bytes that guard against start codes."""
        text = "".join(self._bits) + "1"
        text += "0" * (-len(text) % 8)
        data = int(text, 2).to_bytes(len(text) // 8, "big")
        return head + guarded(data)
