"""Mutate samples of everything that Coin Jar reads from others, for a bounded time: each reader either reads a text or
raises an error of its own, within a second.

`make fuzz` runs it; `python tools/fuzz.py 60 yaml` runs one target for 60 s. The input of a failure is written to
`fuzz-TARGET.bin`.
"""

from __future__ import annotations

import random
import sys
import time
from collections.abc import Callable, Iterator
from importlib.resources import files
from pathlib import Path

from coinjar.core.errors import CoinJarError
from coinjar.core.redaction import Redactor
from coinjar.core.references import parse_template
from coinjar.crypto.sealed_file import parse
from coinjar.destinations.bundle import read_bundle
from coinjar.destinations.live.kubeconfig import named_files, named_programs
from coinjar.destinations.workloads import every_entry_of
from coinjar.dialects import dialect_names, get
from coinjar.documents.tree import build_trees
from coinjar.documents.yamltext import compose, load_plain
from coinjar.jarfile.declarations import read_declarations
from coinjar.jarfile.load import read_plain
from coinjar.jarfile.readers import read_readers
from coinjar.mentions.languages import LANGUAGES, SourceLanguage, look
from coinjar.platforms.description_reader import read_description

SLOWEST = 2.0
"""Seconds that one input may take."""
JAR = b"""coinjar: 1
app: pier
services: {web: {}, mailer: {about: mails}}
stages: {dev: {}, prod: {follows: dev, guarded: true}, trial-*: {follows: dev}}
sets: {all-of-it: [web, mailer]}
variables:
  PORT: {kind: port, default: 8080, services: [web]}
  TOKEN: {secret: true, generate: {length: 24}}
  URL: {default: {text: "https://${HOST:-x}:${PORT@url}/${TOKEN}"}}
  HOST: {pattern: "[a-z.]+", required: true, only_with: [PORT=8080]}
  RUN: {default: {command: [echo, hi], may_be_empty: true}}
together: {pair: [HOST, PORT]}
accepted: [{rule: CJ014, variable: HOST, reason: made up}]
destinations:
  env: {type: file, as: dotenv, path: "{stage}.{service}.env", variables: ["P*"], without: [URL]}
  app: {type: platform, platform: saltmarsh, address: "http://127.0.0.1:1", app: x, token: {from_env: T}}
  box: {type: host, hosts: {prod: ["a@b:22"]}, path: "/x/{service}", reload: ["true"]}
proofs:
  up: {service: web, http: "http://${HOST}/", at: /a/b, expect: "${PORT}"}
records: {address: "postgresql://a@b/c", password: {from_env: P}}
code: {paths: [src], helpers: [settings]}
"""
PLAIN = b"all: &a\n  PORT: 1\n  HOST: {text: 'x${PORT}'}\nweb:\n  URL: {unset: true}\n  RUN: {file: a, base64: true}\n"
ENV = b"# made up\nexport A='one two'\nB=\"x\\n$A\"\nC=${D:-e}\nF=line \\\n  more\nG.h: i\n\xc3\xa9=1\r\nJ=\n"
CODE = (
    b"import os\nA = os.environ.get('A', \"b\")\nprocess.env.C ?? 'd'\nexport E=${F:-g}\n"
    b'System.getenv("H")\n{{ env.I }}\nENV J=$K\n'
)
MANIFEST = b"""apiVersion: apps/v1
kind: Deployment
metadata: {name: web, labels: &l {app: web}}
spec:
  template:
    metadata: {labels: *l}
    spec:
      containers:
      - {name: web, image: x, env: [{name: A, value: "$(B)"}, {name: C, valueFrom: {secretKeyRef: {name: d, key: e}}}]}
---
apiVersion: v1
kind: ConfigMap
metadata: {name: c}
data: {A: "1"}
"""
KUBECONFIG = b"""current-context: c
contexts: [{name: c, context: {cluster: c, user: u}}]
clusters: [{name: c, cluster: {server: "https://x", certificate-authority: ca.pem}}]
users: [{name: u, user: {exec: {command: x, args: [a, b], env: [{name: A, value: b}]}, tokenFile: /t}}]
"""
BUNDLE = b'{"process": {"env": ["A=b", "C=d e"], "args": []}, "x": [1, 2.5e3, null, true, "\\u00e9"]}'
READERS = (
    b"readers:\n  anna: {opens: [dev, prod], recipient: age1x}\n  ci: {opens: [dev], service: web, recipient: age1y}\n"
    b"vouched:\n  dev.all: " + b"0" * 64 + b"\n"
)
SEALED = b"# coins 1\n\n# A\nall A 0123abcd AAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAA\n"
DECLARED = read_declarations(JAR, "jar.yaml")
TOKENS = [
    *(
        sign.encode()
        for sign in "&a ~*a~<<: ~{~}~[~]~: ~- ~'~$~${~$(~#~!~!!~>-~---~...~%~@~`~=~==~,~0x~1e999".split("~")
    ),
    *(sign.encode() for sign in 'null ? E\n /* */ {{ }} {% " \\ \\u \\x'.split(" ")),
    *(b"\n", b"\r\n", b"\t", b"|\n", b"<<'E'\n", b"~", b"\x00", b"\xff"),
    *(b"\xef\xbb\xbf", b"\xe2\x80\xae", b"\xf0\x9f\x8e\xab", b"9" * 400, b" " * 300, b"a" * 300, b"(" * 8, b"[" * 8),
]
"""What has a meaning in one of the formats."""


def _dialect(name: str) -> Callable[[bytes], object]:
    dialect = get(name)

    def read(data: bytes) -> object:
        return dialect.read(data, "x") if dialect.reads else None

    return read


def _reader(language: SourceLanguage) -> Callable[[bytes], object]:
    def read(data: bytes) -> object:
        try:
            return look(language, data, always=True)
        except RecursionError:
            return None  # the search reports the file as nested too deeply

    return read


def _masked(data: bytes) -> str:
    return Redactor({"made-up-secret": "S"}).excerpt(data.decode(errors="replace"))


def targets() -> dict[str, tuple[list[bytes], Callable[[bytes], object]]]:
    """Return every reader with its samples."""
    folder = files("coinjar.platforms") / "shipped"
    shipped = [path.read_bytes() for path in folder.iterdir() if path.name.endswith(".yaml")]
    result: dict[str, tuple[list[bytes], Callable[[bytes], object]]] = {
        "yaml": ([JAR, PLAIN, MANIFEST], lambda data: compose(data, "x")),
        "plain yaml": ([JAR, MANIFEST, KUBECONFIG], lambda data: load_plain(data, "x")),
        "trees": ([JAR, PLAIN, MANIFEST], lambda data: build_trees(data, "x")),
        "jar.yaml": ([JAR], lambda data: read_declarations(data, "x")),
        "values": ([PLAIN], lambda data: read_plain(DECLARED, data, "x")),
        "readers.yaml": ([READERS], lambda data: read_readers(data, "x")),
        "sealed values": ([SEALED], lambda data: parse(data, "x")),
        "platforms": (shipped, lambda data: read_description(data, "x", "x")),
        "kubeconfig": ([KUBECONFIG], lambda data: (named_programs(data), named_files(data))),
        "manifests": ([MANIFEST], lambda data: every_entry_of(data, "x")),
        "bundle": ([BUNDLE], lambda data: read_bundle(data, "x")),
        "references": ([b"a${B:-${C@url}}$$d", b"${A:?no}"], lambda data: parse_template(data.decode("latin-1"))),
        "redaction": ([ENV, BUNDLE], _masked),
    }
    result |= {f"dialect {name}": ([ENV, PLAIN, BUNDLE], _dialect(name)) for name in dialect_names()}
    return result | {f"code {language.ends[0]}": ([CODE, ENV, MANIFEST], _reader(language)) for language in LANGUAGES}


def _mutated(chance: random.Random, samples: list[bytes]) -> bytes:
    data = bytearray(chance.choice(samples))
    for _ in range(chance.randint(1, 8)):
        at = chance.randrange(len(data) + 1)
        match chance.randrange(6):
            case 0:
                data[at:at] = chance.choice(TOKENS)
            case 1:
                del data[at : at + chance.randint(1, 20)]
            case 2 if data:
                data[min(at, len(data) - 1)] = chance.randrange(256)
            case 3:
                other = chance.choice(samples)
                start = chance.randrange(len(other))
                data[at:at] = other[start : start + chance.randint(1, 60)]
            case 4:
                data[at:at] = data[max(at - chance.randint(1, 40), 0) : at] * chance.randint(1, 30)
            case _:
                data[at:at] = chance.choice(TOKENS) * chance.randint(1, 40)
    return bytes(data)


def _failures(
    name: str, samples: list[bytes], read: Callable[[bytes], object], seconds: float, seed: int
) -> Iterator[str]:
    chance = random.Random(f"{name} {seed}")  # noqa: S311 - it only has to be the same again
    end = time.monotonic() + seconds
    number = 0
    while time.monotonic() < end:
        data = _mutated(chance, samples)
        number += 1
        started = time.monotonic()
        try:
            read(data)
        except CoinJarError:
            pass
        except Exception as fault:  # noqa: BLE001 - whatever it is, it is what we look for
            Path(f"fuzz-{name.replace(' ', '-')}.bin").write_bytes(data)
            yield f"{name}: {type(fault).__name__}: {fault} after {number} inputs"
            return
        if time.monotonic() - started > SLOWEST:
            Path(f"fuzz-{name.replace(' ', '-')}.bin").write_bytes(data)
            yield f"{name}: took {time.monotonic() - started:.1f} s"
            return
    print(f"{name}: {number} inputs")


def main() -> int:
    """Run the targets; the arguments are the seconds in all, and names of targets."""
    seconds = float(sys.argv[1]) if len(sys.argv) > 1 else 120.0
    wanted = {name: target for name, target in targets().items() if not sys.argv[2:] or name in sys.argv[2:]}
    seed = int(time.time())
    print(f"seed {seed}, {len(wanted)} targets")
    found = [
        failure
        for name, (samples, read) in wanted.items()
        for failure in _failures(name, samples, read, seconds / len(wanted), seed)
    ]
    print("\n".join(found) or "nothing found")
    return 1 if found else 0


if __name__ == "__main__":
    sys.exit(main())
