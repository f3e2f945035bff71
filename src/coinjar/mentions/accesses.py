"""What a node says about a variable."""

from __future__ import annotations

import re
from collections.abc import Sequence
from typing import NamedTuple

from coinjar.mentions import tree
from coinjar.mentions.base import READ


class UseContext(NamedTuple):
    """What is known of a node from the code around it."""

    default: str | None = None
    asked: bool = False


PLAIN = UseContext()


class EnvironmentAccess(NamedTuple):
    """One access to the environment: the expressions that name the variable, and the kind of access.

    `probable`: the helper or form by which it is taken for one, where nothing else shows it. `kind`: the variable's,
    where the code says it. `defaults`: of each name, where each has its own. `expands`: the keys are texts with
    references of this form.
    """

    keys: Sequence[tree.Node]
    access: str = READ
    default: tree.Node | None = None
    probable: str = ""
    kind: str = ""
    defaults: Sequence[tree.Node | None] = ()
    expands: re.Pattern[str] | None = None
