"""Read `proofs:` and `records:` of jar.yaml."""

from __future__ import annotations

from collections.abc import Callable

from yaml.nodes import MappingNode, Node, ScalarNode, SequenceNode

from coinjar.core.errors import CoinJarError
from coinjar.core.model import Jar, RecordsConfig
from coinjar.core.names import suggestion
from coinjar.core.proofs import ASKERS, Expected, Proof
from coinjar.core.references import Template, parse_template
from coinjar.documents.field_reader import FieldReader
from coinjar.documents.yamltext import location

KEYS = ("about", "service", "stages", *ASKERS, "at", "pattern", "variable", "as", "expect", "expect_on")
QUESTIONS: dict[str, tuple[str, ...]] = {
    "process": ("pid_file", "port", "runs"),
    "run": ("in", "pipeline"),
    "container": ("", "engine"),
}
"""The parts of a question that is a mapping; "" is the single text of the others."""
_FORMS = ("is", "not", "matches", "present", "absent", "digest", "key")
_WORD = Template("", ())


class ProofReader:
    """Reads the proofs of a jar with known services, stages, variables and destinations."""

    def __init__(
        self,
        fields: FieldReader,
        jar: Jar,
        stages: Callable[[Node, str], frozenset[str]],
        references: Callable[[Template, Node, str], None],
    ) -> None:
        self.fields = fields
        self.jar = jar
        self._stages = stages
        self._references = references

    def read(self, name: str, key: Node, node: Node) -> Proof | None:
        """Return one proof; None after a fault."""
        fields, what = self.fields, f"proof '{name}'"
        before = len(fields.faults)
        own = fields.fields(node, what, KEYS)
        askers = [asker for asker in ASKERS if asker in own]
        if len(askers) != 1:
            fields.fault(
                key, f"{what} asks {' and '.join(askers) or 'nobody'}", f"give it one of {', '.join(ASKERS)}", "proof"
            )
            return None
        service = fields.text(own.get("service"), "service") or (
            next(iter(self.jar.services)) if len(self.jar.services) == 1 else None
        )
        if service is not None and service not in self.jar.services:
            fields.fault(
                own["service"],
                f"there is no service '{service}'",
                suggestion(service, self.jar.services, "name one"),
                "unknown-service",
            )
        if service is None:
            fields.fault(key, f"{what} has no service", f"add service: one of {', '.join(self.jar.services)}", "proof")
        given = {
            "about": fields.text(own.get("about"), "about"),
            "at": fields.text(own.get("at"), "at"),
            "pattern": fields.pattern(own.get("pattern"), "'pattern'"),
            "variable": fields.text(own.get("variable"), "variable"),
            "dialect": fields.text(own.get("as"), "as"),
        }
        if given["at"] and not given["at"].startswith("/"):
            fields.fault(
                own["at"],
                f"'{given['at']}' is not a JSON Pointer",
                "it begins with '/', as in /settings/LEVEL (RFC 6901)",
                "pointer",
            )
        proof = Proof(
            name=name,
            location=location(key, fields.file),
            asker=askers[0],
            question=self._question(askers[0], own[askers[0]], what),
            service=service,
            stages=self._stages(own["stages"], f"stages of {name}") if "stages" in own else None,
            expect=self._expected(own["expect"], what) if "expect" in own else None,
            expect_on=self._by_stage(own["expect_on"], what) if "expect_on" in own else {},
            **given,
        )
        if proof.asker == "program" and proof.expect is None and not proof.expect_on:
            proof = proof._replace(expect=Expected("present", "", proof.location))  # it ends with exit code 0
        if proof.expect is None and not proof.expect_on and not proof.whole_environment:
            fields.fault(key, f"{what} has no expected answer", "add expect: …, or expect_on: {STAGE: …}", "proof")
        return proof if len(fields.faults) == before else None

    def _template(self, node: Node, what: str) -> Template:
        try:
            template = parse_template(self.fields.text(node, what))
        except CoinJarError as fault:
            self.fields.fault(node, fault.message, fault.hint, fault.code)
            return _WORD
        self._references(template, node, what)
        return template

    def _words(self, node: Node, what: str) -> dict[str, Template]:
        """Return the words of a program. A reference to a secret is a fault: the process list would show it."""
        words = self.fields.texts(node, what)
        if isinstance(node, SequenceNode) and not words:
            self.fields.fault(node, f"{what} names no program", "write [program, word, ...]", "proof")
        result = {str(number): self._template(at, what) for number, (_, at) in enumerate(words)}
        for name in {reference.name for template in result.values() for reference in template.references()}:
            if name in self.jar.secret_names:
                hint = "the program gets it in its environment: let it read that"
                self.fields.fault(node, f"{what} names the secret {name}, which the process list would show", hint)
        return result

    def _question(self, asker: str, node: Node, what: str) -> dict[str, Template]:
        if asker == "program":
            return self._words(node, f"{asker} of {what}")
        if not isinstance(node, MappingNode):
            if "" not in QUESTIONS.get(asker, ("",)):
                parts = ", ".join(QUESTIONS[asker])
                self.fields.fault(node, f"'{asker}' of {what} must be a mapping", f"its keys are {parts}", "proof")
            return {"": self._template(node, f"{asker} of {what}")}
        allowed = QUESTIONS.get(asker, ())
        own = self.fields.fields(node, f"{asker} of {what}", allowed or ("",))
        if asker == "run" and len(own) != len(allowed):
            self.fields.fault(
                node, f"'run' of {what} has in: and pipeline:", "name the destination, and the pipeline there", "proof"
            )
        if asker == "process" and len(own) != 1:
            self.fields.fault(node, f"'process' of {what} has one of {', '.join(allowed)}", "keep one", "proof")
        return {key: self._template(node, f"{asker} of {what}") for key, node in own.items()}

    def _by_stage(self, node: Node, what: str) -> dict[str, Expected]:
        result = {}
        for stage, key, child in self.fields.members(node, f"expect_on of {what}"):
            if stage not in self.jar.stages:
                try:
                    self.jar.stage(stage)
                except CoinJarError as fault:
                    self.fields.fault(key, fault.message, fault.hint, "unknown-stage")
            if expected := self._expected(child, what):
                result[stage] = expected
        return result

    def _expected(self, node: Node, what: str) -> Expected | None:
        fields, here = self.fields, location(node, self.fields.file)
        if isinstance(node, ScalarNode):
            return Expected("is", self._template(node, f"expect of {what}"), here)
        own = fields.fields(node, f"expect of {what}", _FORMS)
        forms = [name for name in own if name != "key"]
        if len(forms) != 1:
            fields.fault(
                node, f"expect of {what} has one of is, not, matches, present, absent, digest", "keep one", "proof"
            )
            return None
        form = forms[0]
        if form in ("present", "absent"):
            if not fields.flag(own[form], form):
                other = {"present": "absent", "absent": "present"}[form]
                fields.fault(
                    own[form],
                    f"'{form}' of {what} can only be true",
                    f"write {{{other}: true}} for the opposite",
                    "proof",
                )
            return Expected(form, "", here)
        if form == "matches":
            return Expected(form, fields.pattern(own[form], "'matches'"), here)
        if form == "digest":
            names = [fields.text(own.get(name), name) for name in ("digest", "key")]
            for name in names:
                if name not in self.jar.variables:
                    hint = suggestion(name, self.jar.variables, "write {digest: NAME, key: NAME}, both declared")
                    fields.fault(
                        node,
                        f"expect of {what} refers to {name or 'no key'}, which is not declared",
                        hint,
                        "unknown-variable",
                        subject=name,
                    )
            return Expected(form, names[0], here, names[1])
        return Expected(form, self._template(own[form], f"expect of {what}"), here)


def read_records(fields: FieldReader, node: Node) -> RecordsConfig:
    """Read where the records are shared: {address: postgresql://…, password: {from_env: NAME}}."""
    own = fields.fields(node, "'records'", ("address", "password"))
    address = fields.text(own.get("address"), "address")
    if not address:
        fields.fault(node, "'records' has no address", "write address: postgresql://USER@HOST/DATABASE", "records")
    password = ""
    if "password" in own:
        inner = fields.fields(own["password"], "'password'", ("from_env",))
        password = fields.text(inner.get("from_env"), "from_env")
    return RecordsConfig(address, location(node, fields.file), password)
