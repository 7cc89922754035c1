"""How a kind of service lays out what it keeps, as far as that is known: facts of the catalogue, for what asks it."""

from __future__ import annotations

import msgspec


class ServiceLayout(msgspec.Struct, frozen=True, forbid_unknown_fields=True, kw_only=True, omit_defaults=True):
    """Where a service shows the trash and the older versions of a person's files as collections of their own.

    `files` is a pattern for the path of the files (its named parts stand in the templates); `trash` and `versions` are templates of paths (with
    `{id}`, what the property `ident` tells of a file). Properties are written `NAMESPACE NAME`: when something was deleted (`deleted`: seconds
    since 1970, or a date), where it was (`place`: below the files), who wrote a version (`author`). `confidence` is how well this is known.
    """

    id: str
    program: str
    files: str
    confidence: str
    trash: str = ""
    deleted: str = ""
    place: str = ""
    versions: str = ""
    ident: str = ""
    author: str = ""
