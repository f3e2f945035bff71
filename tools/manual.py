"""Write the man page coinjar(1) from the program's own help: `make dist`."""

from __future__ import annotations

import re
import sys
from importlib import import_module

from reference import help_of

HEAD = """\
.TH COINJAR 1 "" "Coin Jar {version}" "User Commands"
.SH NAME
coinjar \\- environment variables of an application, per stage and service
.SH SYNOPSIS
.B coinjar
[\\fIOPTIONS\\fR] \\fICOMMAND\\fR [\\fIARGUMENTS\\fR]
.SH DESCRIPTION
Defines an application's environment variables once, per stage and service, in files beside the code, with the secrets
encrypted; shows, checks, compares, renders and injects them, delivers them to running systems, and migrates them.
.B coinjar help guide
goes through all of it;
.B coinjar help
lists the other topics.
.SH EXIT STATUS
0 done; 1 findings, differences or no value; 2 wrong usage; 3 the jar or an input is invalid; 4 a secret cannot be
decrypted; 5 an external system failed; 70 a fault of coinjar itself; 130 interrupted.
.B within
returns the program's own.
.SH ENVIRONMENT
.TP
.B COINJAR_JAR
the jar's folder
.TP
.B COINJAR_IDENTITY, COINJAR_IDENTITY_FILE, COINJAR_PASSPHRASE
the identity, or the file that has it, and its passphrase
.TP
.B COINJAR_CONSENT
the digest of what a jar may do, on machines
.TP
.B NO_COLOR
no colours
.SH FILES
.TP
.I jar/
the jar, beside the code
.TP
.I ~/.config/coinjar/
identity and consents
"""


def manual() -> str:
    """The whole page, in the macros of man(7)."""
    from coinjar import __version__
    from coinjar.cli.main import COMMANDS

    parts = [HEAD.format(version=__version__), ".SH OPTIONS\n", literal(help_of()), ".SH COMMANDS\n"]
    for name in COMMANDS:
        parts.append(f".SS {name}\n{literal(help_of(name))}")
        members = getattr(import_module(f"coinjar.cli.{name}"), "COMMANDS", ())
        parts += [f".SS {name} {member}\n{literal(help_of(name, member))}" for member in members]
    return "".join(parts)


def literal(text: str) -> str:
    """A text that is shown as it is."""
    escaped = text.replace("\\", "\\e").replace("-", "\\-")
    return ".nf\n" + re.sub(r"(?m)^(?=[.'])", r"\\&", escaped) + "\n.fi\n"


if __name__ == "__main__":
    sys.stdout.write(manual())
