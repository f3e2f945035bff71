"""The names under which deliveries are recorded.

A stage, a service or the application keeps the first name that it had (`formerly:`): so what was delivered before a
rename is known after it, also to somebody whose copy of the jar still has the old name.
"""

from __future__ import annotations

from collections.abc import Mapping

from coinjar.core.record import Record


class RecordedNames(Record):
    """The recorded name of the application; those of the stages and services whose names have changed."""

    app: str
    stages: Mapping[str, str] = {}
    services: Mapping[str, str] = {}

    def stage(self, name: str) -> str:
        """Return the recorded name of a stage."""
        return self.stages.get(name, name)

    def target(self, key: str) -> str:
        """Return the recorded key of a target, SERVICE, SERVICE@HOST or nothing."""
        return _of_service(key, self.services)

    def present_stage(self, recorded: str) -> str:
        """Return the present name of a recorded stage."""
        return _reversed(self.stages).get(recorded, recorded)

    def present_target(self, recorded: str) -> str:
        """Return the present key of a recorded target."""
        return _of_service(recorded, _reversed(self.services))


def _of_service(key: str, names: Mapping[str, str]) -> str:
    service, at, host = key.partition("@")
    return names.get(service, service) + at + host


def _reversed(names: Mapping[str, str]) -> dict[str, str]:
    return {recorded: name for name, recorded in names.items()}
