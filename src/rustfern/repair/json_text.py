"""JSON and notebooks that were cut or have a hole: closed, and taken up again at the next value that reads.

Source: RFC 8259, 2 to 7; nbformat 4 (nbformat, cells).
"""

from __future__ import annotations

import json
import re
from typing import Any, BinaryIO

from rustfern.formats.format_table import extension_of
from rustfern.repair.interface import Job, Loss, LossKind, NothingLeft, Outcome, Step
from rustfern.repair.text import decoded

_TOKEN = re.compile(
    r'[ \t\r\n]+|[\[\]{},:]|"(?:[^"\\\x00-\x1f]|\\(?:["\\/bfnrt]|u[0-9a-fA-F]{4}))*"|-?\d+(?:\.\d+)?(?:[eE][+-]?\d+)?|true|false|null'
)
_CUT = re.compile(r'"(?:[^"\\\x00-\x1f]|\\(?:["\\/bfnrt]|u[0-9a-fA-F]{4}))*')
_MAX_DEPTH = 500
_LEAST_VALUE = 2


def repair(job: Job, out: BinaryIO) -> Outcome:
    """Write JSON that reads to its end. Raises `NothingLeft`."""
    lost: list[Loss] = []
    steps: list[Step] = []
    text, encoding = decoded(job.data(), lost, steps, "")
    made = _Closing(text, job).run(lost, steps)
    if extension_of(job.name) == "ipynb":
        made = _notebook(made, steps)
    try:
        json.loads(made)
    except (ValueError, RecursionError) as error:
        raise NothingLeft("what is left of it does not read as JSON") from error
    out.write(made.encode(encoding, "replace"))
    return Outcome(job.format, tuple(dict.fromkeys(steps)), tuple(lost))


class _Closing:
    """Reads tokens; where they break, closes what is open and goes on with the next values of the list that is nearest."""

    def __init__(self, text: str, job: Job) -> None:
        self.text, self.job = text, job
        self.stack: list[str] = []
        self.lists: list[int] = []

    def run(self, lost: list[Loss], steps: list[Step]) -> str:
        """The JSON."""
        at, safe, after = self._walk()
        if at >= len(self.text.rstrip()) and not self.stack and safe:
            if not steps:
                raise NothingLeft("nothing in it can be set right")
            return self.text
        if not safe:
            raise NothingLeft("no value of it can be read")
        kept = self.text[:after]
        steps.append(Step.CLOSED)
        lost.append(
            Loss(
                LossKind.REST if at >= len(self.text) - 1 else LossKind.BYTES, "", max(len(self.text) - after, 1), after
            )
        )
        more = self._behind(at, kept)
        if more:
            steps.append(Step.RECORDS)
        return kept + more + self._ends(kept + more)

    def _ends(self, kept: str) -> str:
        depth = len(self.stack)
        break_line = "\n" if "\n" in self.text[:2000] else ""
        return "".join(
            (break_line + " " * (n if break_line else 0)) + ("]" if self.stack[n] == "[" else "}")
            for n in range(depth - 1, -1, -1)
        )

    def _walk(self) -> tuple[int, int, int]:
        """(where tokens break, how many values are whole, up to where the text is kept). `stack` is what is open there."""
        text, at, values = self.text, 0, 0
        kept, kept_stack = 0, list[str]()
        state, before = "value", ""  # value, key, colon, comma
        stack: list[str] = []
        while at < len(text):
            found = _TOKEN.match(text, at)
            if found is None:
                break
            token, at = found[0], found.end()
            if token[0] in " \t\r\n":
                continue
            last, before = before, token
            if token in "[{" and state == "value":
                stack.append(token)
                if len(stack) > _MAX_DEPTH:
                    break
                state = "key" if token == "{" else "value"
                kept, kept_stack = at, stack.copy()
                continue
            if (
                token in "]}"
                and stack
                and (token == "]") == (stack[-1] == "[")
                and state != "colon"
                and last not in (",", ":")
            ):
                stack.pop()
                state, values = "comma", values + 1
                kept, kept_stack = at, stack.copy()
                if not stack:
                    break
                continue
            if state == "key" and token[0] == '"':
                state = "colon"
            elif state == "colon" and token == ":":
                state = "value"
            elif state == "comma" and token == "," and stack:
                state = "key" if stack[-1] == "{" else "value"
            elif state == "value" and token not in ":,]}":
                if token[0] != '"' and at >= len(text):
                    break  # a number may go on
                state, values = "comma", values + 1
                kept, kept_stack = at, stack.copy()
            else:
                at = found.start()
                break
        self.stack = kept_stack
        cut = self._cut_string(at, state, stack)
        if cut is not None:
            return len(text), values + 1, cut
        return at, values, kept

    def _cut_string(self, at: int, state: str, stack: list[str]) -> int | None:
        """A text that was cut at the end of the file is kept as far as it goes."""
        rest = self.text[at:]
        if (
            state != "value"
            or not rest.startswith('"')
            or not stack
            or re.search(r"[\x00-\x1f]", rest)
            or len(rest) < _LEAST_VALUE
        ):
            return None
        body = re.sub(r"\\(?:u[0-9a-fA-F]{0,3})?$", "", rest)
        if not _CUT.fullmatch(body):
            return None
        self.text = self.text[:at] + body + ("…" if self.job.marks else "") + '"'
        self.stack = stack.copy()
        return len(self.text)

    def _behind(self, at: int, kept: str) -> str:
        """Whole values behind a break, of the kind that the nearest list holds."""
        depth = next((n for n in range(len(self.stack) - 1, -1, -1) if self.stack[n] == "["), None)
        if depth is None or at >= len(self.text):
            return ""
        keys = self._keys_of(kept)
        out: list[str] = []
        decoder, position = json.JSONDecoder(), at
        while (start := self.text.find("{", position)) >= 0 and self.job.budget.left() > 0:
            try:
                value, position = decoder.raw_decode(self.text, start)
            except (ValueError, RecursionError):
                position = start + 1
                continue
            if isinstance(value, dict) and keys and keys & value.keys():
                out.append(self.text[start:position])
        if not out:
            return ""
        closing = "".join("]" if each == "[" else "}" for each in reversed(self.stack[depth + 1 :]))
        self.stack = self.stack[: depth + 1]
        return closing + ("" if kept.rstrip().endswith("[") else ",") + ",".join(out)

    def _keys_of(self, kept: str) -> set[str]:
        """The names that the objects of a list have, by those in front of the break."""
        return set(re.findall(r'"((?:[^"\\]|\\.)*)"\s*:', kept[-20_000:]))


def _notebook(made: str, steps: list[Step]) -> str:
    told: Any = json.loads(made)
    if not isinstance(told, dict) or not isinstance(told.get("cells"), list):
        raise NothingLeft("no cell of the notebook is left")
    cells = [cell for cell in told["cells"] if isinstance(cell, dict) and "cell_type" in cell]
    for cell in cells:
        cell.setdefault("metadata", {})
        cell.setdefault("source", [])
        if cell["cell_type"] == "code":
            cell.setdefault("outputs", [])
            cell.setdefault("execution_count", None)
            cell["outputs"] = [each for each in cell["outputs"] if isinstance(each, dict) and "output_type" in each]
    told["cells"] = cells
    told.setdefault("metadata", {})
    told.setdefault("nbformat", 4)
    told.setdefault("nbformat_minor", 4)
    steps.append(Step.SKELETON)
    return json.dumps(told, indent=1, ensure_ascii=False) + "\n"
