"""JSON read to its end as a stream: does it stop in the middle, and is it strictly JSON? In bounded memory, whatever its size and shape.

Source: RFC 8259. Small values, and runs of small ones, are taken apart by the standard library; only what is larger than a window is opened here.
"""

from __future__ import annotations

import json
import re
from collections.abc import Callable

_WINDOW = 1 << 18
"""Characters that are worked on at once."""
_SPACE = re.compile(r"[ \t\n\r]*")
_STRING_END = re.compile(r'[^"\\]*+(?:\\.[^"\\]*+)*+"', re.DOTALL)
_ENDS = ("},", "],", ",")
_NEAR = 12
_LEVELS, _MAX_DEPTH = 400, 100_000
_WORDS = ("true", "false", "null", "-Infinity", "NaN")
_DIGITS = re.compile(r"-?[0-9.eE+-]*")


class CutOff(Exception):
    """The text stops before its last value is closed."""


class NotStrict(Exception):
    """The text is not JSON by the letter (comments, signs of another program)."""


def check(read: Callable[[int], str]) -> None:
    """Read all of a text; `read` gives the next characters, nothing at its end. Raises `CutOff` or `NotStrict`."""
    _Reader(read).run()


class _Reader:
    def __init__(self, read: Callable[[int], str]) -> None:
        self._read = read
        self._text = read(_WINDOW).removeprefix("\ufeff")
        self._at = 0
        self._ended = not self._text
        self._just_opened = False
        self._deep = 0
        # Numbers are read as floating ones: of any length, and without the work of large integers.
        self._decode = json.JSONDecoder(parse_int=float).raw_decode

    def _more(self) -> bool:
        """Take in the next characters; False at the end."""
        new = "" if self._ended else self._read(_WINDOW)
        self._ended = not new
        if new:
            self._text = self._text[self._at :] + new
            self._at = 0
        return bool(new)

    def _skip(self) -> str:
        """The next sign that is no white space, empty at the end."""
        while True:
            found = _SPACE.match(self._text, self._at)
            self._at = found.end() if found else self._at
            if self._at < len(self._text):
                return self._text[self._at]
            if not self._more():
                return ""

    def run(self) -> None:
        if not self._skip():
            raise CutOff
        open_ = bytearray()  # which brackets are open
        self._value(open_)
        while open_:
            self._inside(open_)
        if self._skip():
            raise NotStrict

    def _value(self, open_: bytearray) -> None:
        """Take a value, or open it where it is too large or too deep."""
        while True:
            if self._deep and self._text[self._at] in "{[":
                self._deep -= 1
                self._open(open_)
                return
            try:
                _, end = self._decode(self._text, self._at)
            except (json.JSONDecodeError, RecursionError) as error:
                sign = self._text[self._at : self._at + 1]
                unfinished = self._reaches_end(error)
                if unfinished and len(self._text) - self._at < _WINDOW and self._more():
                    continue
                if sign in ("{", "["):
                    # What is too deep to be taken at once is so for some levels more.
                    self._deep = _LEVELS if isinstance(error, RecursionError) else 0
                    self._open(open_)
                    return
                if sign == '"' and unfinished and not self._ended:
                    self._string()
                    return
                if unfinished and self._more():
                    continue
                raise (CutOff if self._reaches_end(error) else NotStrict) from error
            if end > len(self._text) - _NEAR and not self._ended:
                # A number may go on behind the window, and its last sign may belong to what goes on.
                if _DIGITS.fullmatch(self._text, self._at):
                    self._number()
                    return
                if self._more():
                    continue
            self._at = end
            return

    def _open(self, open_: bytearray) -> None:
        if len(open_) >= _MAX_DEPTH:
            raise NotStrict  # an implementation may limit the depth (RFC 8259, 9)
        open_.append(ord(self._text[self._at]))
        self._at += 1
        self._just_opened = True

    def _reaches_end(self, error: Exception) -> bool:
        if not isinstance(error, json.JSONDecodeError):
            return False
        if not self._ended and error.pos > len(self._text) - _NEAR:
            return True  # what looks wrong may only be half there
        left = len(self._text.rstrip())
        word = self._text[error.pos : left]
        begun = any(each.startswith(word) for each in _WORDS) or (
            error.msg.startswith("Invalid \\") and '"' not in word
        )
        return error.pos >= left or begun or error.msg.startswith("Unterminated")

    def _string(self) -> None:
        """A text that is longer than the window."""
        self._at += 1
        while not (found := _STRING_END.match(self._text, self._at)):
            # What was seen is dropped, but for a sign that is only half there.
            tail = len(self._text) - len(self._text.rstrip("\\"))
            self._at = len(self._text) - tail % 2
            if not self._more():
                raise CutOff
        self._at = found.end()

    def _number(self) -> None:
        """A number that is longer than the window."""
        while True:
            found = _DIGITS.match(self._text, self._at)
            self._at = found.end() if found else self._at
            if self._at < len(self._text) or not self._more():
                return

    def _inside(self, open_: bytearray) -> None:
        """The values of the innermost open bracket, up to one that has to be opened, or its end."""
        depth, named = len(open_), open_[-1] == ord("{")
        first, self._just_opened = self._just_opened, False
        while True:
            sign = self._skip()
            if not sign:
                raise CutOff
            if sign in "]}":
                if (sign == "}") != named:
                    raise NotStrict
                self._at += 1
                open_.pop()
                return
            if not first:
                if sign != ",":
                    raise NotStrict
                self._at += 1
                if not self._skip():
                    raise CutOff
            first = False
            if not self._deep and self._run(named):
                continue
            if named:
                if self._skip() != '"':
                    raise NotStrict
                self._value(open_)
                if not (colon := self._skip()):
                    raise CutOff
                if colon != ":":
                    raise NotStrict
                self._at += 1
                if not self._skip():
                    raise CutOff
            self._value(open_)
            if len(open_) > depth:
                return

    def _run(self, named: bool) -> bool:
        """Take as many of the next values as the window holds at once, up to before a comma; whether there were any."""
        if len(self._text) - self._at < _WINDOW // 2:
            self._more()
        left, right = "{}" if named else "[]"
        for end in _ENDS:
            cut = self._text.rfind(end, self._at)
            if cut < 0:
                continue
            cut += len(end) - 1
            part = self._text[self._at : cut]
            try:
                _, taken = self._decode(f"{left}{part}{right}", 0)
            except (json.JSONDecodeError, RecursionError):
                continue
            # The closing bracket must be the one that was put there, not one of the text.
            if taken == len(part) + 2:
                self._at = cut
                return bool(part.strip())
        return False
