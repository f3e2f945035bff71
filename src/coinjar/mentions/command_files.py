"""Files that contain commands of a shell: makefiles, files of processes, schedules, units, the scripts of a package."""

from __future__ import annotations

import re
from collections.abc import Iterator

from coinjar.mentions import shell
from coinjar.mentions.base import READ, SET, Mention, TextMentions, in_order
from coinjar.mentions.dollars import references

_MAKE_REFERENCE = re.compile(rb"(?<!\$)\$[({]([A-Z][A-Z0-9_]+)[)}]")
_MAKE_ASSIGNED = re.compile(
    rb"(?m)^[ ]*(?P<export>export[ \t]+)?(?:override[ \t]+)?(?P<name>[A-Za-z_]\w*)[ \t]*(?P<how>::?:?=|\?=|\+=|!=|=)"
    rb"[ \t]*(?P<value>[^\n#]*)|^define[ \t]+(?P<defined>\w+)"
)
_OF_MAKE = re.compile(r"MAKE\w*|CURDIR|SHELL|SUFFIXES|MFLAGS")
_MAKE_COMMENT = re.compile(rb"(?m)^#[^\n]*")
_RECIPE = re.compile(rb"(?m)^\t((?:[^\n\\]|\\.|\\\n)*)|^[^\t\n#=]*:[^\n=;]*;([^\n]*)")
_IN_PARENTHESES = re.compile(rb"(?<!\$)\$(?:\([^()\n]*\)|\{[^{}\n]*\}|[^$])")
_PROCESS = re.compile(rb"(?m)^[A-Za-z0-9_-]+:[ \t]*([^\n]+)")
_SCHEDULE = re.compile(rb"(?m)^[ \t]*(?:@\w+|(?:[-\d*/,A-Za-z]+[ \t]+){5})([^\n]+)")
_SCHEDULE_SETS = re.compile(rb"(?m)^[ \t]*([A-Za-z_]\w*)[ \t]*=")
_OF_CRON = frozenset({"MAILTO", "MAILFROM", "SHELL", "PATH", "HOME", "LOGNAME", "CRON_TZ", "RANDOM_DELAY"})
_UNIT_LINE = re.compile(
    rb"(?m)^(Environment|PassEnvironment|UnsetEnvironment|Exec\w+)[ \t]*=((?:[^\n\\]|\\.|\\\n)*)", re.DOTALL
)
_UNIT_SETS = re.compile(rb"""(?:^|[\s"'])([A-Za-z_]\w*)=(?:[^\s"']|"[^"]*"|'[^']*')*""")
_NAME = re.compile(rb"[A-Za-z_]\w*")
_SCRIPTS = re.compile(rb'"scripts"\s*:\s*\{((?:[^{}"]|"(?:[^"\\]|\\.)*")*)\}')
_MEMBER = re.compile(rb'"(?:[^"\\]|\\.)*"\s*:\s*"((?:[^"\\]|\\.)*)"')


def find_in_makefile(data: bytes, helpers: frozenset[str]) -> TextMentions:
    """Return what a makefile takes from the environment: what it assigns nowhere is probable, since others include it;
    recipes are read as a shell does, for which `$$` is a dollar sign.
    """
    del helpers
    data = _MAKE_COMMENT.sub(lambda match: b" " * len(match[0]), data)
    found: list[Mention] = []
    own: set[str] = set()
    for match in _MAKE_ASSIGNED.finditer(data):
        name = (match["name"] or match["defined"]).decode()
        if match["how"] == b"?=":
            default = match["value"].decode(errors="replace").strip()
            found.append(Mention(name, *match.span("name"), READ, default, probable="?="))
            continue
        own.add(name)
        if match["export"]:
            found.append(Mention(name, *match.span("name"), SET))
    for match in _MAKE_REFERENCE.finditer(data):
        name = match[1].decode()
        if name not in own and not _OF_MAKE.fullmatch(name):
            found.append(Mention(name, *match.span(1), READ, probable="$()"))
    commands = _IN_PARENTHESES.sub(lambda match: b"x" * len(match[0]), data).replace(b"$$", b" $")
    for recipe in _RECIPE.finditer(commands):
        found += _by_shell(commands, *recipe.span(recipe.lastindex or 0)).mentions
    return in_order(found)


def _by_shell(data: bytes, start: int, end: int) -> TextMentions:
    return shell.find_in(data, [(start, end)])


def find_in_processes(data: bytes, helpers: frozenset[str]) -> TextMentions:
    """Return the mentions of a file with a command for each kind of process."""
    del helpers
    parts = [_by_shell(data, *match.span(1)) for match in _PROCESS.finditer(data)]
    return in_order([mention for part in parts for mention in part.mentions])


def find_in_schedule(data: bytes, helpers: frozenset[str]) -> TextMentions:
    """Return the mentions of a schedule (crontab(5)): what it sets, and what its commands read."""
    del helpers
    data = _MAKE_COMMENT.sub(lambda match: b" " * len(match[0]), data)
    found = [Mention(match[1].decode(), *match.span(1), SET) for match in _SCHEDULE_SETS.finditer(data)]
    own = {mention.name for mention in found}
    for match in _SCHEDULE.finditer(data):
        found += [mention for mention in _by_shell(data, *match.span(1)).mentions if mention.name not in own]
    return in_order([mention for mention in found if mention.name not in _OF_CRON])


def find_in_unit(data: bytes, helpers: frozenset[str]) -> TextMentions:
    """Return the mentions of a unit of systemd (systemd.exec(5), systemd.service(5))."""
    del helpers
    return in_order(_of_unit(data))


def _of_unit(data: bytes) -> Iterator[Mention]:
    for match in _UNIT_LINE.finditer(data):
        key, (start, end) = match[1], match.span(2)
        if key == b"Environment":
            for given in _UNIT_SETS.finditer(data, start, end):
                yield Mention(given[1].decode(), *given.span(1), SET)
        elif key.startswith(b"Exec"):
            yield from references(data, start, end)
        else:
            access = READ if key == b"PassEnvironment" else SET
            for name in _NAME.finditer(data, start, end):
                yield Mention(name[0].decode(), *name.span(), access)


def find_in_package(data: bytes, helpers: frozenset[str]) -> TextMentions:
    """Return the mentions of the scripts of a package (package.json)."""
    del helpers
    found: list[Mention] = []
    commands = data.replace(b'\\"', b' "')
    for scripts in _SCRIPTS.finditer(data):
        for member in _MEMBER.finditer(data, *scripts.span(1)):
            found += _by_shell(commands, *member.span(1)).mentions
    return in_order(found)
