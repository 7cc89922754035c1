"""What is known of a document besides its copies."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from collections.abc import Set as AbstractSet
from datetime import datetime

import msgspec


class Facts(msgspec.Struct, frozen=True):
    """What is known about one document besides its copies. `deleted` maps a copy's place in the list to its deletion;
    `denied` are folders of copies in its home that could not be read, `elsewhere` files of its name in other folders, `away`
    says where the original was recorded if that is outside of what is searched. `misplaced`: it was opened in a mail or archive
    program, or (`misnamed`) lies under a name that does not show it; `in_use`: a store of
    notes that is where it belongs; `opened_elsewhere` are the copies that lie there; `strays` are autosaves
    of its kind whose document could not be told, `unreached` places of its kind that were not searched (not attached, locked,
    online only), `holders` the people whose locks lie beside it, `online` the server that it is kept on;
    `named`: the person means this document, so that their word on what happened holds; `places` folders of copies were looked into,
    with `thorough` files of every name; `locked_since` is when the oldest lock was made; `resaved`: one of its copies is a file that was saved under another name or in another home.
    """

    original: str | None
    saved: int | None
    locked: bool = False
    listed: bool = False
    never_saved: bool = False
    changed_since: datetime | None = None
    changed: bool = False
    trashed: bool = False
    misplaced: bool = False
    misnamed: bool = False
    in_use: bool = False
    opened_elsewhere: AbstractSet[int] = frozenset()
    deleted: Mapping[int, datetime] = msgspec.field(default_factory=dict)
    denied: Sequence[str] = ()
    elsewhere: Sequence[str] = ()
    away: str | None = None
    strays: Sequence[str] = ()
    unreached: Sequence[str] = ()
    holders: Sequence[str] = ()
    online: str | None = None
    resaved: bool = False
    asked_for: bool = True
    named: bool = False
    places: int = 0
    thorough: bool = False
    locked_since: datetime | None = None

    @property
    def open_then(self) -> bool:
        """Whether a lock or a recovery list shows it open in a session that did not end in order."""
        return self.locked or self.listed
