"""Lines that are read without the YAML library mean what they mean to it."""

from __future__ import annotations

from typing import Any

from hypothesis import example, given
from hypothesis import strategies as st

from coinjar.core.errors import CoinJarError
from coinjar.core.model import Jar, Variable
from coinjar.jarfile.declarations import read_declarations
from coinjar.jarfile.load import read_plain
from coinjar.jarfile.simple_lines import SimpleVariables

HEAD = (
    "coinjar: 1 # e\napp: shop\nservices: {web: {}, all-in: {}, 'null': {}}\nsets: {both: [web, all-in]}\n"
    "stages: {dev: {}}\n"
)
TEXTS = """\
a|-5|- a|-|a: b|a:b|a:|a #b|a#b|a  b|a |'it''s'|'a'|'a|"a"|"a\\n"|null|~|''|""|'null'|[a]|{text: b}|&a x|*a|!t x|>
{text: "b"}|{text: '${A}'}|{text: "${A:-b}" }|{text: "${X}"}|{text: "${A@of:web}"}|{text: "${A@of:x}"}|{text: "${A"}
{text: ""}|[web]|[web, all-in]|[web,both]|[all]|[web, x]|[null]|['null']|[web, web]|[web,]|[ web ]|[]|[web, [all-in]]
[web]x|{text: "a"}x|true|false|integer|choice|json|http://x.example/#y?z|a # note|'a' # note|'a'# note|a :b|?a|%a|@a
a\tb|<<|...|---||a\r\
""".replace("\n", "|").split("|")
KEYS = ("about", "kind", "default", "secret", "required", "may_be_empty", "per_stage", "choices", "services", "wrong")
OTHER_LINES = """\
|  |# note|  # note|      deeper: x|    - x|  - x|  b]|    end'|  end"|   A:| A:|\tA: x|  A :|  A: # note|  "B":|  ? C
all:|web:|all-in:|other:|variables:|...|---|destinations: {}|web: # note|web:x|sets: [|app: "|  <<: {A: x}|  A.B: x\
""".replace("\n", "|").split("|")
TEXT = st.sampled_from(TEXTS) | st.text("aB1 :#'\"-.,[]{}&*!|>%@`~?=/\\\t", max_size=8)
FLOW = st.lists(st.builds("{}: {}".format, st.sampled_from(KEYS), TEXT), max_size=3).map(", ".join)
LINE = st.one_of(
    st.builds("  {}: {{{}}}".format, st.sampled_from("ABC"), FLOW),
    st.builds("  {}:".format, st.sampled_from("ABC")),
    st.builds("  {}: {}".format, st.sampled_from("ABCX"), TEXT),
    st.builds("    {}: {}".format, st.sampled_from(KEYS), TEXT),
    st.sampled_from(OTHER_LINES),
)
GOOD_LINES = """\
about: a b|kind: integer|kind: json|default: '7'|default: 7 # seven|default: {text: "${A:-b} $$ ${B@url}"}
required: true|secret: false|choices: [a]|services: [web, both]\
""".replace("\n", "|").split("|")
BLOCK = st.builds(
    lambda name, keys, other, flow: [
        *([f"  {name}: {{{', '.join(keys)}}}"] if flow else [f"  {name}:", *(f"    {key}" for key in keys)]),
        *other,
    ],
    st.sampled_from("ABCDEFGH"),
    st.lists(st.sampled_from(GOOD_LINES), max_size=3, unique_by=lambda line: line[:4]),
    st.just([]) | st.lists(LINE, max_size=1),
    st.booleans(),
)
SCOPE = st.builds(
    lambda scope, names, other: [f"{scope}:", *(f"  {name}: x" for name in names), *other],
    st.sampled_from(["all", "web", "all-in"]),
    st.sets(st.sampled_from("ABC"), min_size=1),
    st.just([]) | st.lists(LINE, max_size=2),
)


def with_yaml(text: str) -> str:
    """The same text, except that its first comment has a letter that is not ASCII: YAML reads it all."""
    return text.replace("# e", "# \N{LATIN SMALL LETTER E WITH ACUTE}", 1)


def variable_of(variable: Variable) -> tuple[Any, ...]:
    default = variable.default
    return (
        variable._replace(default=None),
        (default.content, default.file, default.line, default.column) if default else None,
    )


def declared(text: str) -> object:
    """The jar that a text declares, or its faults."""
    try:
        jar = read_declarations(text.encode(), "jar.yaml")
    except CoinJarError as fault:
        return [(one.message, one.hint, one.location) for one in fault.each()]
    return jar._replace(variables={}), [variable_of(variable) for variable in jar.variables.values()]


def lines_of(groups: st.SearchStrategy[list[str]]) -> st.SearchStrategy[list[str]]:
    return st.lists(groups, max_size=5).map(lambda some: [line for group in some for line in group])


@given(lines_of(BLOCK), st.sampled_from(["", "\n"]), st.sampled_from(["", "", "", 'formerly: ["\n', "sets: {\n"]))
@example(["  A:", '    about: "x', "  B:", "    about: y", '  end"'], "\n", "")
@example(["  A:", "    about: x", "  B:", "    choices: [a,", "  C:", "    about: y", "    b]"], "\n", "")
@example(["  A:", "  B:", "    about: x", "  A:", "    required: true"], "\n", "")
@example(["  A:", "    about: x", "  # note", "    required: true"], "", "")
@example(["  A:", "    about: x", "destinations: {}"], "\n", "")
@example(["  A: {about: x, default: '7'} # e", "  B: {}", "    kind: text"], "\n", "")
@example(["  A:", "    about: x", "  B: {secret: true}", "      deeper: x", "  C: {}"], "\n", "")
@example(["  A:", '    about: "x', "  B: {secret: true}", '  end"'], "\n", "")
@example(["  A: {about: x,", "  B: {secret: true}", "  }"], "\n", "")
def test_declarations_are_the_same_with_yaml(lines: list[str], end: str, before: str) -> None:
    text = HEAD + before + "variables:\n" + "\n".join(lines) + end
    assert declared(text) == declared(with_yaml(text))


PLAIN_KEYS = {
    "about": ["a b", "'a: b'", '"#, }"', "a/b.c"],
    "kind": ["text", "integer", "json"],
    "default": ["'7'", "7", "x-1", '{text: "${A:-b} $$ ${A@url}"}', "{text: 'b'}", '""'],
    "services": ["[web]", "[both]", "[all, web]", "[web,all-in]"],
    "required": ["true", "false"],
}
USUAL = st.lists(
    st.tuples(
        st.fixed_dictionaries({}, optional={key: st.sampled_from(texts) for key, texts in PLAIN_KEYS.items()}),
        st.booleans(),
        st.sampled_from(["", " # note"]),
    ),
    min_size=1,
    max_size=5,
)


@given(USUAL)
def test_usual_declarations_are_read_without_yaml_and_mean_the_same(
    usual: list[tuple[dict[str, str], bool, str]],
) -> None:
    lines = ["  A: {}"]
    for name, (keys, on_one_line, note) in zip("BCDEF", usual, strict=False):
        written = [f"{key}: {text}" for key, text in keys.items()]
        if on_one_line:
            lines.append(f"  {name}: {{{', '.join(written)}}}{note}")
        else:
            lines += [f"  {name}:{note}", *(f"    {each}{note}" for each in written)]
    text = f"{HEAD}variables:\n" + "\n".join(lines) + "\n"
    assert len(SimpleVariables(text.encode()).rest.split()) == len(HEAD.split()) + len(["variables:", "A:"])
    assert declared(text) == declared(with_yaml(text))


@given(lines_of(SCOPE), st.sampled_from(["", "\n"]))
@example(["all:", "  A: x", "  B: 'y' # note", "", "web:", "# note", "web:", "  A: z"], "\n")
@example(["all:", "  A: x", "    deeper: x"], "\n")
def test_values_are_the_same_with_yaml(lines: list[str], end: str) -> None:
    jar = read_declarations(
        f"{HEAD}variables: {{A: {{}}, B: {{kind: integer}}, C: {{kind: json}}}}\n".encode(), "jar.yaml"
    )
    text = "# e\n" + "\n".join(lines) + end
    assert values(jar, text) == values(jar, with_yaml(text))


def values(jar: Jar, text: str) -> object:
    """The values of a text with their places, or its faults."""
    try:
        layer = read_plain(jar, text.encode(), "plain/dev.yaml")
    except CoinJarError as fault:
        return [(one.message, one.hint, one.location) for one in fault.each()]
    return [
        (scope, name, value.content, value.file, value.line, value.column)
        for scope, named in layer.items()
        for name, value in named.items()
    ]
