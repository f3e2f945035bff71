"""`type: etcd`: one key per variable, all of a delivery in one transaction that fails if somebody else wrote
meanwhile.
"""

from __future__ import annotations

from base64 import b64decode, b64encode
from collections.abc import Mapping, Sequence
from typing import Any

from coinjar.core.consent import Act
from coinjar.core.delivery import GONE, DeliveryChange, LiveValue
from coinjar.core.layers import Resolver
from coinjar.core.model import Destination
from coinjar.core.secret import reveal
from coinjar.destinations.live.base import LiveDestination, Target, unreadable
from coinjar.destinations.live.declared_acts import contact, setting_words
from coinjar.destinations.live.http import HttpClient, Request
from coinjar.destinations.live.tokens import read_token
from coinjar.destinations.options import CREDENTIAL, Option
from coinjar.destinations.stage_view import RenderContext, StageView
from coinjar.documents.field_reader import FieldReader

MOST_OPERATIONS = 128
"""Maximum operations of one etcd transaction (default of --max-txn-ops)."""


def _code(text: str) -> str:
    return b64encode(text.encode("utf-8", "surrogatepass")).decode()


def _text(code: str) -> str:
    return b64decode(code).decode("utf-8", "surrogateescape")


class EtcdClient:
    """A client of etcd's JSON gateway."""

    def __init__(self, client: HttpClient, login: dict[str, str] | None) -> None:
        self.client = client
        self._login = login
        self._headers: dict[str, str] | None = None

    async def call(self, path: str, body: Any, *, repeat: bool = True) -> Any:  # noqa: ANN401 - JSON
        """Send a call; sign in before the first."""
        if self._headers is None:
            self._headers = {}
            if self._login:
                answer = await self.client.send(Request("POST", "/v3/auth/authenticate", self._login))
                self._headers = {"Authorization": answer.data["token"]}
        return (await self.client.send(Request("POST", path, body, repeat, self._headers))).data

    async def below(self, prefix: str) -> list[tuple[str, str, str]]:
        """Return every key below a prefix: the rest of its name, its text, its revision."""
        last = prefix[:-1] + chr(ord(prefix[-1]) + 1)
        result = await self.call("/v3/kv/range", {"key": _code(prefix), "range_end": _code(last)})
        return [
            (_text(item["key"])[len(prefix) :], _text(item.get("value", "")), str(item["mod_revision"]))
            for item in result.get("kvs", [])
        ]

    async def one(self, key: str) -> str | None:
        """Return one key's text; None if there is none."""
        result = (await self.call("/v3/kv/range", {"key": _code(key)})).get("kvs", [])
        return _text(result[0].get("value", "")) if result else None


class EtcdDestination(LiveDestination):
    """`address`, `prefix`; `user` and `password` where required."""

    declared: Mapping[str, Option] = {
        "address": Option("The address, or {from_env: NAME}.", {"type": ["string", "object"]}, needed=True),
        "prefix": Option("The prefix of the keys.", {"type": "string", "pattern": "/$"}, needed=True),
        "user": Option("The user name."),
        "password": Option("The password.", CREDENTIAL),
    }

    def __init__(self, destination: Destination, render_context: RenderContext, fields: FieldReader) -> None:
        super().__init__(destination, render_context, fields)
        self.prefix = self.pattern("prefix")
        self.password = read_token(self, "password")
        if self.prefix and not self.prefix.endswith("/"):
            fields.fault(
                self.options["prefix"],
                "'prefix' does not end with '/'",
                "end it with '/': otherwise it would match its neighbours",
                "destination",
            )

    async def stored_value(self, key: str, resolver: Resolver) -> str | None:
        """Return the text under a key; None if there is none. Raises ExternalError."""
        store = self.store(resolver)
        async with store.client:
            return await store.one(key)

    def store(self, resolver: Resolver, hidden: Sequence[str] = ()) -> EtcdClient:
        """Return the client, signed in at the first call."""
        password = self.password.text(resolver) if self.password else None
        secrets = [*hidden, *([password] if password else [])]
        client = HttpClient(
            self.text("address"),
            {},
            self.destination.name,
            self.destination.location,
            hidden=secrets,
            transport=self.render_context.transport,
        )
        return EtcdClient(client, {"name": self.text("user"), "password": reveal(password)} if password else None)

    def acts(self) -> list[Act]:
        user = self.text("user")
        signs_in = f"as {user}, with {setting_words(self.options.get('password'), 'password')}" if self.password else ""
        return [contact(self, setting_words(self.options.get("address"), "address"), signs_in)]

    @property
    def takes_shared(self) -> bool:
        return "{stage}" not in self.prefix

    def targets(self, view: StageView) -> list[Target]:
        if "{service}" in self.prefix:
            return [EtcdTarget(self, view, [service], service) for service in view.services()]
        return [EtcdTarget(self, view, view.services(), "")]


class EtcdTarget(Target):
    """The keys below one prefix."""

    needs_restart = False

    def __init__(self, etcd: EtcdDestination, view: StageView, services: Sequence[str], own: str) -> None:
        self.prefix = etcd.fill_there(etcd.prefix, view.stage, own)
        desired_values = etcd.wanted_of(view, own) if own else etcd.wanted_together(view)
        super().__init__(
            own, f"{etcd.destination.name} ({self.prefix})", services, desired_values, etcd.destination.location
        )
        self.render_context = etcd.render_context
        self.made = etcd
        self.view = view
        self._store: EtcdClient | None = None

    @property
    def store(self) -> EtcdClient:
        """The client; created with the first call."""
        if self._store is None:
            secrets = [desired.text for desired in self.desired_values.values() if desired.secret]
            self._store = self.made.store(self.view.resolver, secrets)
        return self._store

    async def identity(self) -> str:
        result = await self.store.call("/v3/maintenance/status", {})
        return f"cluster {result['header']['cluster_id']} {self.prefix}"

    async def read(self) -> dict[str, LiveValue]:
        below = await self.store.below(self.prefix)
        return {
            name: LiveValue(name, text, self.render_context.is_secret(name, text), version=mark)
            for name, text, mark in below
            if "/" not in name
        }

    def _operations(
        self, changes: Sequence[DeliveryChange], *, shown: bool
    ) -> list[tuple[str, dict[str, Any], dict[str, Any]]]:
        """Yield each change: in words, the condition under which it is made, and the operation."""
        result = []
        for change in changes:
            key = self.prefix + change.name
            value = "••••" if shown and change.secret else reveal(change.new or "")
            condition = {
                "key": _code(key),
                "target": "MOD",
                "mod_revision": change.live.version if change.live else "0",
            }
            if change.action == GONE:
                result.append((f"delete {key}", condition, {"request_delete_range": {"key": _code(key)}}))
            else:
                result.append(
                    (f"put {key} = {value}", condition, {"request_put": {"key": _code(key), "value": _code(value)}})
                )
        return result

    def steps(self, changes: Sequence[DeliveryChange], live: Mapping[str, LiveValue]) -> list[str]:
        del live
        name = f"POST {self.store.client.address}/v3/kv/txn"
        return [
            name,
            *(f"  {words}, if it was not written since" for words, _, _ in self._operations(changes, shown=True)),
        ]

    async def write(self, changes: Sequence[DeliveryChange], live: Mapping[str, LiveValue]) -> None:
        del live
        operations = self._operations(changes, shown=False)
        if len(operations) > MOST_OPERATIONS:
            self.notes.add(f"{len(operations)} changes exceed one transaction: they were made in several")
        for start in range(0, len(operations), MOST_OPERATIONS):
            self.before_write()
            some = operations[start : start + MOST_OPERATIONS]
            body = {"compare": [condition for _, condition, _ in some], "success": [asked for _, _, asked in some]}
            done = await self.store.call("/v3/kv/txn", body, repeat=False)
            if not done.get("succeeded"):
                raise unreadable(
                    self,
                    "somebody else wrote there at the same time, and nothing was changed",
                    "run it again: it checks first",
                    code="raced",
                )

    def restart_words(self) -> str:
        return ""

    async def restart(self) -> None:
        """Do nothing: clients of etcd see a change without a restart."""

    async def close(self) -> None:
        if self._store is not None:
            await self._store.client.close()
