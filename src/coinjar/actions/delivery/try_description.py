"""Try a platform's description: against its own examples, without any network, or read-only against the service."""

from __future__ import annotations

import json
import tempfile
from collections.abc import Sequence
from pathlib import Path
from typing import NamedTuple
from urllib.parse import parse_qsl, urlsplit

from coinjar.actions.open_jar import OpenJar, open_jar
from coinjar.core.consent import Act
from coinjar.core.delivery import CHANGED, GONE, NEW, DeliveryChange, DesiredValue, LiveValue
from coinjar.core.display import Masker
from coinjar.core.errors import CoinJarError, InputError, Location
from coinjar.core.secret import reveal
from coinjar.destinations import connected
from coinjar.destinations.live.connections import HttpAnswer, SentRequest, Transport
from coinjar.destinations.live.platform import PlatformDestination
from coinjar.destinations.live.platform_target import PlatformTarget
from coinjar.destinations.stage_view import RenderContext, StageView
from coinjar.documents.writer import ScalarWriter
from coinjar.platforms.description import PlatformDescription
from coinjar.platforms.requests import ExampleAnswer, Examples, RequestTemplate

_SERVICE = "web"
_ADDRESS = "https://service.example"


class PartTried(NamedTuple):
    """A part of a description, and what came of it; `outcome` is "" for one that was not exercised."""

    part: str
    outcome: str


class TryResult(NamedTuple):
    """The parts of a description in order, and why it stopped, if it did."""

    parts: list[PartTried]
    fault: CoinJarError | None = None


class _Accepting:
    """A gate for a service that is not there: nothing is contacted."""

    def require(self, *acts: Act) -> None:
        """Return."""

    def has_consent(self, act: Act) -> bool:
        """Return yes."""
        del act
        return True

    def record(self, *acts: Act) -> None:
        """Store nothing."""


async def try_examples(description: PlatformDescription, data: bytes) -> TryResult:
    """Identify, list and write as the examples say; `data` is the description's text.

    Raises InputError for a description without examples.
    """
    examples = description.examples
    if examples is None:
        raise InputError(
            "the description has no examples to try",
            hint="add examples: as `coinjar help descriptions` shows, or try it online with --online STAGE",
            location=description.location,
            code="platform",
        )
    with tempfile.TemporaryDirectory(prefix="coinjar-try-") as folder:
        opened = _example_jar(Path(folder), description, data, examples)
        jar = opened.load([examples.stage])
        context = RenderContext(
            jar, opened.folder, Masker(), None, _Accepting(), transport=_service(examples, description.location)
        )
        instance = connected(jar.destination("tried"), context)
        assert isinstance(instance, PlatformDestination)
        (target,) = instance.targets(
            StageView(opened.resolver(examples.stage, jar=jar), jar.destination("tried"), lenient=True)
        )
        assert isinstance(target, PlatformTarget)
        async with target:
            return await _tried(target, examples, description.location)


def _example_jar(folder: Path, description: PlatformDescription, data: bytes, examples: Examples) -> OpenJar:
    """Return a jar in a folder of its own, whose only destination has the settings of the examples."""
    quoted = ScalarWriter().flow
    settings = "".join(f", {name}: {quoted(value)}" for name, value in examples.settings.items())
    has_token = description.token_header or description.signature
    token = ", token: {secret: EXAMPLE_TOKEN}" if has_token else ""
    (folder / "jar/plain").mkdir(parents=True)
    (folder / "jar/platforms").mkdir()
    (folder / "jar/platforms/tried.yaml").write_bytes(data)
    (folder / "jar/jar.yaml").write_text(
        f"coinjar: 1\napp: tried\nservices: {{{_SERVICE}: {{}}}}\nstages: {{{quoted(examples.stage)}: {{}}}}\n"
        "variables: {EXAMPLE_TOKEN: {secret: true, default: example-token}}\n"
        f"destinations:\n  tried: {{type: platform, platform: tried, address: {_ADDRESS}{settings}{token}, "
        "without: [EXAMPLE_TOKEN]}\n"
    )
    return open_jar(folder / "jar")


def _service(examples: Examples, location: Location) -> Transport:
    """Return a transport that answers as the examples say."""

    async def answer(request: SentRequest) -> HttpAnswer:
        content = (request.content or b"").decode()
        path = urlsplit(request.url)._replace(scheme="", netloc="").geturl()
        for example in examples.answers:
            if _fits(example, request.method, path, content):
                body = b"" if example.answer is None else json.dumps(example.answer).encode()
                headers = {name.lower(): text for name, text in example.headers.items()}
                return HttpAnswer(example.status, headers, body)
        shown = f"{request.method} {path}" + (f" with {content}" if content else "")
        raise InputError(
            f"the description sends {shown}, for which there is no example",
            hint="add it to answers: of examples, or correct the description",
            location=location,
            code="no-example",
        )

    return answer


def _fits(example: ExampleAnswer, method: str, path: str, content: str) -> bool:
    if (example.method, example.path) != (method, path):
        return False
    if not example.has_body:
        return True
    try:
        return bool(json.loads(content) == example.body)
    except ValueError:
        return bool(dict(parse_qsl(content, keep_blank_values=True)) == example.body)


async def _tried(target: PlatformTarget, examples: Examples, location: Location) -> TryResult:
    parts: list[PartTried] = []
    try:
        parts.append(PartTried("account", await target.identity()))
        before = len(target.sent)
        live = await target.read()
        parts.append(PartTried("list", _read_words(target, live, before)))
        _compare(live, examples, location)
        if examples.writes:
            changes = [_change(name, value, live.get(name)) for name, value in examples.writes.items()]
            target.desired_values = {
                name: DesiredValue(name, value) for name, value in examples.writes.items() if value is not None
            } | {
                name: DesiredValue(name, reveal(live_value.text))
                for name, live_value in live.items()
                if live_value.text is not None and name not in examples.writes
            }
            await target.write(changes, live)
            parts.append(PartTried("write", f"{len(changes)} changes: {', '.join(_written(target))}"))
        if target.description.state:
            effect = await target.effect()
            parts.append(PartTried("state", "in effect" if effect and effect.in_effect else "pending a restart"))
        if target.description.restart and examples.writes:
            await target.restart()
            parts.append(PartTried("restart", "answered"))
    except CoinJarError as fault:
        return TryResult(_with_the_rest(parts, target.description), fault)
    return TryResult(_with_the_rest(parts, target.description))


def _read_words(target: PlatformTarget, live: dict[str, LiveValue], before: int) -> str:
    hidden = sum(value.text is None for value in live.values())
    pages = len(target.sent) - before
    words = [f"{len(live)} variables in {pages} {'pages' if pages != 1 else 'page'}"]
    return ", ".join(words + ([f"{hidden} not readable"] if hidden else []))


def _compare(live: dict[str, LiveValue], examples: Examples, location: Location) -> None:
    """Raise InputError unless exactly the expected variables were read."""
    wrong = [
        name
        for name in dict.fromkeys([*examples.reads, *live])
        if name not in live or name not in examples.reads or live[name].text != examples.reads[name]
    ]
    if examples.reads and wrong:
        raise InputError(
            f"`list` reads {', '.join(wrong)} differently from the examples",
            hint="correct list:, or reads: of examples",
            location=location,
            code="differs",
        )


def _change(name: str, value: str | None, live: LiveValue | None) -> DeliveryChange:
    old = live.text if live else None
    action = GONE if value is None else NEW if live is None else CHANGED
    return DeliveryChange(name, action, old, value, secret=False, live=live)


def _written(target: PlatformTarget) -> list[str]:
    how = target.description.writing
    ways: dict[str, RequestTemplate | None] = {
        "changes": how.changes,
        "whole": how.whole,
        "batch": how.batch.request if how.batch else None,
        "create": how.create,
        "change": how.change,
        "narrow": how.narrow,
        "remove": how.remove,
    }
    return [name for name, sending in ways.items() if any(sending is sent for sent in target.sent)]


def _with_the_rest(parts: Sequence[PartTried], description: PlatformDescription) -> list[PartTried]:
    """Return the parts, and those of the description that were not exercised."""
    declared = {
        "account": True,
        "list": True,
        "write": True,
        "state": description.state,
        "restart": description.restart,
        "run": description.run,
    }
    tried = {part.part for part in parts}
    return [*parts, *(PartTried(name, "") for name, is_there in declared.items() if is_there and name not in tried)]


async def try_online(opened: OpenJar, name: str, stage: str) -> list[tuple[str, TryResult]]:
    """Identify and list every target of the platform on a stage; nothing is written. Return results by label."""
    jar = opened.load([stage])
    results: list[tuple[str, TryResult]] = []
    context = RenderContext(jar, opened.folder, Masker(), opened.ring, opened.gate)
    for destination in jar.destinations.values():
        platform = destination.options.get("platform")
        if destination.type != "platform" or platform is None or platform.value != name:
            continue
        instance = connected(destination, context)
        for target in instance.targets(StageView(opened.resolver(stage, jar=jar), destination, lenient=True)):
            assert isinstance(target, PlatformTarget)
            async with target:
                results.append((target.label, await _tried(target, Examples(stage=stage), target.origin)))
    if not results:
        raise InputError(
            f"no destination of the jar is a {name} on {stage}",
            hint="declare one, with type: platform and the settings of the description",
            location=Location("jar.yaml"),
            code="unknown-destination",
        )
    return results
