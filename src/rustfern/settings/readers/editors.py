"""Settings of text editors that are programs in their own language: only plain assignments of folders, numbers, yes and no are understood.

Sources: Vim's options.txt ('directory', 'backupdir'), the GNU Emacs manual (18.3.2 and 18.6), nanorc(5).
"""

from __future__ import annotations

import re
from collections.abc import Iterator

from rustfern.settings.interface import SettingsFile, Value
from rustfern.settings.text import decoded, lines_of
from rustfern.settings.writers.lines import NANO
from rustfern.settings.writers.scripts import VIM_SHORT

_LIMIT = 2 << 20
_VIM_SET = re.compile(r"^\s*set?(?:local|global)?\s+(.*)$")
_VIM_OPTION = re.compile(r"(directory|dir|backupdir|bdir|undodir)\s*[+^-]?=\s*((?:\\.|[^\s\\])+)")
_VIM_LET = re.compile(
    r"^\s*(?:let\s+&|vim\.(?:o|opt|go)\.)(directory|dir|backupdir|bdir|undodir)\s*[.:]?=\s*[^'\"]*['\"]([^'\"]+)['\"]"
)
_VIM_WORD = re.compile(r"(no)?([a-z]{2,20})(?:=(-?\d+))?$")
_VIM_SWITCH = re.compile(
    r"^\s*(?:let\s+&|vim\.(?:o|opt|go)\.)([a-z]{2,20})\s*=\s*(true|false|v:true|v:false|-?\d+)\s*(?:--.*)?$"
)
_EMACS = re.compile(
    r"\(?(?:setq(?:-default)?\s+|customize-set-variable\s+')?"
    r"(backup-directory-alist|auto-save-file-name-transforms|auto-save-list-file-prefix|tramp-auto-save-directory)\b"
)
_EMACS_PLAIN = re.compile(r"(?<![\w-])([a-z]+(?:-[a-z]+)+)\s+(t|nil|-?\d{1,9})(?=[\s)])")
_STRING = re.compile(r'(\buser-emacs-directory\s+)?"((?:[^"\\]|\\.)*)"(\s+user-emacs-directory\b)?')


def vim_values(source: SettingsFile) -> Iterator[Value]:
    """Folders in a Vim or Neovim settings file: one value for each folder of a list; `.` (beside the text) is left out."""
    for line in lines_of(_text(source)):
        line = line.rstrip("\r\n")
        if line.lstrip().startswith(('"', "--")):
            continue
        found = []
        if setting := _VIM_SET.match(line):
            for word in setting[1].split():
                if said := _VIM_WORD.match(word):
                    on: bool | int = int(said[3]) if said[3] else not said[1]
                    yield Value("set", VIM_SHORT.get(said[2], said[2]), on)
            found = _VIM_OPTION.findall(setting[1])
        elif switched := _VIM_SWITCH.match(line):
            text = switched[2].removeprefix("v:")
            told = text == "true" if text.isalpha() else int(text)
            yield Value("set", VIM_SHORT.get(switched[1], switched[1]), told)
        elif assigned := _VIM_LET.match(line):
            found = [(assigned[1], assigned[2])]
        for name, folders in found:
            for folder in re.split(r"(?<!\\),", folders):
                plain = re.sub(r"\\(.)", r"\1", folder).rstrip("/")
                if plain and not plain.startswith("."):
                    yield Value("set", VIM_SHORT.get(name, name), plain)


def emacs_values(source: SettingsFile) -> Iterator[Value]:
    """Folders in a GNU Emacs settings file, and what is set to a number, to yes or to no."""
    text = "\n".join(line.rstrip("\r\n") for line in lines_of(_text(source)) if not line.lstrip().startswith(";"))
    for name, value in _EMACS_PLAIN.findall(text):
        yield Value("setq", name, value == "t" if value in ("t", "nil") else int(value))
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
    """The folder of nano's backups, and what it sets or unsets."""
    for line in lines_of(_text(source)):
        found = NANO.match(line)
        if found and found["value"] and found["how"] == "set":
            value = found["value"].strip().strip('"')
            yield Value("set", found["name"], int(value) if re.fullmatch(r"\d{1,9}", value) else value)
        elif found and not found["value"]:
            yield Value("set", found["name"], found["how"] == "set")


def _text(source: SettingsFile) -> str:
    return decoded(source.stream.read(min(source.size, _LIMIT))).text
