"""Values from outside the jar: a command's output, a file's content, the environment."""

from __future__ import annotations

import os
from pathlib import Path

from coinjar.core.definition import Command, FromEnv, FromFile, FromStore, Outside
from coinjar.core.errors import InputError, Location, raise_all
from coinjar.core.layers import Fetch
from coinjar.core.utf8 import decode_value
from coinjar.documents.field_reader import FieldReader
from coinjar.documents.yamltext import compose
from coinjar.jarfile.locate import config_folder
from coinjar.system.child_environment import child_environment

LARGEST = 10 << 20
"""Maximum size of a file or an output, in bytes."""

_BYTES = "add base64: true to carry bytes"


def fetcher(folder: Path, *, allow_commands: bool) -> Fetch:
    """Return the function that fetches external values for the jar in `folder`.

    Paths and commands are relative to the folder above it.
    """
    base = folder.resolve().parent

    def fetch(outside: Outside, location: Location) -> str:
        if isinstance(outside, FromEnv):
            return _from_env(outside, location)
        if isinstance(outside, FromStore):
            words = f"the value is stored in {outside.destination}, which was not read"
            raise InputError(words, hint="print it with `coinjar value`", location=location, code="not-fetched")
        if isinstance(outside, FromFile):
            return _from_file(outside, base, location)
        if not (allow_commands or allowed_by_user(folder)):
            raise InputError(
                f"the value comes from the command '{outside.argv[0]}', which was not run",
                hint="allow it with --allow-commands, or list this jar under allow_commands in your own config.yaml",
                location=location,
                code="not-fetched",
            )
        return _from_command(outside, base, location)

    return fetch


def allowed_by_user(folder: Path) -> bool:
    """Return whether the user's own configuration lets this jar run commands; a repository cannot allow itself."""
    config = config_folder() / "config.yaml"
    if not config.exists():
        return False
    fields = FieldReader(str(config))
    root = compose(config.read_bytes(), str(config))
    own = fields.fields(root, "config.yaml", ["allow_commands"]) if root is not None else {}
    listed = [text for text, _ in fields.texts(own.get("allow_commands"), "allow_commands")]
    raise_all(fields.faults)
    return any(Path(text).expanduser().resolve() == folder.resolve() for text in listed)


def _from_env(outside: FromEnv, location: Location) -> str:
    text = os.environ.get(outside.name)
    if text is None:
        raise InputError(
            f"the environment has no {outside.name}",
            hint=f"set {outside.name} where coinjar runs",
            location=location,
            code="outside",
        )
    return decode_value(os.fsencode(text), f"{outside.name} in the environment", _BYTES, location, "outside")


def _from_file(outside: FromFile, base: Path, location: Location) -> str:
    path = base / outside.path
    try:
        with path.open("rb") as file:
            data = file.read(LARGEST + 1)
    except OSError as fault:
        words = (fault.strerror or "unknown error").lower()
        raise InputError(
            f"cannot read the file {outside.path}: {words}",
            hint="paths are relative to the folder that contains jar/",
            location=location,
            code="outside",
        ) from None
    if len(data) > LARGEST:
        raise InputError(
            f"the file {outside.path} is over {LARGEST >> 20} MiB",
            hint="is it the right file?",
            location=location,
            code="outside",
        )
    if outside.base64:
        from base64 import b64encode

        return b64encode(data).decode()
    return decode_value(data, f"the file {outside.path}", _BYTES, location, "outside")


def _from_command(outside: Command, base: Path, location: Location) -> str:
    import subprocess

    what = f"the command '{outside.argv[0]}'"
    try:
        # The user allowed this jar's commands, and they do not pass through a shell.
        done = subprocess.run(  # noqa: S603 - see above
            list(outside.argv),
            cwd=base,
            env=child_environment(),
            stdin=subprocess.DEVNULL,
            stdout=subprocess.PIPE,
            check=False,
        )
    except OSError as fault:
        raise InputError(
            f"{what} cannot be run: {(fault.strerror or '').lower()}",
            hint="check its name and PATH",
            location=location,
            code="outside",
        ) from None
    if done.returncode:
        raise InputError(
            f"{what} ended with {done.returncode}",
            hint="run it by hand in the folder that contains jar/",
            location=location,
            code="outside",
        )
    text = decode_value(done.stdout, f"the output of {what}", _BYTES, location, "outside").rstrip("\n")
    if not text and not outside.may_be_empty:
        raise InputError(
            f"{what} printed nothing",
            hint="add may_be_empty: true if this is correct",
            location=location,
            code="outside",
        )
    return text
