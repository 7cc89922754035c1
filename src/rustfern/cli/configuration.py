"""The technician's own defaults: a file `config.toml` in the platform's usual folder, and environment variables, which go before it.

Sources: TOML 1.0.0; XDG Base Directory Specification, XDG_CONFIG_HOME.
"""

from __future__ import annotations

import os
import sys
from typing import Annotated, Any, Literal

import msgspec

from rustfern.core.data_folder import data_folder
from rustfern.core.errors import WrongUsage

VARIABLE = "RUSTFERN_CONFIG"
"""Names another file."""
_PREFIX = "RUSTFERN_"
_TRUE, _FALSE = ("1", "true", "yes", "on"), ("0", "false", "no", "off")
_MAX_BYTES = 1 << 16


class Configuration(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """What is taken where no option says otherwise: who works (noted in each new case), where is written, the zone of the people's clocks,
    whether colours are used, whether long lists are paged, where the log goes, how many kilobytes a second are read from other machines (0: no limit),
    which language customers speak.
    """

    technician: str | None = None
    target: str | None = None
    zone: str | None = None
    colours: Literal["auto", "always", "never"] = "auto"
    paging: bool = True
    log_file: str | None = None
    network_limit: Annotated[int, msgspec.Meta(ge=0)] = 0
    language: str | None = None

    def defaults(self) -> dict[str, dict[str, Any]]:
        """The defaults of the commands' options, by command and parameter."""
        target = {"target": os.path.expanduser(self.target)} if self.target else {}
        zone = {"zone": self.zone} if self.zone else {}
        language = {"language": self.language} if self.language else {}
        return {"scan": zone, "restore": {**target, **zone}, "guide": {**target, **language}, "report": language}


def config_file() -> str:
    """Where the file is looked for."""
    if named := os.environ.get(VARIABLE):
        return named
    if (data := data_folder()) is not None:
        return os.path.join(data, "config.toml")
    if os.name == "posix" and sys.platform != "darwin":
        # The library takes longer to load than a search of a few files.
        base = os.environ.get("XDG_CONFIG_HOME", "")
        return os.path.join(base if os.path.isabs(base) else os.path.expanduser("~/.config"), "rustfern", "config.toml")
    import platformdirs

    return os.path.join(str(platformdirs.user_config_dir("rustfern", appauthor=False)), "config.toml")


def configuration() -> Configuration:
    """What is set. Raises `WrongUsage` for a file or a variable that says nothing that can be meant."""
    told = _from_file(config_file())
    for name in Configuration.__struct_fields__:
        value = os.environ.get(_PREFIX + name.upper())
        if value:
            told[name] = (
                _switch(name, value)
                if name == "paging"
                else int(value)
                if name == "network_limit" and value.isdigit()
                else value
            )
    return _valid(told, "the environment")


def _from_file(path: str) -> dict[str, Any]:
    try:
        with open(path, "rb") as file:  # noqa: PTH123
            data = file.read(_MAX_BYTES)
    except FileNotFoundError:
        if os.environ.get(VARIABLE):
            raise WrongUsage(
                f"the file that {VARIABLE} names is not there", path, f"Correct or unset {VARIABLE}"
            ) from None
        return {}
    except OSError as error:
        raise WrongUsage(f"the configuration cannot be read ({error.strerror})", path, "See who may read it") from error
    import tomllib

    try:
        told = tomllib.loads(data.decode("utf-8"))
    except (tomllib.TOMLDecodeError, UnicodeDecodeError) as error:
        raise WrongUsage(f"the configuration is not TOML: {error}", path, "Correct it, or move it away") from error
    _valid(told, path)
    return told


def _valid(told: dict[str, Any], where: str) -> Configuration:
    try:
        return msgspec.convert(told, Configuration)
    except msgspec.ValidationError as error:
        known = ", ".join(Configuration.__struct_fields__)
        raise WrongUsage(f"the configuration has a mistake: {error}", where, f"It may set: {known}") from error


def _switch(name: str, value: str) -> bool:
    if value.casefold() not in (*_TRUE, *_FALSE):
        raise WrongUsage(f"{_PREFIX}{name.upper()} is neither on nor off", value, "Set it to on or off")
    return value.casefold() in _TRUE
