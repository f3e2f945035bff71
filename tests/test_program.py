"""The program as a whole: what it imports, how shells complete it, what its layers may import."""

from __future__ import annotations

import re
import subprocess
import sys
from importlib import import_module
from pathlib import Path

import pexpect
import pytest
from hypothesis import given
from hypothesis import strategies as st

from coinjar.cli.main import COMMANDS, GROUPS
from coinjar.cli.tables import cut, fit, width_of
from tests.conftest import PROGRAM, Coinjar
from tests.consumers import need

HEAVY = {
    "rich",
    "pydantic",
    "jsonschema",
    "urllib3",
    "cryptography",
    "sqlite3",
    "importlib.metadata",
    "hypothesis",
    "dataclasses_json",
    "asyncio",
    "ssl",
}


def imported(cj: Coinjar, *arguments: str) -> set[str]:
    """The modules that a run of the program has loaded when it ends, or becomes another."""
    probe = (
        "import sys, os\nfrom coinjar.__main__ import run\n"
        "def told(*_):\n    print('\\n'.join(sys.modules)); sys.stdout.flush(); os._exit(0)\n"
        "os.execve = sys.exit = told\nrun()\ntold()"
    )
    done = subprocess.run(
        [sys.executable, "-I", "-c", probe, *arguments],
        cwd=cj.folder,
        env=cj.env,
        capture_output=True,
        text=True,
        check=True,
    )
    return set(done.stdout.splitlines())


def test_start_up_imports_little(demo: Coinjar) -> None:
    """Every millisecond here is waited for: docs/decisions.md has the figures."""
    version = imported(demo, "--version")
    assert not {name for name in version if name.split(".")[0] in HEAVY or name in HEAVY}
    assert not {
        name for name in version if name.startswith(("yaml", "coinjar.jarfile", "coinjar.actions", "coinjar.dialects"))
    }
    within = imported(demo, "within", "prod", "--service", "berths", "--", "/bin/true")
    assert not {name for name in within if name.split(".")[0] in HEAVY or name in HEAVY}
    assert not {"sqlite3", "urllib3", "asyncssh"} & {name.split(".")[0] for name in imported(demo, "check")}
    demo("readers", "seal")
    sealed = imported(demo, "within", "prod", "--service", "ticketing", "--", "/bin/true")
    assert {"cryptography", "pyrage"} <= {name.split(".")[0] for name in sealed}
    assert not {
        name
        for name in sealed
        if name.startswith(
            ("coinjar.documents.edit", "coinjar.jarfile.readers", "cryptography.hazmat.primitives.serialization")
        )
    }
    assert not {"typer", "click"} & within
    own = {name for name in within if name.startswith("coinjar.")}
    assert not {
        name
        for name in own
        if name.startswith(
            (
                "coinjar.dialects",
                "coinjar.sources",
                "coinjar.destinations",
                "coinjar.core.rules",
                "coinjar.cli.tables",
                "coinjar.demo",
            )
        )
    }
    assert "coinjar.documents.edit" not in own
    assert len(own) < 47
    for door in (
        "coinjar.actions.open_jar",
        "coinjar.jarfile.load",
        "coinjar.destinations.templates",
        "coinjar.dialects.positioned",
    ):
        # Its patterns are put off.
        quick = f"import {door}, yaml.reader; print(type(yaml.reader.Reader.NON_PRINTABLE).__name__)"
        assert (
            subprocess.run([sys.executable, "-I", "-c", quick], capture_output=True, text=True, check=True).stdout
            == "_LazyPattern\n"
        )


COMPLETIONS = {
    ("why", "pro"): ["prod", "prod-isles"],
    ("why", "prod", "TICKET_DB_P"): ["TICKET_DB_PORT", "TICKET_DB_PASSWORD"],
    ("grid", "--service", "t"): ["timetable", "ticketing"],
    ("put", "LISTEN_"): ["LISTEN_PORT"],
    ("put", "X=1", "--stage", "sh"): ["shared"],
    ("rend",): ["render"],
}


SHELLS = {"bash": ("bash", "-i"), "zsh": ("zsh", "-i"), "fish": ("fish", "-i")}
_TABBED = {
    "coinjar why prod LISTEN_P": "LISTEN_PORT",
    "coinjar grid --service tim": "timetable",
    "coinjar put X=1 --stage sh": "shared",
    "coinjar rend": "render",
    "coinjar readers ad": "add",
}
"""What a person has typed, and the end of the line after Tab: `\\x1b` are the shells' own colours."""


@pytest.mark.parametrize("shell", SHELLS)
def test_a_shell_completes_at_a_press_of_tab(demo: Coinjar, shell: str) -> None:
    """Installed as the README says, in a real shell on a terminal, with a person's keys."""
    need(shell)
    (demo.folder / ".zshrc").write_text("PS1='ready> '\n")
    done = subprocess.run(
        [PROGRAM, "--install-completion", shell],
        cwd=demo.folder,
        env=demo.env,
        capture_output=True,
        text=True,
        check=True,
    )
    assert shell in done.stdout
    env = demo.env | {"TERM": "dumb", "PS1": "ready> "}
    terminal = pexpect.spawn(
        *_argv(shell), env=env, cwd=str(demo.folder), encoding="utf-8", timeout=60, dimensions=(40, 200)
    )
    for typed, wanted in _TABBED.items():
        terminal.send(f"{typed}\t")
        terminal.expect_exact(wanted if shell == "fish" else wanted[len(typed.split()[-1]) :])
        terminal.sendcontrol("u")
        terminal.sendline("echo 'again' 'please'")
        terminal.expect_exact("again please")
    terminal.close(force=True)


def _argv(shell: str) -> tuple[str, list[str]]:
    program, *options = SHELLS[shell]
    return program, options


def test_a_shell_that_is_none_is_refused(demo: Coinjar) -> None:
    done = subprocess.run(
        [PROGRAM, "--install-completion", "bsh"],
        cwd=demo.folder,
        env=demo.env,
        capture_output=True,
        text=True,
        check=False,
    )
    assert done.returncode == 2
    assert "bsh" in done.stderr


@pytest.mark.parametrize("words", COMPLETIONS)
def test_what_is_offered(demo: Coinjar, words: tuple[str, ...]) -> None:
    """The completion function, as bash calls it: several names, too."""
    line = subprocess.run(
        [need("bash"), "-c", (
            'eval "$(coinjar --show-completion bash)"; COMP_WORDS=(coinjar "$@"); COMP_CWORD=$#; '
            '_coinjar_completion coinjar; printf "%s\\n" "${COMPREPLY[@]}"'
        ), "bash", *words],
        cwd=demo.folder, env=demo.env, capture_output=True, text=True, check=True,
    )  # fmt: skip
    assert line.stdout.split() == COMPLETIONS[words], line.stderr


def test_completion_is_silent_without_a_jar(tmp_path: Path) -> None:
    cj = Coinjar(tmp_path)
    asked = {
        "_TYPER_COMPLETE_ARGS": "coinjar why pro",
        "_COINJAR_COMPLETE": "complete_fish",
        "_TYPER_COMPLETE_FISH_ACTION": "get-args",
        "_TYPER_COMPLETE_TEST_DISABLE_SHELL_DETECTION": "1",
    }
    done = cj(env=asked, code=None)
    assert (done.out + done.err).strip() == ""


def test_outside_packages_add_one_of_each(demo: Coinjar) -> None:
    """The package of docs/extending.md, installed as a metadata folder on the path."""
    page = (Path(__file__).parent.parent / "docs/extending.md").read_text()
    toml, *code = re.findall(r"```(?:toml|python)\n(.*?)```", page, re.DOTALL)
    points = re.sub(r'\[project\.entry-points\."(.*)"\]', r"[\1]", toml).replace('"', "")
    demo.write(
        {
            "more/more.py": "\n".join(code),
            "more/more-1.dist-info/METADATA": "Metadata-Version: 2.1\nName: more\nVersion: 1\n",
            "more/more-1.dist-info/entry_points.txt": points,
            "jar/jar.yaml": demo.read("jar/jar.yaml").replace(
                "destinations:\n",
                "destinations:\n  there: {type: shelf, path: shelf}\n"
                "  loud: {type: file, as: shout, path: 'loud-{stage}-{service}'}\n",
            ),
        }
    )
    env = {"PYTHONPATH": str(demo.folder / "more")}
    assert "LOG_LEVEL!error\n" in demo("render", "prod", "--service", "berths", "--as", "shout", env=env).out
    assert "different" in demo("compare", "prod", "more:info", "--name", "LOG_LEVEL", env=env, code=1).out
    demo("render", "prod", "there", env=env)
    assert demo.read("shelf") == "!"
    assert "warning CJ901: TICKET_DB_PORT has no description" in demo("check", env=env, code=None).out
    assert '"ruleId": "CJ901"' in demo("check", "--format", "sarif", env=env, code=None).out
    assert demo("count", env=env).out == "22\n"
    # a dialect that cannot mark which lines are secret: all of them are masked
    changes = demo("render", "prod", "loud", "--dry-run", env=env).out
    assert "cannot mark which lines are secret" in changes
    assert "LOG_LEVEL" not in changes
    # where they must appear: help, completion, schema
    assert re.search(r"\n +other +count\n", demo("--help", env=env).out)
    assert demo("help", "other", env=env).out == "coinjar count  Print the number of variables.\n"
    assert "--most" in demo("count", "--help", env=env).out
    words = {"_COINJAR_COMPLETE": "complete_bash", "COMP_WORDS": "coinjar render prod --as sh", "COMP_CWORD": "4"}
    assert "shout" in demo(env=env | words, process=True).out.split()
    assert '"The shelf."' in demo("schema", "jar", env=env).out
    assert "there is no destination type 'shelf'" in demo("render", "prod", "there", code=3).err
    assert "did you mean 'posix'" in demo("render", "prod", "--service", "berths", "--as", "posxi", env=env, code=2).err
    assert "there is no command 'count'" in demo("count", code=2).err


@pytest.mark.parametrize(
    ("library", "extra", "arguments"),
    [
        ("urllib3", "deliver", ["deliver", "rehearsal", "hosting"]),
        ("jinja2", "standins", ["standins", "saltmarsh", "--state", "s"]),
        ("tree_sitter", "mentions", ["mentions", "a.sh"]),
        ("pathspec", "mentions", ["mentions", "."]),
    ],
)
def test_a_missing_extra_is_named_with_its_command(
    library: str, extra: str, arguments: list[str], demo: Coinjar
) -> None:
    demo.write(
        {
            f"more/{library}.py": f"raise ModuleNotFoundError('none', name='{library}')\n",
            "a.sh": "echo $A\n",
            ".gitignore": "x\n",
        }
    )
    there = {"SALTMARSH_ADDRESS": "http://127.0.0.1:1", "SALTMARSH_TOKEN": "x"}
    done = demo(*arguments, env=there | {"PYTHONPATH": str(demo.folder / "more")}, code=2)
    assert f"this needs {library}, which is not installed\n    pip install 'coinjar[{extra}]'\n" in done.err


def test_arrows_point_down() -> None:
    root = Path(__file__).parent.parent
    done = subprocess.run(
        [Path(PROGRAM).parent / "lint-imports"], cwd=root, capture_output=True, text=True, check=False
    )
    assert "0 broken" in done.stdout, done.stdout


@given(st.lists(st.tuples(st.integers(1, 80), st.integers(1, 30)), min_size=1, max_size=8), st.integers(40, 200))
def test_tables_fit(columns: list[tuple[int, int]], room: int) -> None:
    natural = [width for width, _ in columns]
    least = [min(width, low) for width, low in columns]
    widths = fit(natural, least, room)
    assert sum(widths) <= max(room, 4 * len(columns))
    assert all(width <= full for width, full in zip(widths, natural, strict=True))
    if sum(natural) <= room:
        assert widths == natural
    elif sum(least) <= room:
        assert sum(widths) == room
        assert all(width >= low for width, low in zip(widths, least, strict=True))


def test_wide_and_combining_letters_are_measured() -> None:
    assert {text: width_of(text) for text in ("abc", "é", "e\u0301", "日本", "••••", "🙂")} == {
        "abc": 3,
        "é": 1,
        "e\u0301": 1,
        "日本": 4,
        "••••": 4,
        "🙂": 2,
    }
    assert [cut("日本語", width) for width in (6, 5, 4, 1)] == ["日本語", "日本…", "日…", "…"]


def test_a_fault_of_our_own_shows_no_values(demo: Coinjar) -> None:
    """One line with its kind and place; a traceback on request, without the local variables, among which
    secrets are.
    """
    broken = (
        "import sys\nfrom coinjar.cli.main import main\nfrom coinjar.core import layers\n"
        "def fails(self, service, phase='run'):\n"
        "    found = self.value('TICKET_DB_PASSWORD', service).text\n"
        "    raise RuntimeError(f'broken after {len(found)} characters')\n"
        "layers.Resolver.resolve = fails\nsys.exit(main(sys.argv[1:]))"
    )
    for traceback in ("", "1"):
        done = subprocess.run(
            [sys.executable, "-c", broken, "render", "prod", "--service", "ticketing", "--as", "json"],
            cwd=demo.folder,
            env=demo.env | {"COINJAR_TRACEBACK": traceback},
            capture_output=True,
            text=True,
            check=False,
        )
        assert done.returncode == 70
        assert ("RuntimeError: broken after 21 characters" in done.stderr) is bool(traceback)
        assert ("a fault in Coin Jar itself: RuntimeError in <string>:6" in done.stderr) is not bool(traceback)
        assert "made-up" not in done.stdout + done.stderr


def test_every_end_is_clear(demo: Coinjar) -> None:
    """A closed stream, a full disk, a folder that is gone: one line, and a code that says so; never a traceback."""
    env = demo.env | {"COINJAR_TRACEBACK": ""}
    table = {
        "coinjar grid >/dev/full": (5, "no space left"),
        "coinjar value prod LOG_LEVEL --service berths >/dev/full": (5, "no space left"),
        "coinjar within prod --service berths --mask -- echo hello >/dev/full": (5, "no space left"),
        "coinjar check --json >/dev/full": (5, "no space left"),
        "coinjar grid >&-": (5, "stdout is closed"),
        "coinjar value prod LOG_LEVEL --service berths >&-": (5, "stdout is closed"),
        "coinjar grid 2>&- >/dev/null": (0, ""),
        "coinjar grid <&- >/dev/null": (0, ""),
        "coinjar nonsense 2>&-": (2, ""),
        "coinjar grid | true": (0, ""),
        "mkdir gone; cd gone; rmdir ../gone; coinjar check": (2, "does not exist any more"),
    }
    for line, (code, words) in table.items():
        done = subprocess.run(["sh", "-c", line], cwd=demo.folder, env=env, capture_output=True, text=True, check=False)
        assert (done.returncode, words in done.stderr) == (code, True), (line, done)
        assert "Traceback" not in done.stderr
        assert "Exception ignored" not in done.stderr


def test_nothing_is_left_behind_by_looking(demo: Coinjar) -> None:
    """Commands that only look write nothing at all: no lock, no cache."""
    demo("consent", "--yes")
    before = {path: path.stat().st_mtime_ns for path in demo.folder.rglob("*")}
    for arguments in (
        ("grid",),
        ("why", "prod", "LOG_LEVEL", "-s", "berths"),
        ("compare", "prod", "dev"),
        ("check",),
        ("render", "prod", "-s", "berths", "--as", "nul"),
    ):
        demo(*arguments, code=None)
    assert {path: path.stat().st_mtime_ns for path in demo.folder.rglob("*")} == before


def test_no_help_is_longer_than_a_screen(cj: Coinjar) -> None:
    """At 80 columns, at most 30 lines: of the program, of each group, of each command and subcommand."""
    env = {"COLUMNS": "80"}
    groups = dict.fromkeys(group for group, _ in COMMANDS.values())
    pages = [["--help"], *(["help", group] for group in groups), *([name, "--help"] for name in COMMANDS)]
    pages += [[*words, "--help"] for words in subcommands()]
    too_long = {" ".join(words): lines for words in pages if (lines := len(cj(*words, env=env).out.splitlines())) > 30}
    assert not too_long
    assert not groups.keys() & COMMANDS.keys()  # `help GROUP` means the group


def subcommands() -> list[list[str]]:
    modules = {name: import_module(f"coinjar.cli.{name}") for name in GROUPS}
    return [[name, member] for name, module in modules.items() for member in module.COMMANDS]
