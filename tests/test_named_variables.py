"""Names of variables in a destination: `variables`, `without`, and those of its places."""

from __future__ import annotations

from collections.abc import Callable

import pytest

from tests.conftest import Coinjar


def test_names_of_nothing_in_a_destination(jar: Callable[..., Coinjar], cj: Coinjar) -> None:
    """Under `without` one that is misspelled would write what must not be written."""
    jar(
        "services: {web: {}}\nstages: {dev: {}}\nvariables: {LEVEL: {default: info}, MAIL_HOST: {default: h}}\n"
        "destinations:\n  env: {type: file, as: dotenv, path: x.env, variables: [LEVEL, MIAL_HOST, 'MAIL_*', 'X_*'],\n"
        "    without: [MAIL_HSOT]}\n"
    )
    for command in (["check"], ["render", "dev"]):
        done = cj(*command, code=None)
        assert done.code == (1 if command == ["check"] else 3), done
        for name, key in (("MIAL_HOST", "variables"), ("MAIL_HSOT", "without")):
            assert f"'{name}' in {key} of env is not declared\n    did you mean 'MAIL_HOST'?" in done.out + done.err
        assert "'X_*'" not in done.out + done.err  # of such variables there are none yet
    assert not (cj.folder / "x.env").exists()
    text = cj.read("jar/jar.yaml")
    cj.write({"jar/jar.yaml": text.replace(" MIAL_HOST,", "").replace("HSOT", "HOST")})
    cj("render", "dev")
    assert cj.read("x.env").endswith("LEVEL=info\n")
    cj.write({"conf.yaml": "web: {}\n", "jar/jar.yaml": cj.read("jar/jar.yaml") + (
        "  conf: {type: document, path: conf.yaml, form: map, places:\n"
        "    {/web: {stage: dev, variables: [LEVLE], without: [MAIL]}}}\n"
    )})  # fmt: skip
    faults = cj("check", code=1).out
    assert "'LEVLE' in variables is not declared\n    did you mean 'LEVEL'?" in faults
    assert "'MAIL' in without is not declared" in faults
    cj.write({"jar/jar.yaml": cj.read("jar/jar.yaml").replace("LEVLE", "LEVEL").replace("[MAIL]", "[MAIL_HOST]")})
    cj("check", code=None)
    assert "'places' of conf" in cj("drop", "LEVEL", "--everywhere", "--yes", code=3).err
    assert "'without' of env" in cj("drop", "MAIL_HOST", "--everywhere", "--yes", code=3).err
    cj("rename", "MAIL_HOST", "SMTP_HOST", "--yes")
    cj("check")
    assert "without: [SMTP_HOST]" in cj.read("jar/jar.yaml")


def test_second_names_are_names(jar: Callable[..., Coinjar], cj: Coinjar) -> None:
    """A place of a document may take a variable under its second name alone."""
    jar(
        "services: {web: {}}\nstages: {dev: {}}\nvariables: {LEVEL: {default: info, also_as: [LOG_LEVEL]}}\n"
        "destinations:\n  conf: {type: document, path: conf.yaml, form: map, places:\n"
        "    {/web: {stage: dev, variables: [LOG_LEVEL]}}}\n"
    )
    cj.write({"conf.yaml": "web: {}\n"})
    cj("render", "dev")
    assert "LOG_LEVEL: info" in cj.read("conf.yaml")
    assert " LEVEL:" not in cj.read("conf.yaml")
    assert "CJ017" not in cj("check", code=None).out


@pytest.mark.parametrize("pattern", ["LOG_LEVEL", "LOG_*"])
@pytest.mark.parametrize("key", ["variables", "without"])
def test_a_destination_lists_variables_with_all_of_their_names(
    key: str, pattern: str, jar: Callable[..., Coinjar]
) -> None:
    """One that is selected by its second name alone would be written, or left out, under both."""
    cj = jar(
        "services: {web: {}}\nstages: {dev: {}}\n"
        "variables: {LEVEL: {default: info, also_as: [LOG_LEVEL]}, PORT: {default: 1}}\n"
        f"destinations: {{env: {{type: file, as: literal, path: out.env, {key}: ['{pattern}']}}}}\n"
    )
    cj.write({"jar/jar.yaml": cj.read("jar/jar.yaml").replace(f"'{pattern}'", f"'{pattern}', '{{x}}'")})
    assert f"'{{x}}' in {key} of env is not declared" in cj("render", "dev", code=3).err
    cj.write({"jar/jar.yaml": cj.read("jar/jar.yaml").replace(", '{x}'", "")})
    shown = f"{key} of env names LOG_LEVEL, a second name of LEVEL\n    write LEVEL: it includes LOG_LEVEL"
    assert shown in cj("render", "dev", code=3).err
    assert shown in cj("check", code=1).out
    cj.write({"jar/jar.yaml": cj.read("jar/jar.yaml").replace(f"'{pattern}'", "'L*'")})
    cj("render", "dev")
    names = [line.partition("=")[0] for line in cj.read("out.env").splitlines() if "=" in line]
    assert names == (["LEVEL", "LOG_LEVEL"] if key == "variables" else ["PORT"])


@pytest.mark.parametrize(
    "listed",
    ['["A_*", Z]', "[\"A_*\", 'A_TWO', Z]", "[Z, A_*]", '["A*", Z, "*O"]', '["*", Z]', "\n    - A_*\n    - Z", "[A_*]"],
)
@pytest.mark.parametrize("newline", ["\n", "\r\n"])
def test_a_rename_and_one_back_leave_a_list_unchanged(listed: str, newline: str, jar: Callable[..., Coinjar]) -> None:
    """The name is added where the patterns do not match it, and removed where they do."""
    cj = jar(
        "services: {web: {}}\nstages: {dev: {}}\nvariables: {A_ONE: {default: 1}, A_TWO: {default: 2}, Z: {}}\n"
        f"destinations:\n  env:\n    type: file\n    as: literal\n    path: out.env\n    without: {listed}\n"
    )
    path = cj.folder / "jar/jar.yaml"
    path.write_bytes(path.read_bytes().replace(b"\n", newline.encode()))
    before = path.read_bytes()
    cj("rename", "A_ONE", "B_ONE", "--yes")
    assert path.read_bytes().count(newline.encode()) == path.read_bytes().count(b"\n")
    then = path.read_text().partition("without:")[2]
    assert ("B_ONE" in then, "Z" in then) == ('"*"' not in listed, "Z" in listed)
    cj("rename", "B_ONE", "A_ONE", "--yes")
    cj("rename", "--finish", "B_ONE")
    assert path.read_bytes() == before
