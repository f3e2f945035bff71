"""The dialects by name. A new one is a module here and a line in the table, or an entry point of another package."""

from __future__ import annotations

from importlib import import_module
from typing import TYPE_CHECKING, cast

from coinjar.core.errors import UsageError
from coinjar.core.names import suggestion
from coinjar.system.plugins import plugins

if TYPE_CHECKING:
    from coinjar.dialects.base import Dialect

BUILT_IN = {
    "posix": "shell:PosixDialect",
    "fish": "fish:FishDialect",
    "powershell": "powershell:PowerShellDialect",
    "literal": "lines:LiteralDialect",
    "compose": "compose:ComposeDialect",
    "systemd": "systemd:SystemdDialect",
    "systemd-dropin": "systemd:SystemdDropInDialect",
    "dotenv": "dotenv:DotenvDialect",
    "nul": "lines:NulDialect",
    "json": "maps:JsonDialect",
    "yaml": "maps:YamlDialect",
    "toml": "maps:TomlDialect",
    "pairs": "maps:PairsDialect",
    "stage-prefixed": "stage_prefixed:StagePrefixedDialect",
    "settings": "settings:SettingsDialect",
    "properties": "properties:PropertiesDialect",
    "csv": "csv_rows:CsvDialect",
    "kube-configmap": "kube:ConfigMapDialect",
    "kube-secret": "kube:SecretDialect",
    "containerfile": "containerfile:ContainerfileDialect",
    "exec-script": "shell:ExecScriptDialect",
    "example": "example:ExampleDialect",
}


def get(name: str) -> Dialect:
    """Return the dialect of this name. Raises UsageError with the nearest name."""
    if name in BUILT_IN:
        module, _, kind = BUILT_IN[name].partition(":")
        dialect = cast("Dialect", getattr(import_module(f"coinjar.dialects.{module}"), kind)())
        dialect.built_in = name
        return dialect
    outside = plugins("dialects")
    if name in outside:
        return cast("Dialect", outside[name].load()())
    known = [*BUILT_IN, *outside]
    raise UsageError(
        f"there is no dialect '{name}'",
        hint=suggestion(name, known, f"the dialects are {', '.join(known)}"),
        code="unknown-dialect",
    )


def reader(name: str) -> Dialect:
    """Return a dialect that can be read. Raises UsageError for one that can only be written."""
    dialect = get(name)
    if not dialect.reads:
        readers = [name for name in BUILT_IN if get(name).reads]
        raise UsageError(
            f"the dialect '{name}' can only be written",
            hint=f"these can be read: {', '.join(readers)}",
            code="write-only",
        )
    return dialect


def dialect_names() -> list[str]:
    """Return the names of all dialects, those of other packages included."""
    return [*BUILT_IN, *plugins("dialects")]


def carriers() -> list[Dialect]:
    """Return the dialects that carry values, to suggest in an error."""
    return [get(name) for name in BUILT_IN if name != "example"]
