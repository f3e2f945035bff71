"""A kubeconfig file: where a cluster is, and how one signs in."""

from __future__ import annotations

import json
import os
import ssl
import subprocess
from base64 import b64decode
from pathlib import Path
from typing import Any, NamedTuple

import yaml

from coinjar.core.errors import InputError, Location
from coinjar.system.child_environment import child_environment
from coinjar.system.files import display_path
from coinjar.system.memory_files import private_file


class ClusterAccess(NamedTuple):
    """A cluster, ready to be asked."""

    address: str
    namespace: str
    headers: dict[str, str]
    secret: str
    verify: ssl.SSLContext | bool


def default_path() -> Path:
    """KUBECONFIG (its first file), else ~/.kube/config, as kubectl has it."""
    message = os.environ.get("KUBECONFIG", "").split(os.pathsep)[0]
    return Path(message) if message else Path.home() / ".kube" / "config"


def read_access(path: Path, context: str) -> ClusterAccess:
    """What a kubeconfig says of a context ("": its current one). Raises InputError."""
    location = Location(display_path(path))
    try:
        data = yaml.safe_load(path.read_bytes())
    except OSError as fault:
        words = f"cannot read the kubeconfig: {(fault.strerror or '').lower()}"
        raise InputError(
            words, hint="name it under kubeconfig:, or in KUBECONFIG", location=location, code="kubeconfig"
        ) from None
    except yaml.YAMLError:
        raise InputError(
            "the kubeconfig is not YAML", hint="is it the right file?", location=location, code="kubeconfig"
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
        words = f"the kubeconfig has no {fault}" if isinstance(fault, KeyError) else "this is no kubeconfig"
        raise InputError(
            words, hint="name another context:, or look at `kubectl config view`", location=location, code="kubeconfig"
        ) from None
    except (OSError, ValueError) as fault:  # a certificate, a key or a token's file, or what stands in its place
        words = f"what the kubeconfig signs in with cannot be read: {getattr(fault, 'strerror', None) or type(fault).__name__}"
        raise InputError(words, hint="does kubectl get in?", location=location, code="kubeconfig") from None


def _named(entries: list[dict[str, Any]], name: str, key: str) -> dict[str, Any]:
    for entry in entries:
        if entry["name"] == name:
            result: dict[str, Any] = entry[key]
            return result
    raise KeyError(f"{key} '{name}'")


def _data(part: dict[str, Any], key: str, path: Path) -> bytes | None:
    if part.get(f"{key}-data"):
        return b64decode(part[f"{key}-data"])
    return (path.parent / part[key]).read_bytes() if part.get(key) else None


def _token(user: dict[str, Any], path: Path) -> str:
    if user.get("token"):
        return str(user["token"])
    if user.get("tokenFile"):
        return (path.parent / str(user["tokenFile"])).read_text().strip()
    if user.get("exec"):
        return _from_program(user["exec"], path)
    return ""


def _from_program(messages: dict[str, Any], path: Path) -> str:
    """A credential plugin (client.authentication.k8s.io): the user's own kubeconfig says which program to ask."""
    env = child_environment() | {item["name"]: item["value"] for item in messages.get("env") or []}
    info = {"kind": "ExecCredential", "apiVersion": messages.get("apiVersion"), "spec": {"interactive": False}}
    env["KUBERNETES_EXEC_INFO"] = json.dumps(info)
    argv = [str(messages["command"]), *map(str, messages.get("args") or [])]
    try:
        done = subprocess.run(argv, env=env, stdin=subprocess.DEVNULL, stdout=subprocess.PIPE, check=True, timeout=60)  # noqa: S603 - as kubectl does
        return str(json.loads(done.stdout)["status"]["token"])
    except (OSError, subprocess.SubprocessError, ValueError, KeyError):
        words = f"the kubeconfig's program {argv[0]} gave no token"
        raise InputError(
            words, hint="run it by hand; does kubectl get in?", location=Location(display_path(path)), code="kubeconfig"
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
