"""Settings that are programs in their own language: a plain assignment of one's own is changed, else one is added at the end, where it counts.

Sources: Vim's usr_41.txt and options.txt; Neovim's lua-guide.txt; the GNU Emacs Lisp reference manual (2.3 and 2.4: comments, characters, strings).
"""

from __future__ import annotations

import re
from collections.abc import Sequence

from rustfern.settings.text import decoded, end_of, lines_of
from rustfern.settings.writers.interface import CannotWrite, Wanted

_BLOCK = re.compile(r"\s*(?:if|for|while|try|fu(?:n|nc|nct|ncti|nctio|nction)?!?|def!?|aug(?:roup)?)\b(?!\s*$)")
_END = re.compile(r"\s*(?:endif|end|endfo\w*|endw\w*|endt\w*|endf\w*|enddef|aug(?:roup)?\s+END)\b")
_OTHER_LANGUAGE = re.compile(r"\s*(?:lua|py\w*|perl|rub\w*|tcl|mz\w*)\s*<<\s*(?:trim\s+)?(\w+)?\s*$")
_FINISH = re.compile(r"(?:fini(?:s|sh)?)\s*$")
_MOST_LINES = 200_000
VIM_SHORT = {
    "bk": "backup", "wb": "writebackup", "swf": "swapfile", "udf": "undofile", "uc": "updatecount", "ut": "updatetime",
    "dir": "directory", "bdir": "backupdir", "udir": "undodir",
}  # fmt: skip
"""Short names of options."""


def vim(data: bytes, wanted: Sequence[Wanted]) -> bytes:
    """`set name`, `set noname`, `set name=value` in a Vim script."""
    whole = decoded(data)
    lines = lines_of(whole.text)
    if any(_FINISH.match(line) for line in lines):
        raise CannotWrite("it ends itself early with `finish`, so that nothing added at its end would count")
    for each in wanted:
        new = (
            f"set {'' if each.value else 'no'}{each.name}"
            if isinstance(each.value, bool)
            else f"set {each.name}={each.value}"
        )
        names = "|".join([re.escape(each.name), *(short for short, long in VIM_SHORT.items() if long == each.name)])
        mine = re.compile(rf"set?[ \t]+(?:no)?(?:{names})(?:=\S*)?[ \t]*(?=[\r\n]|$)")
        any_of_it = re.compile(rf"(?!\s*\").*\b(?:no)?(?:{names})\b")
        lines = _assigned(lines, mine, any_of_it, new, _top_level(lines))
    return whole.bytes_of("".join(lines))


def lua(data: bytes, wanted: Sequence[Wanted]) -> bytes:
    """`vim.opt.name = value` in a Lua script of Neovim."""
    whole = decoded(data)
    lines = lines_of(whole.text)
    code = [line.strip() for line in lines if line.strip() and not line.lstrip().startswith("--")]
    if code and re.match(r"return\b", code[-1]):
        raise CannotWrite("it ends with `return`, behind which nothing may stand")
    for each in wanted:
        value = str(each.value).lower() if isinstance(each.value, bool) else str(each.value)
        if isinstance(each.value, str):
            value = '"' + each.value.replace("\\", "\\\\").replace('"', '\\"') + '"'
        pattern = re.compile(
            rf"vim\.(?:o|opt|go)\.{re.escape(each.name)}\s*=\s*(?:true|false|\d+|\"[^\"\r\n]*\")[ \t]*(?=[\r\n]|$)"
        )
        said = re.compile(rf"(?!\s*--).*\b{re.escape(each.name)}\b")
        lines = _assigned(lines, pattern, said, f"vim.opt.{each.name} = {value}", [True] * len(lines))
    return whole.bytes_of("".join(lines))


def emacs(data: bytes, wanted: Sequence[Wanted]) -> bytes:
    """`(setq name value)` in Emacs Lisp. Raises `CannotWrite` for a file whose brackets do not close."""
    whole = decoded(data)
    if not is_balanced(whole.text):
        raise CannotWrite("its brackets or quotes do not close, so that nothing added at its end would count")
    lines = lines_of(whole.text)
    for each in wanted:
        value = ("t" if each.value else "nil") if isinstance(each.value, bool) else str(each.value)
        if isinstance(each.value, str):
            value = '"' + each.value.replace("\\", "\\\\").replace('"', '\\"') + '"'
        pattern = re.compile(rf"\(setq(?:-default)?\s+{re.escape(each.name)}\s+(?:t|nil|\d+)\)[ \t]*(?=[\r\n]|$)")
        said = re.compile(rf"(?!\s*;).*{re.escape(each.name)}(?![\w-])")
        lines = _assigned(lines, pattern, said, f"(setq {each.name} {value})", _outermost(lines))
    return whole.bytes_of("".join(lines))


def _assigned(lines: list[str], mine: re.Pattern[str], said: re.Pattern[str], new: str, free: list[bool]) -> list[str]:
    """Change the last line that says something of it, if it says just that and stands free; else add one at the end."""
    last = max((number for number, line in enumerate(lines) if said.match(line)), default=None)
    if last is not None and free[last] and (found := mine.match(lines[last])):
        return [*lines[:last], new + lines[last][found.end() :], *lines[last + 1 :]]
    ending = end_of(lines, len(lines))
    if lines and not lines[-1].endswith(("\r", "\n")):
        lines = [*lines[:-1], lines[-1] + ending]
    return [*lines, new + ending]


def _top_level(lines: list[str]) -> list[bool]:
    """Whether each line of a Vim script stands outside of conditions, loops, functions and of what is written in another language. Raises
    `CannotWrite` for a script in which one of these is never closed.
    """
    depth, free, until = 0, [], ""
    for line in lines[:_MOST_LINES]:
        if until:
            free.append(False)
            until = "" if line.strip() == until else until
            continue
        if _END.match(line):
            depth = max(0, depth - 1)
        free.append(depth == 0)
        if other := _OTHER_LANGUAGE.match(line):
            until = other[1] or "."
        elif not _END.match(line) and _BLOCK.match(line) and not re.search(r"\|\s*end", line):
            depth += 1
    if depth or until:
        raise CannotWrite(
            "a condition, a loop or a function in it is never closed, so that nothing added at its end would count"
        )
    return free + [False] * (len(lines) - len(free))


def _outermost(lines: list[str]) -> list[bool]:
    """Whether each line of Emacs Lisp begins outside of all brackets and texts."""
    depth, quoted, free = 0, False, []
    for line in lines:
        free.append(depth == 0 and not quoted)
        depth, quoted = _through(line, depth, quoted)
    return free


def is_balanced(text: str) -> bool:
    """Whether all brackets and texts of Emacs Lisp are closed."""
    depth, quoted = 0, False
    for line in lines_of(text):
        depth, quoted = _through(line, depth, quoted)
        if depth < 0:
            return False
    return depth == 0 and not quoted


def _through(line: str, depth: int, quoted: bool) -> tuple[int, bool]:
    """How deep Emacs Lisp is in brackets, and whether in a text, behind a line."""
    at = 0
    while at < len(line):
        char = line[at]
        if char == "\\":
            at += 1
        elif quoted:
            quoted = char != '"'
        elif char == '"':
            quoted = True
        elif char == ";":
            break
        elif char == "?" and line[at + 1 : at + 2] not in ("", "\\") and (at == 0 or line[at - 1] in " (['`,\t"):
            at += 1
        elif char in "([":
            depth += 1
        elif char in ")]":
            depth -= 1
        at += 1
    return depth, quoted
