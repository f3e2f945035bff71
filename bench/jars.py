"""Jars to measure on."""

from __future__ import annotations

import random
from pathlib import Path

STAGES, SERVICES, VARIABLES, SHARE = 40, 10, 5000, 0.2
KINDS = ["text"] * 6 + ["integer", "boolean", "url", "port"]


def _value(kind: str, number: int) -> str:
    return {
        "text": f"value-{number}",
        "integer": str(number),
        "boolean": "true",
        "url": f"https://a{number}.example/",
        "port": str(1024 + number % 60000),
    }[kind]


def big_jar(folder: Path) -> Path:
    """5,000 variables, 40 stages, 10 services; each stage sets 20 % of the variables, one in five of those for a
    service.
    """
    chance = random.Random(7)  # the same jar at every run
    kinds = [KINDS[number % len(KINDS)] for number in range(VARIABLES)]
    lines = ["coinjar: 1", "app: big", "services:"]
    lines += [f"  service{number}: {{about: Service {number}}}" for number in range(SERVICES)]
    lines += [
        "stages:",
        *(f"  stage{number}: {{{f'follows: stage{number - 1}' if number % 4 else ''}}}" for number in range(STAGES)),
        "variables:",
    ]
    for number, kind in enumerate(kinds):
        lines += [f"  VARIABLE_{number}:", f"    about: What variable {number} is for", f"    kind: {kind}"]
        if number % 20 == 5:
            lines += [f'    default: {{text: "x-${{VARIABLE_{number - 5}:-none}}"}}']
        elif number % 2 == 0:
            lines += [f"    default: {_value(kind, number)}"]
        if number % 10 == 3:
            lines += ["    services: [service1, service2, service3]"]
        if number % 50 == 0:
            lines += ["    required: true"]
    (folder / "jar" / "plain").mkdir(parents=True)
    (folder / "jar" / "jar.yaml").write_text("\n".join(lines) + "\n")
    for stage in ["shared", *(f"stage{number}" for number in range(STAGES))]:
        scopes: dict[str, list[str]] = {"all": []}
        for number in sorted(chance.sample(range(VARIABLES), int(VARIABLES * SHARE))):
            scope = "all" if chance.random() < 0.8 else f"service{chance.randrange(1, 4)}"
            scopes.setdefault(scope, []).append(
                f"  VARIABLE_{number}: {_value(kinds[number], number + chance.randrange(3))}"
            )
        text = "".join(f"{scope}:\n" + "\n".join(values) + "\n" for scope, values in scopes.items())
        (folder / "jar" / "plain" / f"{stage}.yaml").write_text(text)
    return folder / "jar"


def add_destinations(jar: Path) -> None:
    """One destination of each sort to the big jar: env files, settings, templates, a pipeline, a bundle, manifests of
    ten workloads.
    """
    root = jar.parent
    few = ", ".join(f"VARIABLE_{number}" for number in range(0, 400, 2))
    text = """destinations:
  env: {type: file, as: systemd, path: "out/{stage}/{service}.env"}
  json: {type: file, as: json, path: "out/{stage}/{service}.json"}
  settings: {type: file, as: settings, services: [service1], base: settings.json, path: "out/{stage}/settings.json"}
  web: {type: templates, services: [service1], from: web, suffix: .fill, to: "out/{stage}/web"}
  bundle: {type: oci-bundle, services: [service2], stages: [stage3], path: config.json}
  pipeline:
    type: document
    path: pipeline.yaml
    places: {/env: {services: [service1], stage: stage3, variables: [FEW]}}
  k8s: {type: manifests, from: k8s, to: "out/{stage}/k8s"}
""".replace("FEW", few)
    with (jar / "jar.yaml").open("a") as file:
        file.write(text)
    for folder in ("web", "k8s"):
        (root / folder).mkdir()
    (root / "web" / "all.fill").write_text(
        "".join(f"set x{number} ${{VARIABLE_{number}}};\n" for number in range(0, 2000, 2) if number % 10 != 3)
    )
    (root / "config.json").write_text('{"ociVersion": "1.0", "process": {"env": ["PATH=/bin"]}}\n')
    (root / "pipeline.yaml").write_text("env: {}\njobs: []\n")
    for number in range(SERVICES):
        spec = f"{{containers: [{{name: service{number}, image: x, env: [{{name: VARIABLE_0, value: '1'}}]}}]}}"
        pod = f"{{selector: {{matchLabels: {{a: b}}}}, template: {{metadata: {{labels: {{a: b}}}}, spec: {spec}}}}}"
        (root / "k8s" / f"service{number}.yaml").write_text(
            f"apiVersion: apps/v1\nkind: Deployment\nmetadata: {{name: service{number}}}\nspec: {pod}\n"
        )


def sealed_jar(folder: Path, secrets: int) -> None:
    """A stage of so many secrets (still plain), among 50 variables at least; the folder is the jar itself."""
    (folder / "plain").mkdir(parents=True)
    names = [f"VARIABLE_{number}" for number in range(max(secrets, 50))]
    declared = "".join(
        f"  {name}: {{about: What it is for, secret: {str(number < secrets).lower()}}}\n"
        for number, name in enumerate(names)
    )
    (folder / "jar.yaml").write_text(
        f"coinjar: 1\napp: sealed\nservices:\n  web: {{}}\nstages:\n  dev: {{}}\nvariables:\n{declared}"
    )
    values = "".join(f"  {name}: made-up-value-{number}-of-a-usual-length\n" for number, name in enumerate(names))
    (folder / "plain" / "dev.yaml").write_text(f"all:\n{values}")


def small_jar(folder: Path) -> Path:
    """50 variables, one service, one stage."""
    (folder / "jar" / "plain").mkdir(parents=True)
    names = [f"VARIABLE_{number}" for number in range(50)]
    declared = "".join(
        f"  {name}: {{about: What it is for, kind: {KINDS[number % len(KINDS)]}}}\n"
        for number, name in enumerate(names)
    )
    (folder / "jar" / "jar.yaml").write_text(
        f"coinjar: 1\napp: small\nservices:\n  web: {{}}\nstages:\n  dev: {{}}\nvariables:\n{declared}"
    )
    values = "".join(f"  {name}: {_value(KINDS[number % len(KINDS)], number)}\n" for number, name in enumerate(names))
    (folder / "jar" / "plain" / "dev.yaml").write_text(f"all:\n{values}")
    return folder / "jar"


def wide_jar(folder: Path) -> Path:
    """300 services, 8 stages, 1,540 variables: 40 of all services, the others of three each; an env file for each."""
    services, stages, variables = 300, 8, 1540
    lines = ["coinjar: 1", "app: wide", "services:", *(f"  service{number}: {{}}" for number in range(services))]
    lines += ["stages:", *(f"  stage{number}: {{}}" for number in range(stages)), "variables:"]
    for number in range(variables):
        some = ", ".join(f"service{number * factor % services}" for factor in (1, 7, 13))
        limit = f", services: [{some}]" if number >= 40 else ""
        lines.append(f"  NAME_{number}: {{about: What it is for, default: value-{number}{limit}}}")
    lines += ["destinations:", "  env: {type: file, as: literal, path: 'out/{stage}/{service}.env'}"]
    (folder / "jar" / "plain").mkdir(parents=True)
    (folder / "jar" / "jar.yaml").write_text("\n".join(lines) + "\n")
    for stage in range(stages):
        values = "".join(
            f"  NAME_{number}: value-{number}-{stage}\n" for number in range(variables) if (number + stage) % 3 == 0
        )
        (folder / "jar" / "plain" / f"stage{stage}.yaml").write_text(f"all:\n{values}")
    return folder / "jar"
