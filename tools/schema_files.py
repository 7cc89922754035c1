#!/usr/bin/env python3
"""The JSON Schema files in `docs/schema/` and the list of every field in `docs/json.md`, from the typed answers. `--check` only compares."""

from __future__ import annotations

import argparse
import inspect
import json
import sys
from pathlib import Path
from types import NoneType, UnionType
from typing import Any, Literal, Union, get_args, get_origin, get_type_hints

import msgspec

from rustfern.core.answers import Fields
from rustfern.core.command_answers import ANSWERS

DOCS = Path(__file__).parents[1] / "docs"
MARK = "<!-- every field: made by tools/schema_files.py -->\n"


def name_of(answer: type[Fields]) -> str:
    """The name of an answer, such as `scan-1`."""
    return str(get_args(get_type_hints(answer)["schema"])[0]).removeprefix("rustfern/")


def schemas() -> dict[Path, str]:
    """Each file and what it must hold."""
    found = {}
    for answer in ANSWERS:
        known: dict[str, Any] = {}
        refer(answer, known)
        own = known.pop(answer.__name__)
        schema = {
            "$schema": "https://json-schema.org/draft/2020-12/schema",
            "$id": f"https://rustfern.example/schema/{name_of(answer)}.json",
            **own,
            **({"$defs": known} if known else {}),
        }
        found[DOCS / "schema" / f"{name_of(answer)}.json"] = json.dumps(schema, indent=1) + "\n"
    return found


def refer(told: Any, known: dict[str, Any]) -> dict[str, Any]:
    """The schema of a type; structs that it leads to are added to `known`. Further fields are allowed everywhere: they may come."""
    if isinstance(told, type) and issubclass(told, Fields):
        if told.__name__ not in known:
            known[told.__name__] = {}
            hints = get_type_hints(told)
            fields = msgspec.structs.fields(told)
            known[told.__name__] = {
                "description": " ".join(inspect.cleandoc(told.__doc__ or "").split()),
                "type": "object",
                "properties": {field.encode_name: refer(hints[field.name], known) for field in fields},
                "required": [field.encode_name for field in fields],
            }
        return {"$ref": f"#/$defs/{told.__name__}"}
    origin, args = get_origin(told), get_args(told)
    if origin is Literal:
        return {"const": args[0]}
    if origin in (Union, UnionType):
        return {"anyOf": [refer(each, known) for each in args]}
    if origin is list:
        return {"type": "array", "items": refer(args[0], known)}
    if origin is tuple:
        items = [refer(each, known) for each in args]
        return {"type": "array", "prefixItems": items, "minItems": len(args), "maxItems": len(args)}
    if origin is dict:
        return {"type": "object", "additionalProperties": refer(args[1], known)}
    return {"type": {str: "string", int: "integer", float: "number", bool: "boolean", NoneType: "null"}[told]}


def kind(told: Any, seen: list[type[Fields]]) -> str:
    """A type in words; structs that it leads to are added to `seen`."""
    if told is NoneType:
        return "null"
    if isinstance(told, type) and issubclass(told, Fields):
        if told not in seen:
            seen.append(told)
        return f"[{told.__name__}](#{told.__name__.lower()})"
    origin, args = get_origin(told), get_args(told)
    if origin is Literal:
        return " or ".join(f"`{each}`" for each in args)
    if origin in (Union, UnionType):
        return " or ".join(kind(each, seen) for each in args)
    if origin is list:
        return f"list of {kind(args[0], seen)}"
    if origin is tuple:
        return f"list of {len(args)} numbers"
    if origin is dict:
        return f"object of {kind(args[1], seen)}"
    return {str: "text", int: "number", float: "number", bool: "true or false"}[told]


def table(fields: type[Fields], seen: list[type[Fields]]) -> str:
    """The fields of one struct."""
    hints = get_type_hints(fields)
    rows = [f"| `{field.encode_name}` | {kind(hints[field.name], seen)} |" for field in msgspec.structs.fields(fields)]
    return "\n".join(("| field | |", "| --- | --- |", *rows))


def page() -> str:
    """The list of every field."""
    seen: list[type[Fields]] = []
    parts = ["## Every field\n"]
    for answer in ANSWERS:
        parts.append(
            f"### rustfern/{name_of(answer)}\n\n{inspect.cleandoc(answer.__doc__ or '')}\n\n{table(answer, seen)}\n"
        )
    for fields in seen:  # grows while it is gone through
        parts.append(f"### {fields.__name__}\n\n{inspect.cleandoc(fields.__doc__ or '')}\n\n{table(fields, seen)}\n")
    return "\n".join(parts)


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--check", action="store_true")
    asked = parser.parse_args()
    text = DOCS / "json.md"
    by_hand = text.read_text("utf-8").partition(MARK)[0].rstrip() + "\n\n"
    wanted = {**schemas(), text: by_hand + MARK + "\n" + page()}
    stale = [path for path, told in wanted.items() if not path.exists() or path.read_text("utf-8") != told]
    stale += [path for path in (DOCS / "schema").glob("*.json") if path not in wanted]
    if asked.check:
        for path in stale:
            print(f"{path} is not up to date: run tools/schema_files.py", file=sys.stderr)
        return 1 if stale else 0
    for path, told in wanted.items():
        path.parent.mkdir(exist_ok=True)
        path.write_text(told, "utf-8")
    return 0


if __name__ == "__main__":
    sys.exit(main())
