"""The program: its options, and its commands, each loaded when it is called."""

import errno
import gc
import sys
from collections.abc import Mapping, Sequence
from functools import cache, partial
from importlib import import_module
from typing import Annotated, Any

gc.disable()  # imported objects never become garbage; see docs/decisions.md

import typer  # noqa: E402 - only after the collector is off
from typer.core import TyperCommand, TyperGroup  # noqa: E402

from coinjar import __version__  # noqa: E402
from coinjar.cli.opening import require_folder  # noqa: E402
from coinjar.cli.visible_output import drop_output, visible_output  # noqa: E402
from coinjar.core.errors import CoinJarError, ExternalError, UsageError  # noqa: E402
from coinjar.core.names import suggestion  # noqa: E402
from coinjar.system.plugins import plugins  # noqa: E402
from coinjar.system.process_secrets import take  # noqa: E402

# Each command's group and line in the help, in the order of the job.
COMMANDS = {
    "new": ("gather", "Create a jar here: stages, services, .gitignore."),
    "read": ("gather", "Print what a file, an image or another source contains."),
    "adopt": ("gather", "Adopt variables from a file or another source into a stage."),
    "put": ("define", "Set values, for one stage or several."),
    "edit": ("define", "Edit a stage's values, plain and secret, in your editor."),
    "generate": ("define", "Generate strong values, different for each stage."),
    "declare": ("define", "Declare variables, or change their declarations."),
    "rename": ("define", "Rename variables in the jar, in documents and in code."),
    "drop": ("define", "Remove values, or whole variables."),
    "undo": ("define", "Undo your last change of the jar."),
    "stages": ("layer", "List, add, copy, rename and remove stages."),
    "services": ("layer", "List, add, copy, rename and remove services."),
    "app": ("layer", "Show or rename the application."),
    "promote": ("layer", "Give a stage the values of another."),
    "lift": ("layer", "Set once what all stages agree on."),
    "grid": ("look", "Show the grid: variables down, stages across."),
    "value": ("look", "Print one value."),
    "why": ("look", "Explain one value: every layer that sets it, and which takes effect."),
    "compare": ("look", "Compare two stages, files or other sources."),
    "overdue": ("look", "List secrets that are too old, or soon will be."),
    "history": ("look", "Show who set a variable when, on which stage."),
    "check": ("look", "Find missing, wrong and surprising values."),
    "accept": ("look", "Accept a finding of check, with a reason."),
    "mentions": ("look", "Find where code and documents use variables."),
    "report": ("look", "Write a page, figures or a reference that show it all."),
    "render": ("use", "Write destinations' files, or a service's variables in a dialect."),
    "within": ("use", "Run a program with a service's variables."),
    "identity": ("share", "Create an identity, or show its recipient."),
    "readers": ("share", "Manage who can decrypt each stage's secrets."),
    "consent": ("share", "Show what a jar can do on your machine, and consent to it."),
    "resolve": ("share", "After a merge: take one of two versions of a secret."),
    "textconv": ("share", "Show encrypted values in git diff: lengths and tags."),
    "deliver": ("live", "Deliver the jar's values to running systems."),
    "rotate": ("live", "Replace secrets everywhere, step by step."),
    "drift": ("live", "Compare what is live with what the jar says."),
    "confirm": ("live", "Check running services against the declared proofs."),
    "deliveries": ("live", "List deliveries, or undo one."),
    "migrate": ("live", "Move a set of variables to another place, by a sheet."),
    "schema": ("more", "Print the JSON Schemas of the jar's files."),
    "platforms": ("more", "List the described platforms, show one, or try its description."),
    "standins": ("more", "Run simulated platforms to try deliveries on."),
    "demo": ("more", "Run the whole example."),
}
GROUPS = ("stages", "services", "app", "identity", "readers")
"""Commands with subcommands."""
_MEANT = {
    "list": "grid",
    "ls": "grid",
    "show": "value",
    "get": "value",
    "set": "put",
    "add": "put",
    "run": "within",
    "exec": "within",
    "diff": "compare",
}
_MEANT |= {
    "delete": "drop",
    "remove": "drop",
    "rm": "drop",
    "unset": "put --unset",
    "import": "adopt",
    "export": "render",
    "init": "new",
    "status": "drift",
}
"""Words of other programs, and the command that does the same here."""


class SingleUseCommand(TyperCommand):
    """A command that refuses an option of one value given twice: the first must not be lost silently."""

    def make_parser(self, ctx: Any) -> Any:
        return _refusing_doubles(super().make_parser(ctx), ctx)


def _refusing_doubles(parser: Any, ctx: Any) -> Any:
    """Return the parser, with every option that stores one value made to refuse a second."""
    for option in {id(item): item for item in (*parser._long_opt.values(), *parser._short_opt.values())}.values():
        if option.action == "store":
            option.process = partial(_process_once, option, option.process, ctx)
    return parser


def _process_once(option: Any, process: Any, ctx: Any, value: Any, state: Any) -> None:
    if option.dest in state.opts:
        name = max((*option._long_opts, *option._short_opts), key=len)
        raise UsageError(
            f"{name} is given twice, but takes one value",
            hint=f"omit one; `{ctx.command_path} --help` shows which options may be repeated",
        )
    process(value, state)


@cache
def _command(cmd_name: str) -> Any:
    """Return one command, loaded on first use."""
    if cmd_name not in COMMANDS and cmd_name in plugins("commands"):
        return _as_command(cmd_name, {cmd_name: (plugins("commands")[cmd_name].load(), None)}, None)
    if cmd_name not in COMMANDS:
        meant = (
            f"did you mean `coinjar {_MEANT[cmd_name]}`?"
            if cmd_name in _MEANT
            else suggestion(cmd_name, COMMANDS, "`coinjar --help` lists them")
        )
        raise UsageError(f"there is no command '{cmd_name}'", hint=meant)
    module = import_module(f"coinjar.cli.{cmd_name}")
    return _as_command(
        cmd_name, getattr(module, "COMMANDS", {cmd_name: (getattr(module, "run", None), None)}), module.__doc__
    )


def _as_command(cmd_name: str, functions: Mapping[str, Any], about: str | None) -> Any:
    app = typer.Typer(add_completion=False, rich_markup_mode=None, pretty_exceptions_enable=False, help=about)
    for name, (run, short) in functions.items():
        app.command(name, cls=SingleUseCommand, help=run.__doc__, short_help=short)(run)
    command = typer.main.get_command(app)
    command.name = cmd_name
    return command


def _first_line(function: Any) -> str:
    return (function.__doc__ or "").strip().partition("\n")[0]


class LazyGroup(TyperGroup):
    """Loads a command's module when it is called; `--help` needs none of them."""

    def list_commands(self, ctx: Any) -> list[str]:
        del ctx
        return [*COMMANDS, *plugins("commands")]

    def get_command(self, ctx: Any, cmd_name: str) -> Any:
        del ctx
        return _command(cmd_name)

    def make_parser(self, ctx: Any) -> Any:
        return _refusing_doubles(super().make_parser(ctx), ctx)

    def format_commands(self, ctx: Any, formatter: Any) -> None:
        del ctx
        with formatter.section("Commands, in the order of the job"):
            formatter.write_dl([(group, ", ".join(commands)) for group, commands in _grouped().items()])
        formatter.write_paragraph()
        formatter.write_text("`coinjar help GROUP` explains a group's commands, `coinjar help COMMAND` one of them.")
        from coinjar.cli.help_topics import TOPICS

        formatter.write_text(f"`coinjar help TOPIC` shows a page: {', '.join(TOPICS)}.")


def _grouped() -> dict[str, dict[str, str]]:
    """Return each group of the help: its commands with their lines."""
    result: dict[str, dict[str, str]] = {}
    for name, (group, about) in COMMANDS.items():
        result.setdefault(group, {})[name] = about
    others = {name: _first_line(point.load()) for name, point in plugins("commands").items()}
    return result | ({"other": others} if others else {})


def _print_group(group: str = "") -> bool:
    """Print the lines of a group's commands; return whether there is such a group, and no command of its name."""
    commands = _grouped().get(group, {}) if group not in COMMANDS else {}
    width = max(map(len, commands), default=0)
    for name, about in commands.items():
        print(f"coinjar {name.ljust(width)}  {about}")
    return bool(commands)


def _print_topic(words: list[str]) -> bool:
    """Print a page of the documentation; return whether the words name one, and no command."""
    from coinjar.cli.help_topics import print_topic

    try:
        return bool(words) and words[0] not in COMMANDS and print_topic(words)
    except UsageError as error:
        print_error(error)
        raise SystemExit(error.exit_code) from None


# A pretty traceback would show local variables, and with them secrets.
app = typer.Typer(
    cls=LazyGroup,
    rich_markup_mode=None,
    pretty_exceptions_enable=False,
    context_settings={"help_option_names": ["-h", "--help"]},
)


def _version(wanted: bool) -> None:
    if wanted:
        print(f"coinjar {__version__}")
        raise typer.Exit


@app.callback()
def top(
    jar: Annotated[
        str | None,
        typer.Option(
            metavar="PATH", envvar="COINJAR_JAR", help="The jar's folder. Default: searched upward from here."
        ),
    ] = None,
    color: Annotated[
        str, typer.Option("--color", metavar="WHEN", help="Colours: always, never or auto.", show_default=False)
    ] = "auto",
    version: Annotated[
        bool, typer.Option("--version", "-V", callback=_version, is_eager=True, help="Print the version.")
    ] = False,
) -> None:
    """Define an application's environment variables per stage and service, render and inject them, compare stages."""
    del jar, version  # commands find the jar among this command's parameters
    if color != "auto" or "coinjar.cli.tables" in sys.modules:  # else it is not loaded, and nothing was chosen before
        from coinjar.cli.tables import choose_colours

        choose_colours(color)


def print_error(error: CoinJarError) -> None:
    """Print an error and its hint to stderr; every fault of an input that has several."""
    from coinjar.core.display import visible

    names = error.each()
    for fault in names:
        where = f"{visible(str(fault.location))}: " if fault.location else "coinjar: "
        _print_wrapped(f"{where}{visible(fault.message)}", "      ")
        _print_wrapped(f"    {visible(fault.hint)}", "    ")
    if len(names) > 1:
        print(f"coinjar: {len(names)} errors", file=sys.stderr)


def _print_wrapped(text: str, indent: str) -> None:
    """Print to stderr, on a terminal in lines that fit."""
    if not sys.stderr.isatty():
        print(text, file=sys.stderr)
        return
    from coinjar.cli.tables import error_columns, wrapped_words

    for line in wrapped_words(text, indent, error_columns()):
        print(line, file=sys.stderr)


def main(arguments: Sequence[str] | None = None) -> int:
    """Run the program; return its exit code: 0 done, 1 findings, 2 usage, 3 input, 4 cannot decrypt, 5 external, 70 a
    fault of this program, 130 interrupted.
    """
    take()
    given = list(sys.argv[1:] if arguments is None else arguments)
    with visible_output():
        if given[:1] == ["help"] and (_print_group(*given[1:2]) or _print_topic(given[1:])):
            return 0
        return _main(given)


def _main(given: list[str]) -> int:
    if given[:1] == ["help"]:
        given = [*given[1:], "--help"]
    if not given or (len(given) == 1 and given[0] in GROUPS):
        given.append("--help")
    if given[0] in ("--install-completion", "--show-completion"):
        from coinjar.cli.completion import prepare

        prepare(given[1:])
    try:
        require_folder()
        code = app(args=given, prog_name="coinjar", standalone_mode=False)
        sys.stdout.flush()
    except (Exception, KeyboardInterrupt) as error:  # noqa: BLE001 - distinguished by what it returns
        return print_end(error)
    return code if isinstance(code, int) else 0


def print_end(error: Exception | KeyboardInterrupt) -> int:
    """Print what ended a command; return its exit code. A fault of ours is one line, not a traceback."""
    if isinstance(error, CoinJarError):
        print_error(error)
        return error.exit_code
    if isinstance(error, typer.Abort | KeyboardInterrupt):
        print("coinjar: stopped", file=sys.stderr)
        return 130
    if isinstance(error, ModuleNotFoundError):
        print_error(_missing(error))
        return 2
    if isinstance(error, BrokenPipeError):
        drop_output()
        return 0
    return _refused(error)


_EXTRAS = {"urllib3": "deliver", "certifi": "deliver", "asyncssh": "deliver", "psutil": "deliver"}
_EXTRAS |= {"jinja2": "standins", "pathspec": "mentions", "tree_sitter": "mentions"}
_EXTRAS |= {"matplotlib": "report", "scipy": "report", "numpy": "report"}
"""Which extra of the package brings a library."""


def _missing(error: ModuleNotFoundError) -> UsageError:
    """Return the error for a library of an extra that is not installed. Raises any other import error again."""
    library = (error.name or "").partition(".")[0]
    extra = _EXTRAS.get("tree_sitter" if library.startswith("tree_sitter") else library)
    if extra is None:
        raise error
    return UsageError(f"this needs {library}, which is not installed", hint=f"pip install 'coinjar[{extra}]'")


TRACEBACK = "COINJAR_TRACEBACK"
"""The variable with which a fault of this program shows its traceback."""
UNFORESEEN = 70
"""The exit code of a fault of this program (EX_SOFTWARE of sysexits.h)."""
_ENDS = {
    errno.ENOSPC: "there is no space left to write to",
    errno.EDQUOT: "there is no space left in this account's quota",
    errno.EBADF: "stdout is closed, so nothing can be printed",
    errno.EIO: "a device failed while it was read or written",
    errno.ENFILE: "this machine has no file handles left",
    errno.EMFILE: "this process may open no more files",
}


def _unforeseen(error: Exception) -> int:
    """Print a fault of this program in one line: its kind and place, not its words, which may contain anything."""
    import os
    import traceback

    if os.environ.get(TRACEBACK):
        traceback.print_exception(error)
        return UNFORESEEN
    frames = traceback.extract_tb(error.__traceback__)
    # Only the name of the file; pathlib may not be loaded yet.
    last = frames[-1] if frames else None
    where = f"{os.path.basename(last.filename)}:{last.lineno}" if last else "unknown place"  # noqa: PTH119
    hint = f"please report it; {TRACEBACK}=1 shows more, and may show values"
    print_error(UsageError(f"a fault in Coin Jar itself: {type(error).__name__} in {where}", hint=hint))
    return UNFORESEEN


def _refused(error: Exception) -> int:
    """Print the command line's own errors in our form; anything else is a fault of this program, or the end of a stream
    or a folder that it needs.
    """
    if isinstance(error, OSError) and error.errno in _ENDS:
        drop_output()
        hint = "open it, or send it to a file" if error.errno == errno.EBADF else "make room, or run it elsewhere"
        print_error(ExternalError(_ENDS[error.errno], hint=hint, code="system"))
        return ExternalError.exit_code
    refusal = typer.BadParameter.__mro__[2]  # the base of Typer's errors, which has no public name
    if not isinstance(error, refusal):
        return _unforeseen(error)
    context = getattr(error, "ctx", None)
    where = context.command_path if context else "coinjar"
    words: str = getattr(error, "format_message")()  # noqa: B009 - of that base
    print_error(UsageError(words.rstrip("."), hint=f"see `{where} --help`"))
    return 2
