"""The connection that an address asks for; each kind is imported only then."""

from __future__ import annotations

import os
from collections.abc import Sequence

from rustfern.cases.location import state_folder
from rustfern.core.remote_paths import parts_of
from rustfern.core.services import ServiceLayout
from rustfern.sources.remote.interface import Ask, Confirm, Link
from rustfern.sources.remote.pace import Pace


def connect(top: str, ask: Ask, confirm: Confirm, layouts: Sequence[ServiceLayout], pace: Pace) -> Link:
    """A connection to a machine, named as `top_of` does. Raises `SourceError` where it cannot be had."""
    if parts_of(top)[0] == "sftp":
        from rustfern.sources.remote.sftp import Sftp

        return Sftp(top, ask, confirm, pace, os.path.join(state_folder(), "known-hosts"))
    from rustfern.sources.remote.webdav import WebDav

    return WebDav(top, ask, layouts, pace)
