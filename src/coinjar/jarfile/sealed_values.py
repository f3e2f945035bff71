"""Merge sealed values into a jar's layers: each line of coins/<layer>.coins becomes a value that is decrypted when it
is read.
"""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from typing import TYPE_CHECKING

from coinjar.core.definition import Definition, SealedDefinition, SealedEntry, SealedValue, Undecryptable
from coinjar.core.errors import CoinJarError, DecryptionError, InputError, Location, raise_all
from coinjar.core.model import Jar, Layer
from coinjar.core.names import ALL, suggestion
from coinjar.crypto.sealed_file import parse

if TYPE_CHECKING:
    from coinjar.jarfile.keyring import KeyRing

Ring = Callable[[], "KeyRing"]
"""Returns the keys of the jar; most runs need none, and so import none."""


def merge(jar: Jar, name: str, layer: Layer, data: bytes, file: str, ring: Ring) -> Layer:
    """Return the layer `name` with its sealed values. Raises every line that does not fit the declarations, at once."""
    coins = parse(data, file)
    sealed = {coin.name for coin in coins}
    result: Layer = {
        scope: {name: definition for name, definition in values.items() if name not in sealed}
        for scope, values in layer.items()
    }
    former = {old: variable.name for variable in jar.variables.values() for old in variable.formerly}
    plain = {variable: definition for values in layer.values() for variable, definition in values.items()}
    opener = partial(_open, ring, jar, name, file)
    if sealed.isdisjoint(former) and sealed.isdisjoint(plain) and _all_fit(jar, coins, sealed):
        for scope in dict.fromkeys([coin.scope for coin in coins]):
            result.setdefault(scope, {})
        for coin in coins:
            result[coin.scope][coin.name] = SealedDefinition(opener, coin, file)
        return result
    faults: list[CoinJarError] = []
    lines: dict[tuple[str, str], list[int]] = {}
    for coin in coins:
        lines.setdefault(coin.slot, []).append(coin.line)
    for coin in coins:
        now = former.get(coin.name, coin.name)
        if now is not coin.name and (coin.scope, now) in lines:
            continue  # it has a value under its present name
        if fault := _misfit(jar, coin, file):
            faults.append(fault)
        else:
            doubt = _doubt(coin, file, lines[coin.slot], plain.get(now)) or _unapproved_rename(coin, now, name, file)
            result.setdefault(coin.scope, {})[now] = SealedDefinition(
                partial(_doubtful, doubt) if doubt else opener, coin, file
            )
    raise_all(faults)
    return result


def _all_fit(jar: Jar, coins: list[SealedEntry], names: set[str]) -> bool:
    """Return whether all values are given once, and of secrets and scopes that are declared."""
    variables = jar.variables
    return (
        all(name in variables and variables[name].secret for name in names)
        and {coin.scope for coin in coins} <= {ALL, *jar.services}
        and len({coin[:2] for coin in coins}) == len(coins)
    )


def _open(ring: Ring, jar: Jar, layer: str, file: str, coin: SealedEntry) -> SealedValue:
    return ring().open(jar, layer, coin, file)


def _doubtful(doubt: CoinJarError, _: SealedEntry) -> SealedValue:
    return SealedValue(Undecryptable(doubt))


def _doubt(coin: SealedEntry, file: str, lines: list[int], plain: Definition | None) -> CoinJarError | None:
    """Return why a value is ambiguous: given twice, or in plain text as well."""
    if plain is not None:
        hint = "`coinjar readers seal` resolves it if both are equal; otherwise remove the wrong one"
        return InputError(
            f"{coin.name} is sealed here, but also in plain text at {plain.location}",
            hint=hint,
            location=Location(file, coin.line, 1),
            code="both",
        )
    if len(lines) > 1:
        message = f"{coin.name} is in lines {' and '.join(map(str, lines))} for {coin.scope}: two branches changed it"
        return DecryptionError(
            message,
            hint="take one: `coinjar resolve`, or set the value again",
            location=Location(file, coin.line, 1),
            code="tampered",
        )
    return None


def _unapproved_rename(coin: SealedEntry, now: str, layer: str, file: str) -> DecryptionError | None:
    """Return why a value under an earlier name is not read: whoever can write `formerly:` must not choose which secret
    a service gets under which name. A reader approves a rename by encrypting the value under the new name.
    """
    if now == coin.name:
        return None
    return DecryptionError(
        f"the value of {now} on {layer} is still encrypted under its earlier name {coin.name}",
        hint=f"somebody who can decrypt {layer} approves the rename: `coinjar rename {coin.name} {now}`",
        location=Location(file, coin.line, 1),
        code="renamed",
    )


def _misfit(jar: Jar, coin: SealedEntry, file: str) -> InputError | None:
    declared = jar.variables.get(coin.name) or next(
        (variable for variable in jar.variables.values() if coin.name in variable.formerly), None
    )
    if declared is not None and declared.secret and (coin.scope == ALL or coin.scope in jar.services):
        return None  # by far the most
    location = Location(file, coin.line, 1)
    if declared is None:
        hint = suggestion(coin.name, jar.variables, "declare it in jar.yaml with secret: true, or remove the line")
        return InputError(
            f"{coin.name} is sealed here, but not declared",
            hint=hint,
            location=location,
            code="unknown-variable",
            subject=coin.name,
        )
    if not declared.secret:
        return InputError(
            f"{coin.name} is sealed here, but not declared as a secret",
            hint="add secret: true in jar.yaml",
            location=location,
            code="not-secret",
        )
    hint = suggestion(coin.scope, [ALL, *jar.services], f"the services are {', '.join(jar.services)}")
    return InputError(f"there is no service '{coin.scope}'", hint=hint, location=location, code="unknown-service")
