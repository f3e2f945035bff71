"""How the requests to a platform are authenticated: a token, a user and a password, a fetched token, a signature."""

from __future__ import annotations

import hmac
import time
from base64 import b64encode
from collections.abc import Mapping
from typing import TYPE_CHECKING
from urllib.parse import quote, urlencode

from coinjar.core.errors import InputError
from coinjar.core.secret import Secret, reveal
from coinjar.destinations.live.base import unreadable
from coinjar.destinations.live.http import HttpClient, Request
from coinjar.documents.json_data import resolve_pointer
from coinjar.platforms.requests import Signature, TokenRequest
from coinjar.platforms.templating import fill_body

if TYPE_CHECKING:
    from coinjar.destinations.live.platform_target import PlatformTarget


class PlatformCredentials:
    """Makes the client of a target with its first request. Neither a token nor what is made of it is ever shown."""

    def __init__(self, target: PlatformTarget) -> None:
        self.target = target
        self._client: HttpClient | None = None

    async def close(self) -> None:
        """Close the connections."""
        if self._client is not None:
            await self._client.close()

    async def client(self) -> HttpClient:
        """Return the client. Raises InputError without a token, ExternalError if none can be fetched."""
        if self._client is None:
            self._client = await self._made()
        return self._client

    def redacted(self, text: str) -> str:
        """Return what the platform answered, without secrets, for a message."""
        assert self._client, "it has answered"
        return self._client.redacted(text)

    async def _made(self) -> HttpClient:
        target, description = self.target, self.target.description
        for name in target.made.unset:
            raise InputError(
                f"{target.label}: the environment has no {name}",
                hint=f"set {name} where coinjar runs",
                location=target.origin,
                code="unset",
            )
        secret = target.made.token.text(target.view.resolver) if target.made.token else None
        hidden = [desired.text for desired in target.desired_values.values() if desired.secret]
        if secret is None:
            if description.signature or description.user or description.token_request:
                raise InputError(
                    f"{target.label}: {description.name} requires a credential, and the destination has none",
                    hint="add token: {from_env: NAME}, or {secret: NAME} for one of the jar's secrets",
                    location=target.origin,
                    code="no-token",
                )
            return self._new({}, hidden, None)
        token: str = secret
        if description.token_request:
            token = await self._fetched(description.token_request, secret, hidden)
        elif description.user:
            user = str(fill_body(description.user, target.context))
            token = Secret(b64encode(f"{user}:{reveal(secret)}".encode()).decode())
        headers = {}
        if description.token_header:
            headers[description.token_header] = description.token_text.replace("{token}", reveal(token))
        return self._new(headers, [*hidden, secret, token], secret)

    def _new(self, headers: Mapping[str, str], hidden: list[str], key: str | None) -> HttpClient:
        signature = self.target.description.signature

        def sign(method: str, path: str, body: bytes) -> Mapping[str, str]:
            assert signature
            assert key is not None
            return signed_headers(signature, key, method, path, body)

        return HttpClient(
            self.target.context["address"],
            headers,
            self.target.label,
            self.target.origin,
            hidden=hidden,
            sign=sign if signature and key is not None else None,
            patience=self.target.made.render_context.patience,
            transport=self.target.made.render_context.transport,
        )

    async def _fetched(self, how: TokenRequest, secret: str, hidden: list[str]) -> Secret:
        """Return a token for the client's credentials (RFC 6749, 4.4; 2.3.1 for the header)."""
        target = self.target
        identity = quote(str(fill_body(how.client, target.context)), safe="") + ":" + quote(reveal(secret), safe="")
        form = {"grant_type": "client_credentials"}
        if how.scope:
            form["scope"] = str(fill_body(how.scope, target.context))
        request = Request(
            "POST",
            str(fill_body(how.path, target.context)),
            headers={
                "Authorization": f"Basic {b64encode(identity.encode()).decode()}",
                "Content-Type": "application/x-www-form-urlencoded",
            },
            content=urlencode(form).encode(),
        )
        async with self._new({}, [*hidden, secret], None) as client, target.made.turn():
            token = resolve_pointer((await client.send(request)).data, how.at)
        if not isinstance(token, str) or not token:
            raise unreadable(target, f"the answer to {how.path} has no token at {how.at}", "correct the description")
        return Secret(token)


def signed_headers(signature: Signature, key: str, method: str, path: str, body: bytes) -> dict[str, str]:
    """Return the headers of a signature: an HMAC (RFC 2104) of the text, and the time in seconds that it contains."""
    now = str(int(time.time()))
    parts = {b"{method}": method.encode(), b"{path}": path.encode(), b"{time}": now.encode(), b"{body}": body}
    text = b""
    rest = signature.text.encode()
    while rest:  # from left to right, so that a placeholder inside of a body stays what it is
        at, name = min(((rest.find(name), name) for name in parts if name in rest), default=(len(rest), b""))
        text += rest[:at] + parts.get(name, b"")
        rest = rest[at + len(name) :]
    digest = hmac.digest(reveal(key).encode(), text, signature.algorithm)
    code = digest.hex() if signature.encoding == "hex" else b64encode(digest).decode()
    return {signature.header: code} | ({signature.time_header: now} if signature.time_header else {})
