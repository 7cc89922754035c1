"""Settings of text editors that are programs in their own language: only plain assignments of folders are understood.

Sources: Vim's options.txt ('directory', 'backupdir'), the GNU Emacs manual (18.3.2 and 18.6), nanorc(5).
"""

from __future__ import annotations

import re
from collections.abc import Iterator

from rustfern.settings.interface import SettingsFile, Value

_LIMIT = 2 << 20
_VIM_SET = re.compile(r"^\s*set?(?:local|global)?\s+(.*)$")
_VIM_OPTION = re.compile(r"(directory|dir|backupdir|bdir|undodir)\s*[+^-]?=\s*((?:\\.|[^\s\\])+)")
_VIM_LET = re.compile(
    r"^\s*(?:let\s+&|vim\.(?:o|opt|go)\.)(directory|dir|backupdir|bdir|undodir)\s*[.:]?=\s*[^'\"]*['\"]([^'\"]+)['\"]"
)
_VIM_SHORT = {"dir": "directory", "bdir": "backupdir"}
_EMACS = re.compile(
    r"\(?(?:setq(?:-default)?\s+|customize-set-variable\s+')?"
    r"(backup-directory-alist|auto-save-file-name-transforms|auto-save-list-file-prefix|tramp-auto-save-directory)\b"
)
_STRING = re.compile(r'(\buser-emacs-directory\s+)?"((?:[^"\\]|\\.)*)"(\s+user-emacs-directory\b)?')


def vim_values(source: SettingsFile) -> Iterator[Value]:
    """Folders in a Vim or Neovim settings file: one value for each folder of a list; `.` (beside the text) is left out."""
    for line in _text(source).splitlines():
        if line.lstrip().startswith(('"', "--")):
            continue
        found = []
        if setting := _VIM_SET.match(line):
            words = setting[1].split()
            if "noswapfile" in words or "noswf" in words:
                yield Value("set", "swapfile", 0)
            found = _VIM_OPTION.findall(setting[1])
        elif assigned := _VIM_LET.match(line):
            found = [(assigned[1], assigned[2])]
        for name, folders in found:
            for folder in re.split(r"(?<!\\),", folders):
                plain = re.sub(r"\\(.)", r"\1", folder).rstrip("/")
                if plain and not plain.startswith("."):
                    yield Value("set", _VIM_SHORT.get(name, name), plain)


def emacs_values(source: SettingsFile) -> Iterator[Value]:
    """Folders in a GNU Emacs settings file."""
    text = "\n".join(line for line in _text(source).splitlines() if not line.lstrip().startswith(";"))
    if re.search(r"\(setq\s+auto-save-default\s+nil", text):
        yield Value("setq", "auto-save-default", 0)
    for found in _EMACS.finditer(text):
        for before, string, after in _STRING.findall(_form(text, found.end())):
            plain = re.sub(r"\\(.)", r"\1", string)
            if before or after:
                plain = "~/.emacs.d/" + plain
            if plain.startswith(("~", "/")):
                yield Value("setq", found[1], plain)


def _form(text: str, start: int) -> str:
    """The text up to the bracket that closes the form in which `start` lies."""
    depth, quoted = 0, False
    for at in range(start, min(len(text), start + 4000)):
        if text[at] == '"' and text[at - 1] != "\\":
            quoted = not quoted
        elif not quoted and text[at] == "(":
            depth += 1
        elif not quoted and text[at] == ")":
            depth -= 1
            if depth < 0:
                return text[start:at]
    return text[start : start + 4000]


def nano_values(source: SettingsFile) -> Iterator[Value]:
    """The folder of nano's backups, and whether it makes any."""
    for line in _text(source).splitlines():
        if found := re.match(r'\s*set\s+(backupdir|operatingdir)\s+"?([^"]+)"?', line):
            yield Value("set", found[1], found[2].strip())
        elif found := re.match(r"\s*set\s+(backup|locking)\s*$", line):
            yield Value("set", found[1], 1)


def _text(source: SettingsFile) -> str:
    return source.stream.read(min(source.size, _LIMIT)).decode("utf-8", "surrogateescape")
