"""Addresses of machines, and the network connections to them: what needs no SSH library."""

from __future__ import annotations

import asyncio
import re
import socket
from pathlib import Path
from typing import NamedTuple

PATIENCE = 30
"""Timeout of a connection, in seconds."""


class SshAddress(NamedTuple):
    """`[USER@]HOST[:PORT]`."""

    user: str
    host: str
    port: int

    @property
    def name(self) -> str:
        return self.host if self.port in (0, 22) else f"{self.host}:{self.port}"

    @property
    def login(self) -> str:
        return f"{self.user}@{self.name}" if self.user else self.name


def parse_address(text: str) -> SshAddress | None:
    """Return the parts; None if it is not an address. An IPv6 address with a port is in brackets."""
    match = re.fullmatch(r"(?:([^@\s]+)@)?(?:\[([0-9a-fA-F:]+)\]|([^@:\s]+))(?::(\d{1,5}))?", text)
    return SshAddress(match[1] or "", match[2] or match[3], int(match[4] or 0)) if match else None


class MachineFault(Exception):
    """Why a machine cannot be used: what to say, what to do, and the code of the error."""

    def __init__(self, words: str, hint: str, code: str = "ssh") -> None:
        super().__init__(words)
        self.words = words
        self.hint = hint
        self.code = code

    @classmethod
    def unreachable(cls, fault: BaseException) -> MachineFault:
        """Return the fault of a connection that cannot be made."""
        return cls(f"cannot connect ({own_words(fault)})", "check that it is running, and the address")


def own_words(fault: BaseException) -> str:
    """Return what a fault of the system or of SSH says."""
    return str(getattr(fault, "strerror", None) or getattr(fault, "reason", None) or type(fault).__name__)


def has_own_configuration() -> bool:
    """Return whether the person has a configuration of SSH, which may lead elsewhere than to an address."""
    return Path("~/.ssh/config").expanduser().exists()


async def network_connection(address: SshAddress) -> socket.socket:
    """Return a socket that is connected to the machine. Raises MachineFault."""
    loop = asyncio.get_running_loop()
    fault: OSError = OSError("there is no such address")
    try:
        async with asyncio.timeout(PATIENCE):
            for family, kind, protocol, _, there in await loop.getaddrinfo(
                address.host, address.port or 22, type=socket.SOCK_STREAM
            ):
                sock = socket.socket(family, kind, protocol)
                sock.settimeout(0)
                try:
                    await loop.sock_connect(sock, there)
                except OSError as refused:
                    sock.close()
                    fault = refused
                except BaseException:
                    sock.close()
                    raise
                else:
                    return sock
            raise fault
    except OSError as refused:
        raise MachineFault.unreachable(refused) from None
