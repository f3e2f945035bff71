"""Text from bytes: UTF-8, or an error that says where it is not."""

from __future__ import annotations

from coinjar.core.errors import InputError, Location


def decode_file(data: bytes, file: str) -> str:
    """Return the text of a file. Raises InputError with the location of the first invalid byte."""
    try:
        return data.decode()
    except UnicodeDecodeError as fault:
        before = data[: fault.start]
        raise InputError(
            f"byte 0x{data[fault.start]:02x} is not UTF-8 text",
            hint="save the file as UTF-8",
            location=Location(file, before.count(b"\n") + 1, fault.start - before.rfind(b"\n")),
            code="not-utf8",
        ) from None


def decode_value(data: bytes, what: str, hint: str, location: Location | None = None, code: str = "not-utf8") -> str:
    """Return the text of a value. Raises InputError, which does not show it, if no environment can carry it."""
    try:
        text = data.decode()
    except UnicodeDecodeError:
        raise InputError(f"{what} is not UTF-8 text", hint=hint, location=location, code=code) from None
    if "\0" in text:
        raise InputError(f"{what} contains a NUL character", hint=hint, location=location, code=code)
    return text
