"""`image:NAME` (of podman's storage) and `image:PATH` (an OCI image layout): an image's own defaults."""

from __future__ import annotations

import json
import re
import subprocess
from pathlib import Path
from typing import Any

from coinjar.core.errors import ExternalError, InputError, Location, UsageError
from coinjar.core.names import quoted_name
from coinjar.dialects.base import ReadItem, ReadRemark, ReadResult
from coinjar.sources.base import SourceContext, SourceVariables, surprises
from coinjar.system.child_environment import child_environment
from coinjar.system.files import read_file


def read_image(name: str, dialect: str, context: SourceContext) -> SourceVariables:
    """Read the `Env` of an image's config (OCI image-spec, config.md)."""
    del context
    if dialect:
        raise UsageError("image does not support a dialect", hint="write image:NAME", code="unknown-source")
    layout = Path(name)
    pairs, why = (
        (_from_layout(layout), "an OCI image layout")
        if (layout / "index.json").is_file()
        else (_from_podman(name), "podman has it")
    )
    items: list[ReadItem] = []
    remarks: list[ReadRemark] = []
    for number, pair in enumerate(pairs, 1):
        key, equals, value = pair.partition("=")
        if equals:
            items.append(ReadItem(key, value, Location(name, number)))
        else:
            remarks.append(ReadRemark(Location(name, number), f"ignored: {quoted_name(pair)} has no '='", lost=True))
    remarks += surprises(items)
    return SourceVariables(f"image:{name}", "image", why, ReadResult(items, remarks))


def _from_podman(name: str) -> list[str]:
    if name.startswith("-") or not name:
        raise UsageError(
            f"'{name}' is not an image",
            hint="write image:NAME:TAG, or image:PATH of an OCI layout",
            code="unknown-source",
        )
    try:
        argv = ["podman", "image", "inspect", "--format", "{{json .Config.Env}}", name]
        # The words are fixed, and a name cannot be an option.
        done = subprocess.run(argv, capture_output=True, check=False, env=child_environment())  # noqa: S603
    except OSError:
        hint = "install podman, or name the folder of an OCI image layout"
        raise ExternalError(
            "podman is not installed", hint=hint, location=Location(f"image:{name}"), code="podman"
        ) from None
    if done.returncode:
        words = done.stderr.decode(errors="replace").strip().split("\n")[-1].removeprefix("Error: ")
        raise ExternalError(
            f"podman cannot inspect it: {words}",
            hint="`podman images` lists the available ones",
            location=Location(f"image:{name}"),
            code="podman",
        )
    return json.loads(done.stdout) or []


def _from_layout(layout: Path) -> list[str]:
    index = _json(layout / "index.json")
    while manifests := index.get("manifests"):  # an index may refer to other indexes, one per platform
        index = _blob(layout, manifests[0])
        if "config" in index:
            return (_blob(layout, index["config"]).get("config") or {}).get("Env") or []
    raise InputError(
        "the layout contains no image",
        hint="use a layout that contains one",
        location=Location(str(layout)),
        code="shape",
    )


def _blob(layout: Path, descriptor: dict[str, Any]) -> dict[str, Any]:
    digest = str(descriptor.get("digest", ""))
    match = re.fullmatch(r"([a-z0-9]+):([0-9a-f]{32,})", digest)
    if not match:
        raise InputError(
            "a descriptor has no digest",
            hint="check that it is an OCI image layout",
            location=Location(str(layout / "index.json")),
            code="shape",
        )
    return _json(layout / "blobs" / match[1] / match[2])


def _json(path: Path) -> dict[str, Any]:
    try:
        data = json.loads(read_file(path))
    except OSError as fault:
        words = (fault.strerror or "unknown error").lower()
        raise InputError(
            f"cannot read it: {words}",
            hint="check that it is a complete OCI image layout",
            location=Location(str(path)),
            code="unreadable",
        ) from None
    except ValueError:
        raise InputError(
            "this is not JSON",
            hint="check that it is an OCI image layout",
            location=Location(str(path)),
            code="not-json",
        ) from None
    if not isinstance(data, dict):
        raise InputError(
            "this is not a JSON object",
            hint="check that it is an OCI image layout",
            location=Location(str(path)),
            code="shape",
        )
    return data
