"""What a jar is to its user, in a few lines: names, values by layer and scope, who wins, and what was delivered where.
It shares no code with the program.
"""

from __future__ import annotations

from dataclasses import dataclass, field

SERVICES = ("web", "worker")
CHAINS = {"dev": ("shared", "dev"), "prod": ("shared", "prod"), "isles": ("shared", "prod", "isles")}
LAYERS = ("shared", "dev", "prod", "isles")
ALL = "all"

Env = dict[str, str]


@dataclass
class Model:
    """`values` maps layer, scope and name to a text, or None for what is unset there."""

    secret: dict[str, bool] = field(default_factory=dict)
    values: dict[tuple[str, str, str], str | None] = field(default_factory=dict)
    also: dict[str, list[str]] = field(default_factory=dict)
    former: dict[str, list[str]] = field(default_factory=dict)
    readers: set[str] = field(default_factory=set)
    delivered: dict[tuple[str, str], Env] = field(default_factory=dict)
    before: dict[str, dict[str, Env]] = field(default_factory=dict)
    moved: set[str] = field(default_factory=set)
    secrets: set[str] = field(default_factory=set)

    # -- looking

    def value(self, stage: str, service: str, name: str) -> str | None:
        """What a service sees: a later layer wins, and within one layer what is written for the service."""
        value = None
        for layer in CHAINS.get(stage, (stage,)):
            for scope in (ALL, service):
                if (layer, scope, name) in self.values:
                    value = self.values[layer, scope, name]
        return value

    def env(self, stage: str, service: str) -> Env:
        """All that a service gets, old names that are still handed out included."""
        result: Env = {}
        for name in self.secret:
            text = self.value(stage, service, name)
            if text is not None:
                result |= dict.fromkeys([name, *self.also.get(name, ())], text)
        return result

    def named(self, *, secret: bool | None = None) -> list[str]:
        return [name for name, is_secret in self.secret.items() if secret in (None, is_secret)]

    def is_old(self, name: str) -> bool:
        """Whether a variable was called so: then no other can be."""
        return any(name in former for former in self.former.values())

    def has(self, layer: str, name: str) -> list[str]:
        """The scopes of a layer that have a value of their own."""
        return [scope for scope in (ALL, *SERVICES) if (layer, scope, name) in self.values]

    # -- changing

    def put(self, layer: str, scope: str, name: str, text: str | None, *, secret: bool) -> None:
        self.secret.setdefault(name, secret)
        self.values[layer, scope, name] = text
        if secret and text is not None:
            self.secrets.add(text)

    def adopt(self, stage: str, name: str, text: str) -> None:
        """A value is brought where any service without one of its own there would see another."""
        own = [] if self.secret.get(name) else self.has(stage, name)
        reached = [service for service in SERVICES if service not in own]
        if (
            name not in self.secret
            or not reached
            or any(self.value(stage, service, name) != text for service in reached)
        ):
            self.put(stage, ALL, name, text, secret=self.secret.get(name, False))

    def drop(self, layer: str, scope: str, name: str) -> bool:
        """Whether there was a value."""
        return self.values.pop((layer, scope, name), self) is not self

    def drop_everywhere(self, name: str) -> None:
        del self.secret[name]
        self.values = {key: text for key, text in self.values.items() if key[2] != name}
        self.also.pop(name, None)
        self.former.pop(name, None)

    def rename(self, old: str, new: str, *, keep_old: bool) -> None:
        self.secret = {new if name == old else name: secret for name, secret in self.secret.items()}
        self.values = {
            (layer, scope, new if name == old else name): text for (layer, scope, name), text in self.values.items()
        }
        self.also[new] = self.also.pop(old, []) + ([old] if keep_old else [])
        self.former[new] = [*self.former.pop(old, []), old]

    def finish(self, name: str, old: str) -> None:
        self.former[name].remove(old)
        self.also[name] = [word for word in self.also[name] if word != old]

    def deliver(self, stage: str) -> None:
        """The first hosting has what the jar has; what it had before is what an undoing brings back."""
        self.before[stage] = {service: dict(self.delivered.get((stage, service), {})) for service in SERVICES}
        self.delivered |= {(stage, service): self.env(stage, service) for service in SERVICES}

    def undo(self, stage: str, service: str) -> None:
        """What that delivery changed is as it was before; all else is as the jar says now."""
        old, new = self.before[stage][service], self.delivered[stage, service]
        same = {name: text for name, text in self.env(stage, service).items() if old.get(name) == new.get(name)}
        self.delivered[stage, service] = same | {name: text for name, text in old.items() if new.get(name) != text}
