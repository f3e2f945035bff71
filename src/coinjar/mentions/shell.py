"""POSIX shell and bash.

A variable that a script sets before reading it is its own; all others come from the environment.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from functools import cache

import tree_sitter_bash
from tree_sitter import Language as Grammar
from tree_sitter import Node as Syntax
from tree_sitter import Parser

from coinjar.mentions.base import PRESENCE, READ, SET, ComputedName, Mention, TextMentions, in_order
from coinjar.mentions.expressions import masked, misplaced
from coinjar.mentions.shell_events import (
    ASKS,
    ASSIGNS,
    CALLS,
    CHILD,
    EXPORTS,
    INDIRECT,
    NAME,
    READS,
    UNSET,
    NameEvent,
    as_run,
)
from coinjar.mentions.shell_indirect import IndirectNames
from coinjar.mentions.shell_programs import started_with
from coinjar.mentions.shell_spelling import dedented, without_false_sums
from coinjar.mentions.syntax import parse

SET_BY_SHELLS = frozenset(
    "PWD OLDPWD IFS PS1 PS2 PS3 PS4 PPID OPTARG OPTIND OPTERR LINENO RANDOM SECONDS REPLY UID EUID GROUPS SHLVL "
    "SHELLOPTS HOSTTYPE OSTYPE MACHTYPE "
    "FUNCNAME PIPESTATUS DIRSTACK EPOCHSECONDS EPOCHREALTIME SRANDOM COMP_WORDS COMP_CWORD COMP_LINE COMP_POINT "
    "COMP_TYPE COMP_KEY COMP_WORDBREAKS READLINE_LINE READLINE_POINT READLINE_MARK HISTCMD "
    "COMPREPLY MAPFILE COPROC _".split()
)
_FALLBACKS = (":-", "-", ":=", "=")
_SHADOWED = re.compile(rb"(?m)^[ \t]*(?:function[ \t]+)?(printenv|env|test|eval|let|read)[ \t]*\(\)")
_EXPORTED = re.compile(rb"(?:^|[\s;&|])export[ \t]+\Z")
"""Before an assignment in a text that the grammar does not understand."""
_ASSIGNED = re.compile(rb"(?<![\w$])([A-Za-z_]\w*)[ \t]*([-+*/%&|^]?)=(?!=)")
_ASSIGNING = ("=", "+=", "-=", "*=", "/=", "%=", "&=", "|=", "^=", "<<=", ">>=", "**=")
_SHELLS = frozenset({"sh", "bash", "dash", "/bin/sh", "/bin/bash"})
_RUNS = re.compile(r"-[a-z]*c")
_LATER = re.compile(r">>\s*[\"']?\$\{?[A-Z_]+_ENV\}?[\"']?$")
_WRITTEN = re.compile(rb"\b(?:echo|printf)[ \t]+(?:-\w+[ \t]+)?[\"']?([A-Z_][A-Z0-9_]*)=")
_BINDING_COMMANDS = ("read", "mapfile", "readarray", "getopts")


def find(data: bytes, helpers: frozenset[str] = frozenset()) -> TextMentions:
    """Return the mentions of a script."""
    del helpers
    elsewhere = misplaced(data)
    mentions = find_in(masked(data) if elsewhere else data, [(0, len(data))])
    return in_order([*mentions.mentions, *elsewhere], mentions.unknown)


def find_in(data: bytes, parts: Sequence[tuple[int, int]], given: frozenset[str] = frozenset()) -> TextMentions:
    """Return the mentions of one script in several parts of a text; `given` names come from outside,
    even if a shell sets them too.
    """
    parser = _parser()
    written: list[NameEvent] = []
    functions: dict[str, list[NameEvent]] = {}
    for start, end in parts:
        code, at = dedented(data[start:end])
        walk = _ScriptWalker(without_false_sums(code))
        written += [event.moved(start + at(event.start)) for event in walk.see(parse(parser, walk.data))]
        for name, body in walk.functions.items():
            functions.setdefault(name, []).extend(event.moved(start + at(event.start)) for event in body)
    events = list(as_run(written, functions))
    by_name: dict[str, list[int]] = {}
    for event in events:
        if event.what not in (CHILD, UNSET, INDIRECT):
            by_name.setdefault(event.name, []).append(event.what)
    own = {name for name, mine in by_name.items() if _is_own(name, mine)}
    mentions, unknown = [], []
    for event in events:
        if event.what == INDIRECT:
            unknown.append(ComputedName(event.start, event.end))
        elif (
            (event.name not in SET_BY_SHELLS or event.name in given)
            and not event.name.startswith("BASH")
            and (event.name not in own or event.what == CHILD)
        ):
            how = PRESENCE if event.what == ASKS else READ if event.what == READS else SET
            mentions.append(Mention(event.name, event.start, event.end, how, event.default))
    return in_order(mentions, unknown)


@cache
def _parser() -> Parser:
    return Parser(Grammar(tree_sitter_bash.language()))


def _is_own(name: str, mine: list[int]) -> bool:
    """Return whether a name is the script's own, by what happens to it in order."""
    given = mine[:1] == [ASSIGNS] or (
        name.islower() and ASSIGNS in mine
    )  # functions use what is set below them, in lower case
    return given and EXPORTS not in mine


class _ScriptWalker:
    """Walks a script's tree."""

    def __init__(self, data: bytes) -> None:
        self.data = data
        self.shadowed = {match[1].decode() for match in _SHADOWED.finditer(data)}
        """Commands that the script replaces by functions of its own."""
        self.indirect = IndirectNames(data)
        self.functions: dict[str, list[NameEvent]] = {}
        """What happens in each function."""

    def word(self, node: Syntax | None) -> str:
        return self.data[node.start_byte : node.end_byte].decode(errors="replace") if node else ""

    def see(self, node: Syntax, *, asked: bool = False) -> Iterator[NameEvent]:
        method = getattr(self, f"_{node.type}", None)
        if method:
            yield from method(node, asked)
        elif node.type not in ("raw_string", "comment", "function_definition_name", "ansi_c_string"):
            for child in node.named_children:
                yield from self.see(child, asked=asked and node.type in ("string", "concatenation"))

    def at(self, what: int, node: Syntax, default: str | None = None) -> Iterator[NameEvent]:
        name = self.word(node)
        start, end = node.start_byte, node.end_byte
        is_filled_in = self.data[start - 1 : start] == b"{" and self.data[end : end + 1] == b"."  # `${a.b}`, by a build
        if NAME.fullmatch(name.encode()) and not is_filled_in:
            yield NameEvent(what, name, node.start_byte, node.end_byte, default)

    def _function_definition(self, node: Syntax, asked: bool) -> Iterator[NameEvent]:
        body = node.child_by_field_name("body")
        events = self.see(body, asked=asked) if body is not None else ()
        self.functions.setdefault(self.word(node.child_by_field_name("name")), []).extend(events)
        yield from ()

    def _simple_expansion(self, node: Syntax, asked: bool) -> Iterator[NameEvent]:
        for child in node.named_children:
            if child.type == "variable_name":
                yield from self.at(ASKS if asked else READS, child)

    def _expansion(self, node: Syntax, asked: bool) -> Iterator[NameEvent]:
        operators = [
            self.word(child)
            for index, child in enumerate(node.children)
            if node.field_name_for_child(index) == "operator"
        ]
        name = next((child for child in node.named_children if child.type in ("variable_name", "subscript")), None)
        if name is not None and name.type == "subscript":
            name = name.child_by_field_name("name")
        rest = [child for child in node.named_children if name is None or child.start_byte >= name.end_byte]
        if name is not None and "!" in operators:
            if self.word(name) not in self.indirect.known:
                yield NameEvent(INDIRECT, self.word(name), name.start_byte, name.end_byte)
        elif name is not None:
            default = None
            if operators and operators[0] in _FALLBACKS and rest:
                default = self._plain(self.data[rest[0].start_byte : rest[-1].end_byte])
            asks = asked or bool(operators and operators[0] in (":+", "+"))
            yield from self.at(ASKS if asks else READS, name, default)
        plain = bool(operators) and operators[0] != ":"  # after a colon alone, offset and length are computed
        for child in rest:
            yield from self._fallback(child) if plain else self.see(child)

    def _fallback(self, node: Syntax) -> Iterator[NameEvent]:
        """Yield the references in a word after an operator, where a bare name is a text."""
        if node.type == "concatenation":
            for child in node.named_children:
                yield from self._fallback(child)
        elif node.type != "variable_name":
            yield from self.see(node)

    def _plain(self, text: bytes) -> str | None:
        """Return the word after `:-`, if it is a plain text."""
        value = text.decode(errors="replace")
        return None if "$" in value or "`" in value else value.strip("\"'")

    def _variable_assignment(self, node: Syntax, asked: bool, what: int = ASSIGNS) -> Iterator[NameEvent]:
        del asked
        value, name = node.child_by_field_name("value"), node.child_by_field_name("name")
        if value is not None:
            yield from self.see(value)
        if name is not None:
            yield from self.at(what, name if name.type != "subscript" else name.child_by_field_name("name") or name)

    def _command(self, node: Syntax, asked: bool) -> Iterator[NameEvent]:
        del asked
        named = node.child_by_field_name("name")
        prefix = [child for child in node.named_children if child.type == "variable_assignment"]
        for child, what in zip(prefix, self._for_the_command(prefix, named), strict=True):
            yield from self._variable_assignment(child, asked=False, what=what)
        if named is None:
            return
        for child in named.named_children:
            yield from self.see(child)
        command = self.word(named)
        command = "env" if command.endswith("/env") else command
        arguments = node.children_by_field_name("argument")
        yield NameEvent(CALLS, command, named.start_byte, named.end_byte)
        if command in self.shadowed:
            command = ""
        if command == "test":
            yield from self._tested(arguments)
            return
        yield from self._for_others(command, arguments)
        positions = {argument.id: number for number, argument in enumerate(arguments)}
        for child in node.named_children:
            if child.type not in ("variable_assignment", "command_name"):
                yield from self._argument(command, child, positions.get(child.id))

    def _for_the_command(self, prefix: Sequence[Syntax], named: Syntax | None) -> list[int]:
        """Return what each assignment before a command is: for it alone only on its line. The grammar also takes those
        of the lines before for a prefix, and the rest of a value (`$A/$B`) for a command.
        """
        result: list[int] = []
        after, what = named, CHILD if named is not None else ASSIGNS
        for child in reversed(prefix):
            gap = self.data[child.end_byte : after.start_byte] if after is not None else b""
            if not gap or b"\n" in gap.replace(b"\\\n", b""):
                what = ASSIGNS
            line = self.data[self.data.rfind(b"\n", 0, child.start_byte) + 1 : child.start_byte]
            result.append(EXPORTS if _EXPORTED.search(line) else what)
            after = child
        return result[::-1]

    def _for_others(self, command: str, arguments: Sequence[Syntax]) -> Iterator[NameEvent]:
        """Yield what a command sets for another program, and what a script in its arguments does."""
        yield from self._script_in(command, arguments)
        yield from started_with(self.data, command, arguments)
        yield from self.indirect.asked_by(command, arguments)

    def _script_in(self, command: str, arguments: Sequence[Syntax]) -> Iterator[NameEvent]:
        """Yield what a script in an argument does: `trap '…' EXIT`, `sh -c '…'`."""
        at = 0 if command == "trap" else None
        if command in _SHELLS:
            at = next((at + 1 for at, word in enumerate(arguments) if _RUNS.fullmatch(self.word(word))), None)
        script = arguments[at] if at is not None and at < len(arguments) else None
        if script is not None and script.type == "raw_string":
            start = script.start_byte + 1
            walk = _ScriptWalker(self.data[start : script.end_byte - 1])
            events = list(walk.see(parse(_parser(), walk.data)))
            yield from (event.moved(start) for event in as_run(events, walk.functions))

    def _redirected_statement(self, node: Syntax, asked: bool) -> Iterator[NameEvent]:
        """Yield what is written for later steps as well: `echo "NAME=value" >> "$RUNNER_ENV"`."""
        for child in node.named_children:
            yield from self.see(child, asked=asked)
        if any(child.type == "file_redirect" and _LATER.search(self.word(child)) for child in node.named_children):
            for match in _WRITTEN.finditer(self.data, node.start_byte, node.end_byte):
                yield NameEvent(CHILD, match[1].decode(), *match.span(1))

    def _argument(self, command: str, node: Syntax, position: int | None) -> Iterator[NameEvent]:
        """Yield the events of a command's argument (its position), or of what else belongs to it (None)."""
        text = self.word(node)
        is_argument = position is not None
        if is_argument and command == "printenv" and node.type == "word":
            yield from self.at(READS, node)
        is_option = text.startswith(("-", '"', "'"))
        if command in _BINDING_COMMANDS and is_argument and not is_option and (command != "getopts" or position == 1):
            yield from self.at(ASSIGNS, node)
        if is_argument and command in ("eval", "let"):
            yield from self._assigned_in(node, is_sum=command == "let")
        else:
            yield from self.see(node)

    def _assigned_in(self, node: Syntax, *, is_sum: bool) -> Iterator[NameEvent]:
        """Yield what a text assigns that is executed (`eval`) or computed (`let`)."""
        yield from self.see(node)
        for match in _ASSIGNED.finditer(self.data, node.start_byte, node.end_byte):
            what = READS if is_sum and match[2] else None
            for each in (what, ASSIGNS):
                if each is not None:
                    yield NameEvent(each, match[1].decode(), *match.span(1))

    def _concatenation(self, node: Syntax, asked: bool) -> Iterator[NameEvent]:
        """Yield the references of a word in several parts. The grammar ends `$A/$B` behind the second dollar sign."""
        for child in node.named_children:
            yield from self.see(child, asked=asked)
        last = node.children[-1] if node.children else None
        if last is not None and last.type == "$" and (match := NAME.match(self.data, node.end_byte)):
            yield NameEvent(READS, match[0].decode(), *match.span())

    def _binary_expression(self, node: Syntax, asked: bool) -> Iterator[NameEvent]:
        left, right = node.child_by_field_name("left"), node.child_by_field_name("right")
        operator = self.word(node.child_by_field_name("operator"))
        if left is None or right is None or left.type != "variable_name" or operator not in _ASSIGNING:
            for child in node.named_children:
                yield from self.see(child, asked=asked)
            return
        if operator != "=":
            yield from self.see(left)
        yield from self.see(right)
        yield from self.at(ASSIGNS, left)

    def _postfix_expression(self, node: Syntax, asked: bool) -> Iterator[NameEvent]:
        del asked
        for child in node.named_children:
            yield from self.see(child)
            yield from self.at(ASSIGNS, child)

    def _tested(self, arguments: list[Syntax]) -> Iterator[NameEvent]:
        for before, node in zip([None, *arguments], arguments, strict=False):
            if self.word(before) == "-v":
                yield from self.at(ASKS, node)
            else:
                yield from self.see(node, asked=self.word(before) in ("-n", "-z") or len(arguments) == 1)

    def _unary_expression(self, node: Syntax, asked: bool) -> Iterator[NameEvent]:
        del asked
        operator = self.word(node.child_by_field_name("operator"))
        for child in [inner_node for inner_node in node.named_children if inner_node.type != "test_operator"]:
            if operator == "-v":
                yield from self.at(ASKS, child)
            elif operator in ("++", "--"):
                yield from self.see(child)
                yield from self.at(ASSIGNS, child)
            else:
                yield from self.see(child, asked=operator in ("-n", "-z"))

    def _test_command(self, node: Syntax, asked: bool) -> Iterator[NameEvent]:
        del asked
        for child in node.named_children:
            yield from self.see(child, asked=len(node.named_children) == 1 and child.type == "string")

    def _declaration_command(self, node: Syntax, asked: bool) -> Iterator[NameEvent]:
        del asked
        first = self.word(node.children[0])
        options = [self.word(child) for child in node.named_children if self.word(child).startswith("-")]
        exports = first == "export" or any("x" in option for option in options)
        for child in node.named_children:
            if child.type == "variable_assignment":
                yield from self._variable_assignment(child, asked=False, what=EXPORTS if exports else ASSIGNS)
            elif child.type == "variable_name" and self.data[child.end_byte : child.end_byte + 1] == b"$":
                yield NameEvent(INDIRECT, self.word(child), child.start_byte, child.end_byte)  # `A_${B}_C=value`
            elif child.type == "variable_name":
                yield from self.at(READS if exports else ASSIGNS, child)
                if exports:
                    yield NameEvent(
                        EXPORTS, self.word(child), child.start_byte, child.start_byte
                    )  # its earlier value is passed on to programs
            else:
                yield from self.see(child)

    def _unset_command(self, node: Syntax, asked: bool) -> Iterator[NameEvent]:
        del asked
        for child in node.named_children:
            if child.type in ("variable_name", "word"):
                yield from self.at(UNSET, child)

    def _for_statement(self, node: Syntax, asked: bool) -> Iterator[NameEvent]:
        del asked
        variable = node.child_by_field_name("variable")
        for child in [
            inner_node for inner_node in node.named_children if inner_node != variable and inner_node.type != "do_group"
        ]:
            yield from self.see(child)
        if variable is not None:
            if self.word(variable) in self.indirect.known:
                yield from self.indirect.listed(node.children_by_field_name("value"))
            yield from self.at(ASSIGNS, variable)
        for child in [inner_node for inner_node in node.named_children if inner_node.type == "do_group"]:
            yield from self.see(child)

    def _variable_name(self, node: Syntax, asked: bool) -> Iterator[NameEvent]:
        del asked
        yield from self.at(READS, node)
