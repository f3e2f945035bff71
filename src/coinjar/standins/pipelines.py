"""The pipeline files that Sluiceway runs: a simple form of our own. docs/formats.md describes it.

    pipeline: 1
    variables: {TITLE: for every job}
    jobs:
      - name: smoke
        stage: rehearsal            # the stage whose variables it gets; without it, only the whole project's
        variables: {LEVEL: for this job}
        lines:
          - name: greet
            variables: {WORD: for this line}
            do: echo "$TITLE" [=WORD=]

The narrower takes effect: project, stage, pipeline, job, line. `[=NAME=]` is replaced before the shell sees the line,
`$NAME` by the shell; an undefined name is empty in both. `secret:NAME` as a value is the project's secret of that name.
"""

from __future__ import annotations

import re
import subprocess
from collections.abc import Iterable, Sequence
from typing import Any

import yaml

from coinjar.standins.masking import MASK

_EXPRESSION = re.compile(r"\[=\s*([A-Za-z_]\w*)\s*=\]")
_LONGEST = 30
"""Maximum seconds of one line."""


class PipelineError(Exception):
    """A pipeline that cannot be run, and why."""


def read_pipeline(text: str) -> dict[str, Any]:
    """Return the file's data; every scalar is text. Raises PipelineError."""
    try:
        data = yaml.load(text, Loader=yaml.BaseLoader)  # noqa: S506 - the base loader makes texts, lists and maps only
    except yaml.YAMLError:
        raise PipelineError("the pipeline is not YAML") from None
    if not isinstance(data, dict) or data.get("pipeline") != "1" or not isinstance(data.get("jobs"), list):
        raise PipelineError("a pipeline requires pipeline: 1, and a list of jobs")
    for job in data["jobs"]:
        if (
            not isinstance(job, dict)
            or not isinstance(job.get("lines"), list)
            or not all(isinstance(line, dict) for line in job["lines"])
        ):
            raise PipelineError("a job requires a list of lines")
    return data


class PipelineJob:
    """Continues a run: its jobs in order, its log with every secret masked."""

    def __init__(self, text: str, values: Iterable[dict[str, Any]], guarded: Sequence[str]) -> None:
        self.pipeline = read_pipeline(text)
        self.values = list(values)
        self.guarded = guarded
        self.kept = {value["name"]: value["value"] for value in self.values}
        self.hidden = sorted(
            {value["value"] for value in self.values if value["secret"] and len(value["value"]) > 3},
            key=len,
            reverse=True,
        )

    def go_on(self, run: dict[str, Any]) -> None:
        """Run the remaining jobs; `run` has its state, its log, the number of finished jobs, and the approved
        stages.
        """
        run["state"] = "running"
        for job in self.pipeline["jobs"][run["done"] :]:
            stage = job.get("stage")
            if stage in self.guarded and stage not in run["yes"]:
                run.update(state="waiting", waits_for=stage)
                self._log(
                    run, f"{job.get('name', 'job')} waits: {stage} is guarded, and a second person must approve it"
                )
                return
            self._log(run, f"== {job.get('name', 'job')}" + (f" ({stage})" if stage else " (no stage)"))
            if not self._job(job, run):
                run["state"] = "failed"
                return
            run["done"] += 1
        run["state"] = "passed"

    def _job(self, job: dict[str, Any], run: dict[str, Any]) -> bool:
        levels = [
            self._of(None),
            self._of(job.get("stage")) if job.get("stage") else {},
            self._env(self.pipeline),
            self._env(job),
        ]
        for line in job["lines"]:
            environment: dict[str, str] = {}
            for level in (*levels, self._env(line)):
                environment |= level
            command = _expanded(str(line.get("do", "")), environment)
            try:
                # Running what the pipeline says is its purpose; loopback, for trying things.
                done = subprocess.run(  # noqa: S603
                    ["/bin/sh", "-c", command],
                    env={"PATH": "/usr/bin:/bin"} | environment,
                    stdin=subprocess.DEVNULL,
                    stdout=subprocess.PIPE,
                    stderr=subprocess.STDOUT,
                    timeout=_LONGEST,
                    check=False,
                )
            except subprocess.TimeoutExpired:
                self._log(run, f"{line.get('name', 'line')} took over {_LONGEST} s")
                return False
            for row in done.stdout.decode(errors="replace").splitlines():
                self._log(run, row)
            if done.returncode:
                self._log(run, f"{line.get('name', 'line')} ended with {done.returncode}")
                return False
        return True

    def _of(self, stage: str | None) -> dict[str, str]:
        return {value["name"]: value["value"] for value in self.values if value["stage"] == stage}

    def _env(self, level: dict[str, Any]) -> dict[str, str]:
        env = level.get("variables")
        result = {}
        for name, text in (env if isinstance(env, dict) else {}).items():
            result[str(name)] = self.kept.get(str(text)[7:], "") if str(text).startswith("secret:") else str(text)
        return result

    def _log(self, run: dict[str, Any], line: str) -> None:
        for item in self.hidden:
            line = line.replace(item, MASK)
        run["log"].append(line)


def _expanded(text: str, environment: dict[str, str]) -> str:
    return _EXPRESSION.sub(lambda match: environment.get(match[1], ""), text)
