"""A running process as a source and in a proof: while it starts, while it runs, and after it has ended."""

from __future__ import annotations

import json
import os
import subprocess
from collections.abc import Callable

from coinjar.system.processes import environment_of
from tests.conftest import Coinjar

JAR = """\
services: {web: {}}
stages: {dev: {}}
variables: {LEVEL: {default: info}}
proofs: {gone: {service: web, process: {pid_file: pid}, variable: LEVEL, expect: {absent: true}}}
"""


def test_a_process_is_a_source(jar: Callable[..., Coinjar]) -> None:
    cj = jar(JAR)
    with subprocess.Popen(["sleep", "60"], env={"PATH": "/bin", "LEVEL": "debug", "SHINY": "new"}) as process:
        shown = cj("adopt", f"process:{process.pid}", "--stage", "dev", "--yes")
        assert "1 new name, 1 other value, 1 left out" in shown.out
        rows = {
            row["name"]: row["verdict"]
            for row in json.loads(cj("compare", f"process:{process.pid}", "dev", "--json").out)["rows"]
        }
        assert rows == {"LEVEL": "same", "SHINY": "same"}
        process.kill()
    assert cj("value", "dev", "SHINY").out == "new"
    assert "there is no such process" in cj("adopt", "process:999999999", "--stage", "dev", code=5).err
    assert "is not a process number" in cj("adopt", "process:web", "--stage", "dev", code=2).err


def test_a_process_that_has_just_been_started_has_its_environment() -> None:
    """The kernel shows an empty one until the program is in place: on one processor, for one in a hundred at least."""
    allowed = os.sched_getaffinity(0)
    os.sched_setaffinity(0, {min(allowed)})
    try:
        for number in range(400):
            with subprocess.Popen(["sleep", "600"], env={"LEVEL": str(number)}) as process:
                try:
                    assert environment_of(process.pid) == {"LEVEL": str(number)}
                finally:
                    process.kill()
    finally:
        os.sched_setaffinity(0, allowed)


def test_a_process_that_has_ended_is_not_one_without_variables(jar: Callable[..., Coinjar]) -> None:
    """Its number is taken until its parent has asked for its exit code; its environment is gone before that."""
    cj = jar(JAR)
    with subprocess.Popen(["true"], env={"LEVEL": "debug"}) as process:
        os.waitid(os.P_PID, process.pid, os.WEXITED | os.WNOWAIT)
        assert "there is no such process" in cj("adopt", f"process:{process.pid}", "--stage", "dev", code=5).err
        cj.write({"pid": f"{process.pid}\n"})
        assert f"there is no process {process.pid}" in cj("confirm", "dev", code=1).out


def test_a_process_without_variables_has_none(jar: Callable[..., Coinjar]) -> None:
    cj = jar(JAR)
    with subprocess.Popen(["sleep", "600"], env={}) as process:
        try:
            cj.write({"pid": f"{process.pid}\n"})
            assert "the source contains no variables" in cj("adopt", f"process:{process.pid}", "--stage", "dev").err
            assert "LEVEL" in cj("compare", "dev", f"process:{process.pid}", code=1).out
            cj("confirm", "dev")
        finally:
            process.kill()
