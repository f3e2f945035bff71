"""Read a kubeconfig file: a cluster's address, and the credentials."""

from __future__ import annotations

import json
import os
import ssl
import subprocess
from base64 import b64decode
from pathlib import Path
from typing import Any, NamedTuple

from coinjar.core.errors import InputError, Location
from coinjar.documents.yamltext import load_plain
from coinjar.system.child_environment import child_environment
from coinjar.system.files import display_path, read_file
from coinjar.system.memory_files import private_file


class ClusterAccess(NamedTuple):
    """A cluster's address and credentials."""

    address: str
    namespace: str
    headers: dict[str, str]
    secret: str
    verify: ssl.SSLContext | bool


def default_path() -> Path:
    """Return the path in KUBECONFIG (its first file), else ~/.kube/config, as kubectl does."""
    message = os.environ.get("KUBECONFIG", "").split(os.pathsep)[0]
    return Path(message) if message else Path.home() / ".kube" / "config"


def read_access(path: Path, context: str) -> ClusterAccess:
    """Return the access of a kubeconfig's context ("": its current one). Raises InputError."""
    location = Location(display_path(path))
    try:
        data = load_plain(read_file(path), display_path(path))
    except OSError as fault:
        message = f"cannot read the kubeconfig: {(fault.strerror or '').lower()}"
        raise InputError(
            message, hint="name it under kubeconfig:, or in KUBECONFIG", location=location, code="kubeconfig"
        ) from None
    try:
        name = context or data["current-context"]
        chosen = _named(data["contexts"], name, "context")
        cluster = _named(data["clusters"], chosen["cluster"], "cluster")
        user = _named(data.get("users") or [], chosen["user"], "user") if chosen.get("user") else {}
        token = _token(user, path)
        verify = _verify(cluster, user, path)
        return ClusterAccess(
            cluster["server"],
            chosen.get("namespace") or "default",
            {"Authorization": f"Bearer {token}"} if token else {},
            token,
            verify,
        )
    except (KeyError, TypeError, AttributeError) as fault:
        message = f"the kubeconfig has no {fault}" if isinstance(fault, KeyError) else "this is not a kubeconfig"
        raise InputError(
            message, hint="name another context:, or see `kubectl config view`", location=location, code="kubeconfig"
        ) from None
    except (OSError, ValueError) as fault:  # a certificate, a key or a token's file, or its inline data
        message = (
            f"the kubeconfig's credentials cannot be read: {getattr(fault, 'strerror', None) or type(fault).__name__}"
        )
        raise InputError(
            message, hint="check that kubectl works with it", location=location, code="kubeconfig"
        ) from None


def named_programs(data: bytes) -> list[list[str]]:
    """Return the programs that provide tokens in a kubeconfig. A file that is not a kubeconfig names none."""
    return [
        [str(program.get("command", "")), *map(str, program.get("args") or [])]
        for user in _users(data)
        if isinstance(program := user.get("exec"), dict)
    ]


def named_files(data: bytes) -> list[str]:
    """Return the files that a kubeconfig's users and clusters name."""
    return [
        str(part[key])
        for part in [*_users(data), *_parts(data, "clusters", "cluster")]
        for key in ("tokenFile", "client-certificate", "client-key", "certificate-authority")
        if part.get(key)
    ]


def _users(data: bytes) -> list[dict[str, Any]]:
    return _parts(data, "users", "user")


def _parts(data: bytes, key: str, inner: str) -> list[dict[str, Any]]:
    try:
        loaded = load_plain(data, "kubeconfig")
        return [item[inner] for item in loaded[key] if isinstance(item[inner], dict)]
    except (InputError, KeyError, TypeError):
        return []  # the command that uses it reports the fault


def _named(entries: list[dict[str, Any]], name: str, key: str) -> dict[str, Any]:
    for entry in entries:
        if entry["name"] == name:
            result: dict[str, Any] = entry[key]
            return result
    raise KeyError(f"{key} '{name}'")


def _data(part: dict[str, Any], key: str, path: Path) -> bytes | None:
    if part.get(f"{key}-data"):
        return b64decode(part[f"{key}-data"])
    return read_file(path.parent / part[key]) if part.get(key) else None


def _token(user: dict[str, Any], path: Path) -> str:
    if user.get("token"):
        return str(user["token"])
    if user.get("tokenFile"):
        return read_file(path.parent / str(user["tokenFile"])).decode().strip()
    if user.get("exec"):
        return _from_program(user["exec"], path)
    return ""


def _from_program(messages: dict[str, Any], path: Path) -> str:
    """Return the token of a credential plugin (client.authentication.k8s.io): the user's own kubeconfig names the
    program.
    """
    env = child_environment() | {item["name"]: item["value"] for item in messages.get("env") or []}
    info = {"kind": "ExecCredential", "apiVersion": messages.get("apiVersion"), "spec": {"interactive": False}}
    env["KUBERNETES_EXEC_INFO"] = json.dumps(info)
    argv = [str(messages["command"]), *map(str, messages.get("args") or [])]
    try:
        # The kubeconfig names the program, as for kubectl; the user consented to it.
        done = subprocess.run(  # noqa: S603
            argv, env=env, stdin=subprocess.DEVNULL, stdout=subprocess.PIPE, check=True, timeout=60
        )
        return str(json.loads(done.stdout)["status"]["token"])
    except (OSError, subprocess.SubprocessError, ValueError, KeyError):
        message = f"the kubeconfig's program {argv[0]} returned no token"
        raise InputError(
            message,
            hint="run it by hand, and check that kubectl works",
            location=Location(display_path(path)),
            code="kubeconfig",
        ) from None


def _verify(cluster: dict[str, Any], user: dict[str, Any], path: Path) -> ssl.SSLContext | bool:
    if not cluster["server"].startswith("https:"):
        return True
    authority = _data(cluster, "certificate-authority", path)
    context = ssl.create_default_context(cadata=authority.decode() if authority else None)
    if cluster.get("insecure-skip-tls-verify"):
        context.check_hostname = False
        context.verify_mode = ssl.CERT_NONE
    certificate, key = _data(user, "client-certificate", path), _data(user, "client-key", path)
    if certificate and key:
        with private_file("client.pem") as file:  # the library reads keys from files only
            file.write_bytes(certificate + b"\n" + key)
            context.load_cert_chain(file)
    return context
