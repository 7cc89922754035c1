"""Mail messages and mailboxes: headers, every part to its closing boundary, encoded attachments complete.

Source: RFC 5322 (2.1 lines, 2.2 headers and folding), RFC 2045 (6.7 quoted-printable, 6.8 base64), RFC 2046 (5.1.1 multipart boundaries), RFC 2047
(encoded words), RFC 4155 (mbox). One pass, line by line: a mailbox may be larger than memory.
"""

from __future__ import annotations

import binascii
import quopri
import re
from typing import BinaryIO

import msgspec

from rustfern.core.errors import Malformed, Refused
from rustfern.core.model import Glance, State
from rustfern.formats.format_table import TEXT_FORMATS, extension_of, format_of_extension
from rustfern.formats.interface import Limits, Reading
from rustfern.formats.text_sink import TextSink

_FROM = re.compile(rb"From \S.* \d{4}\s*$")
_FIELD = re.compile(rb"([!-9;-~]+):[ \t]*(.*)", re.DOTALL)
_KNOWN = frozenset(
    b"return-path received delivered-to mime-version message-id date from to cc subject reply-to sender content-type "
    b"x-mozilla-status x-mozilla-keys dkim-signature x-mailer user-agent".split()
)
_PARAMETER = re.compile(r';\s*([\w*]+)\s*=\s*(?:"((?:[^"\\]|\\.)*)"|([^\s;]+))')
_BLANK = frozenset({b"\n", b"\r\n", b"\r\r\n"})
_TELLING_FIELDS = frozenset({"content-type", "content-disposition", "content-transfer-encoding"})
_LINE = 1 << 20
_TEXT_LIMIT = 4 << 20
_SIGNS = (b"--", b"From ")
_ALPHABET = b"ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789+/\r\n"
_BASE64 = re.compile(rb"[A-Za-z0-9+/]*={0,2}")
_MAX_DEPTH = 50


def _without_markup(text: str) -> str:
    """What a web page shows, roughly. What ends nowhere is not sought from each place where it may begin."""
    for raw in ("script", "style"):
        end = text.rfind(f"</{raw}>") + len(raw) + 3
        if end > len(raw) + 2:
            text = re.sub(rf"(?s)<{raw}.*?</{raw}>", " ", text[:end]) + text[end:]
    end = text.rfind(">") + 1
    return re.sub(r"<[^>]*>", " ", text[:end]) + text[end:]


class _Part(msgspec.Struct):
    """One part of a message: what its headers say, and how far its body has come."""

    fields: dict[str, str] = msgspec.field(default_factory=dict)
    boundary: bytes | None = None
    encoding: str = ""
    kind: str = "text/plain"
    charset: str = "utf-8"
    title: str = ""
    encoded: int = 0
    padded: bool = False
    text: bytearray = msgspec.field(default_factory=bytearray)


def _parameters(value: str) -> dict[str, str]:
    """The parameters of a structured header field."""
    if ";" not in value:
        return {}
    return {m[1].casefold(): (m[2] if m[2] is not None else m[3]) for m in _PARAMETER.finditer(value)}


def looks_like(head: bytes) -> str | None:
    """`eml` or `mbox` if the first lines are those of a message, None if not."""
    first, _, rest = head.partition(b"\n")
    box = bool(_FROM.fullmatch(first + b"\n"))
    lines = (rest if box else head).split(b"\n")[:-1][:40]
    known = 0
    for line in lines:
        line = line.rstrip(b"\r")
        if not line:
            break
        if line[:1] in b" \t":
            continue
        found = _FIELD.fullmatch(line)
        if found is None:
            return None
        known += found[1].lower() in _KNOWN
    return ("mbox" if box else "eml") if known >= (1 if box else 2) else None


class Mail:
    """Messages and mailboxes."""

    def score(self, head: bytes, tail: bytes) -> float:
        return 0.6 if head[:1].isalpha() and looks_like(head) else 0.0

    def glance(self, stream: BinaryIO, size: int, name: str) -> Glance:
        head = stream.read(1 << 14)
        if _claims_text(name):
            return Glance(format=format_of_extension(extension_of(name)))
        reader = _Reader(TextSink())
        for line in head.splitlines(keepends=True)[:-1]:
            reader.line(line)
            if reader.in_body:
                break
        return reader.glance(looks_like(head) or "eml")

    def check(self, stream: BinaryIO, size: int, name: str, sink: TextSink, limits: Limits) -> Reading:
        if _claims_text(name):
            from rustfern.formats.text.plain import PlainText

            return PlainText().check(stream, size, name, sink, limits)
        form = looks_like(stream.read(4096)) or "eml"
        stream.seek(0)
        reader = _Reader(sink)
        glance: Glance | None = None
        at = messages = attachments = 0
        after_blank, last = True, b""
        box = form == "mbox"
        lines = _Lines(stream)
        while line := lines.line() if not reader.plain_body else lines.block():
            if b"\0\0\0\0" in line:
                raise Malformed("zeros where a message should be", at + line.index(b"\0\0\0\0"))
            if box and after_blank and line.startswith(b"From ") and _FROM.fullmatch(line):
                if messages:
                    # A message in the middle that was never closed is how some senders write: the next one follows.
                    reader.finish_part()
                    glance = glance or reader.glance(form)
                    attachments += reader.attachments
                    reader = _Reader(sink)
                messages += 1
            else:
                reader.line(line)
            at += len(line)
            last = line[line.rfind(b"\n", 0, -1) + 1 :]
            after_blank = last in _BLANK
        reader.close(size, ended=after_blank or (form == "eml" and last.endswith(b"\n")))
        attachments += reader.attachments
        amounts = {"messages": max(messages, 1), "attachments": attachments}
        reason = "read to the end: every part of the message is closed"
        if form == "mbox":
            reason = f"read to the end: {messages} messages, the last one closed"
        return Reading(glance or reader.glance(form), State.INTACT, reason, amounts)


def _claims_text(name: str) -> bool:
    """Whether the name says that it is some other text, in which headers may stand too."""
    claimed = format_of_extension(extension_of(name))
    return claimed in TEXT_FORMATS and claimed != "eml"


class _Lines:
    """The lines of a stream, or many of them at once where none of them can be a mark."""

    def __init__(self, stream: BinaryIO) -> None:
        self._stream, self._data, self._at = stream, b"", 0

    def _more(self) -> bool:
        piece = self._stream.read(_LINE)
        self._data, self._at = self._data[self._at :] + piece, 0
        return bool(piece)

    def line(self) -> bytes:
        """The next line, at most 1 MB of it; nothing at the end."""
        end = self._data.find(b"\n", self._at)
        while end < 0 and len(self._data) - self._at < _LINE and self._more():
            end = self._data.find(b"\n")
        end = min(end + 1 or len(self._data), self._at + _LINE)
        line, self._at = self._data[self._at : end], end
        return line

    def block(self) -> bytes:
        """The next lines before one that begins with two hyphens or `From `: at least one, and no more than are at hand."""
        line = self.line()
        start, data = self._at, self._data
        if line.startswith(_SIGNS) or not line.endswith(b"\n") or data.startswith(_SIGNS, start):
            return line
        last = data.rfind(b"\n", start) + 1
        for sign in _SIGNS:
            found = data.find(b"\n" + sign, start, last)
            last = found + 1 if found >= 0 else last
        if last <= start:
            return line
        self._at = last
        return line + data[start:last]


class _Reader:
    """Follows one message."""

    def __init__(self, sink: TextSink) -> None:
        self.sink = sink
        self.first: _Part | None = None
        self.in_body = False
        self.attachments = 0
        self._part = _Part()
        self._open: list[tuple[bytes, str]] = []
        self._field: tuple[str, bytearray] | None = None

    @property
    def plain_body(self) -> bool:
        """Whether what follows, up to the next mark, may come many lines at once."""
        return self.in_body

    def line(self, line: bytes) -> None:
        """Take the next line; inside a body also several of which only the first can be a mark."""
        if self._open and line.startswith(b"--") and self._mark(line.rstrip()):
            return
        if not self.in_body:
            self._header(line)
        elif self._part.boundary is None:
            self._body(line)

    def _mark(self, line: bytes) -> bool:
        for level in range(len(self._open) - 1, -1, -1):
            mark = b"--" + self._open[level][0]
            if line == mark or line == mark + b"--":
                self.finish_part()
                closed = line != mark
                del self._open[level + (0 if closed else 1) :]
                self._part, self.in_body, self._field = _Part(), closed, None
                if closed:
                    self._part.boundary = b""  # what follows a closed part is to be ignored (RFC 2046, 5.1.1)
                return True
        return False

    def _header(self, line: bytes) -> None:
        stripped = line.rstrip(b"\r\n")
        if not stripped:
            self._keep_field()
            self._begin_body()
        elif stripped[:1] in b" \t" and self._field is not None:
            if len(self._field[1]) < _LINE:
                self._field[1].extend(stripped)
        elif found := _FIELD.fullmatch(stripped):
            self._keep_field()
            self._field = (found[1].decode("ascii").casefold(), bytearray(found[2]))

    def _keep_field(self) -> None:
        if self._field is not None:
            name, value = self._field
            self._part.fields.setdefault(name, value.decode("utf-8", "replace"))
            self._field = None

    def _begin_body(self) -> None:
        part = self._part
        if self.first is None:
            self.first = part
            for label in ("From", "To", "Cc", "Date", "Subject") if self.sink.keeps else ():
                if value := part.fields.get(label.casefold()):
                    self.sink.show(_words(value), "field", label=label)
        self.in_body = True
        if _TELLING_FIELDS.isdisjoint(part.fields):
            return  # plain text
        value = part.fields.get("content-type", "text/plain")
        part.kind = value.partition(";")[0].strip().casefold()
        given = _parameters(value)
        placed = part.fields.get("content-disposition", "")
        part.title = _parameters(placed).get("filename") or given.get("name") or ""
        part.encoding = part.fields.get("content-transfer-encoding", "").strip().casefold()
        part.charset = given.get("charset", "utf-8")
        if part.kind.startswith("multipart/") and given.get("boundary"):
            if len(self._open) >= _MAX_DEPTH:
                raise Refused("parts of a message inside one another, deeper than any mail: refused")
            self._open.append((given["boundary"].encode("utf-8", "replace"), part.kind))
            part.boundary = self._open[-1][0]
        elif part.kind == "message/rfc822" and part.encoding not in ("base64", "quoted-printable"):
            self.attachments += 1
            self._part, self.in_body = _Part(), False
        elif part.title or placed.casefold().startswith("attachment"):
            self.attachments += 1

    def _body(self, line: bytes) -> None:
        part = self._part
        if part.encoding == "base64":
            self._encoded(line)
        if part.kind.startswith("text/") and not part.title and len(part.text) < _TEXT_LIMIT:
            part.text += line

    def _encoded(self, lines: bytes) -> None:
        """Count the letters of lines packed by base64."""
        part = self._part
        plain = lines.rfind(b"\n", 0, lines.find(b"=") % (len(lines) + 1)) + 1
        if not part.padded and not lines[:plain].translate(None, _ALPHABET):
            part.encoded += plain - lines.count(b"\n", 0, plain) - lines.count(b"\r", 0, plain)
            lines = lines[plain:]
        for line in lines.splitlines():
            data = line.strip()
            # Lists of mailing programs hang plain lines on encoded parts: those are no damage.
            if data and _BASE64.fullmatch(data) and not part.padded:
                part.encoded += len(data)
                part.padded = data.endswith(b"=")

    def finish_part(self) -> None:
        """The part has ended: hand its text on. Raises `Malformed` for an encoded part that is not complete."""
        part, self._part = self._part, _Part()
        if part.encoding == "base64" and part.encoded % 4:
            what = f"attachment {part.title}" if part.title else "an encoded part"
            raise Malformed(f"{what} of the message is not complete")
        if not part.text:
            return
        data = bytes(part.text)
        if part.encoding == "base64":
            try:
                data = binascii.a2b_base64(data)
            except binascii.Error as error:
                raise Malformed("an encoded part of the message is damaged") from error
        elif part.encoding == "quoted-printable":
            data = quopri.decodestring(data)
        try:
            text = data.decode(part.charset, "replace")
        except LookupError:
            text = data.decode("utf-8", "replace")
        if not self.sink.keeps and part.kind != "text/html":
            self.sink.count_lines(text.splitlines())
        elif part.kind == "text/html":
            if self.sink.keeps:
                from rustfern.formats.text_layout import of_html

                of_html(text, self.sink.show)
            for line in _without_markup(text).splitlines():
                self.sink.count(line)
        else:
            for line in text.splitlines():
                self.sink.add(line, "line")

    def close(self, size: int, *, ended: bool) -> None:
        """The message has ended (with a whole line, or not). Raises `Malformed` where something of it is still open."""
        if not self.in_body:
            if self._open:
                raise Malformed("the message stops before the end of its parts", size)
            if not ended:
                raise Malformed("the message stops inside its headers", size)
            self._keep_field()
            self._begin_body()
        title = self._part.title
        self.finish_part()
        if self._open:
            where = f"inside attachment {title}" if title else "before the end of its parts"
            raise Malformed(f"the message stops {where}", size)

    def glance(self, form: str) -> Glance:
        """Subject, sender and date of the message."""
        if self.first is None:
            self._keep_field()
        from email.utils import parsedate_to_datetime

        fields = (self.first or self._part).fields
        try:
            sent = parsedate_to_datetime(fields["date"]) if "date" in fields else None
        except (ValueError, TypeError, IndexError, OverflowError):
            sent = None
        return Glance(
            format=form,
            title=_words(fields.get("subject", "")) or None,
            author=_words(fields.get("from", "")) or None,
            created=sent if sent and sent.tzinfo else None,
        )


def _words(value: str) -> str:
    """A header's text with its encoded words read."""
    if "=?" not in value:
        return value.strip()
    from email.errors import MessageError
    from email.header import decode_header, make_header

    try:
        return str(make_header(decode_header(value))).strip()
    except (ValueError, LookupError, MessageError):
        return value.strip()
