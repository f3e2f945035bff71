"""A variable's other places: ports and build arguments that other files name."""

from __future__ import annotations

import json
from collections.abc import Callable

import pytest

from tests.conftest import Coinjar
from tests.jars import made

pytestmark = pytest.mark.unit

LINKED: dict[str, list[tuple[dict[str, str], str, list[str]]]] = {
    "CJ018": [({"in/a.fill": "x\n"}, "{type: templates, services: [web], from: in, suffix: .fill, to: out}",
        ["in/a.fill:0:0: this template uses no declared name"])],
    "CJ020": [
        ({"Containerfile": f"FROM x\n{'# coinjar: begin'}\n# coinjar: end\nEXPOSE 8081/tcp\n"},
            "{type: containerfile, services: [web], path: Containerfile, plain_only: true}", [(
            "Containerfile:4:1: web exposes 8081, but its PORT is 8080 (jar/jar.yaml:6:31) on dev, prod, "
            "prod-isles"
        )]),
        ({"in/a.fill": "listen [::]:81 ssl;\n${LEVEL}\n"},
            "{type: templates, services: [web], from: in, suffix: .fill, to: out}", [(
            "in/a.fill:1:13: web listens on 81, but its PORT is 8080 (jar/jar.yaml:6:31) on dev, prod, "
            "prod-isles"
        )]),
        ({"k8s/a.yaml": (
            "kind: Pod\nmetadata: {name: web}\nspec:\n  containers:\n  - name: web\n"
            "    ports: [{name: http, containerPort: 80}]\n"
            "    livenessProbe: {httpGet: {port: http}}\n"
        )}, "{type: manifests, from: k8s, to: 'out/{stage}'}",
        ["k8s/a.yaml:6:41: web has the container port 80, but",
            "k8s/a.yaml:7:37: web is probed (livenessProbe) at 80, but"]),
        ({"compose.yaml": "services:\n  web:\n    build: {context: app}\n", "app/Containerfile": "FROM x\nEXPOSE 70\n"},
            (
            "{type: document, path: compose.yaml, plain_only: true, places: {/services/web/environment: "
            "{services: [web], stage: dev}}}"
        ), ["app/Containerfile:2:1: web exposes 70, but"]),
        ({"compose.yaml": "services:\n  web:\n    image: x\n    ports: ['8080:90']\n"}, (
            "{type: document, path: compose.yaml, plain_only: true, places: {/services/web/environment: "
            "{services: [web], stage: dev}}}"
        ), ["compose.yaml:4:13: web is published from port 90, but"]),
    ],
    "CJ021": [
        ({"compose.yaml": (
            "services:\n  web:\n    image: a:${LEVEL}\n"
            "    build: {context: ., args: {RELEASE: '1'}}\n"
        ), "Containerfile": "FROM x\nARG BASE=1\n", ".env": "PORT=1\n"}, (
            "{type: document, path: compose.yaml, plain_only: true, places: {/services/web/environment: "
            "{services: [web], stage: dev}}}"
        ), [
            "compose.yaml:3:14: the Compose file uses LEVEL, which .env does not set (jar/jar.yaml:7:3 declares it)",
            (
                "compose.yaml:4:31: BASE has only its default in web's image: Containerfile:2 declares it, but "
                "the Compose file does not pass it"
            ),
            "compose.yaml:4:31: RELEASE is passed to web's build, but Containerfile does not declare it",
            ".env:1:1: PORT is in the file that only interpolates the Compose file, but compose.yaml does not use it",
        ]),
    ],
}  # fmt: skip


@pytest.mark.parametrize("code", LINKED)
def test_linked_places(jar: Callable[..., Coinjar], code: str) -> None:
    for files, destination, expected in LINKED[code]:
        cj = made(jar, f"  d: {destination}\n")
        if code == "CJ021":
            cj.write(
                {
                    "jar/jar.yaml": cj.read("jar/jar.yaml").replace(
                        "destinations:",
                        (
                            "  BASE: {phase: build, services: [web]}\n"
                            "  RELEASE: {phase: both, services: [web]}\ndestinations:"
                        ),
                    )
                }
            )
        cj.write(files)
        result = [
            finding
            for finding in json.loads(cj("check", "--json", code=None).out)["findings"]
            if finding["rule"] == code
        ]
        messages = [f"{item['file']}:{item['line']}:{item['column']}: {item['message']}" for item in result]
        assert len(messages) == len(expected), messages
        for line in expected:
            assert any(row.startswith(line) for row in messages), (line, messages)
        for name in files:
            (cj.folder / name).unlink()


def test_ports_in_what_is_listed_as_code(jar: Callable[..., Coinjar]) -> None:
    """Containerfiles, Compose files and scripts that no destination knows say another port than the jar."""
    cj = jar(
        "services: {web: {code: [app]}, api: {code: [api]}}\nstages: {dev: {}, prod: {}}\n"
        "variables: {PORT: {kind: port, default: 8080}}\ncode: {paths: [ops]}\n"
    )
    cj.write(
        {
            "app/Containerfile": "FROM x\nEXPOSE 8081\n",
            "api/Containerfile": "FROM x\nEXPOSE 8080/tcp\n",
            "app/run.sh": (
                "#!/bin/sh\npodman run --rm \\\n  -p 127.0.0.1:80:8082 \\\n  web\nmkdir -p 8099\nssh -p 2222 host\n"
            ),
            "ops/compose.yaml": (
                "services:\n  api: {image: x, ports: ['80:8083']}\n  other: {image: y, ports: ['1:1']}\n"
            ),
        }
    )
    for _ in range(2):
        message = cj("check", code=None).out
        for line in (
            "app/Containerfile:2:1: warning CJ020: web exposes 8081, but its PORT is 8080",
            "app/run.sh:3:19: warning CJ020: web is published by a script from port 8082, but its PORT is 8080",
            "ops/compose.yaml:2:27: warning CJ020: api is published from port 8083, but its PORT is 8080",
        ):
            assert line in message
        assert message.count("CJ020") == 3


LISTENING = {
    "a.js": (
        "app.listen(3001);\nserver.listen({ host, port: 3002 });\napp.listen(process.env.PORT || 3000);\n"
        "// x.listen(9999)\n"
    ),
    "b.ts": "await app.listen(PORT);\nBun.serve({ port: 3003, fetch });\n",
    "c.py": (
        "app.run(host='0.0.0.0',\n        port=5001)\nsock.listen(128)\nsock.bind(('', 5002))\n"
        "uvicorn.run(app, port=int(x))\n"
        "# run(port=9)\n"
    ),
    "d.go": 'http.ListenAndServe(":8001", nil)\nl, _ := net.Listen("tcp", "[::1]:8002")\nhttp.Get("http://x:99")\n',
    "e.rs": 'TcpListener::bind("0.0.0.0:7001").await;\nServer::bind(&SocketAddr::from(([0, 0, 0, 0], 7002)));\n',
    "F.java": "new ServerSocket(6001);\nHttpServer.create(new InetSocketAddress(6002), 0);\nint x = get(6003);\n",
    "g.rb": "set :port, 4001\nport ENV.fetch('PORT') { 3000 }\n",
    "H.cs": 'app.Run("http://*:4101");\nk.ListenAnyIP(4102);\n',
}  # fmt: skip


def test_code_that_listens_on_a_literal_port(jar: Callable[..., Coinjar]) -> None:
    """The variable has no effect there, also where both say the same, or a platform supplies it; both places are
    named. What reads the variable, is a comment, or is another number, is none.
    """
    for declared in ("default: 3001", "supplied: {by: [salt]}"):
        cj = jar(
            "services: {web: {code: [src]}, other: {code: [lib]}}\nstages: {dev: {}, prod: {}}\n"
            f"variables: {{PORT: {{kind: port, {declared}}}}}\n"
            "destinations:\n  salt: {type: platform, platform: saltmarsh, address: 'http://127.0.0.1:1', "
            "app: 'x-{service}-{stage}', token: {from_env: SALT}}\n"
        )
        cj.write({f"src/{name}": text for name, text in LISTENING.items()} | {"lib/z.js": "x\n"})
        findings = json.loads(cj("check", "--json", code=None).out)["findings"]
        found = {(item["file"], item["message"].split(",")[0]) for item in findings if item["rule"] == "CJ020"}
        wanted = {
            "a.js": (3001, 3002), "b.ts": (3003,), "c.py": (5001, 5002), "d.go": (8001, 8002), "e.rs": (7001, 7002),
            "F.java": (6001, 6002), "g.rb": (4001,), "H.cs": (4101, 4102),
        }  # fmt: skip
        assert found == {(f"src/{name}", f"web listens on {port}") for name, ports in wanted.items() for port in ports}
        words = "web listens on 3001, whatever the value of its PORT is (jar/jar.yaml:5:13) on dev, prod"
        assert any(item["message"].startswith(words[:50]) for item in findings), findings
