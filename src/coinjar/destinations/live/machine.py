"""A machine over SSH: its files, and commands on it.

Importing this imports the SSH library, which takes a tenth of a second: only connections need it.
"""

from __future__ import annotations

import asyncio
import shlex
import socket
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from pathlib import Path

from coinjar.destinations.live.fast_ssh_import import import_asyncssh
from coinjar.destinations.live.ssh_address import PATIENCE, MachineFault, own_words

import_asyncssh()

import asyncssh  # noqa: E402 - only after it was imported quickly

_CHOWN_PATIENCE = 30
"""Timeout of changing a file's owner, in seconds."""
_COMMANDS = 8
"""Commands at a time: OpenSSH allows ten sessions to a connection by default, and one is for the files."""
_MODE = 0o600
_UNFINISHED = ".coinjar-unfinished"
_FILE_HINT = "check the path, its permissions and the free space there"


class Machine:
    """A connection, with one session for its files. Raises MachineFault."""

    def __init__(self, connection: asyncssh.SSHClientConnection) -> None:
        self._connection = connection
        self._sftp: asyncio.Future[asyncssh.SFTPClient] | None = None
        self._commands = asyncio.Semaphore(_COMMANDS)
        self._closing: list[asyncio.Future[None]] = []

    async def read(self, path: str) -> bytes | None:
        """Return a file's content; None if there is none."""
        files = await self._files()
        with _faults(f"cannot read {path}"):
            try:
                file = await files.open(path, "rb")
            except asyncssh.SFTPNoSuchFile:
                return None
            try:
                data: bytes = await file.read()
                return data
            finally:
                self._closing.append(asyncio.ensure_future(file.close()))  # nobody waits for the answer

    async def replace(self, path: str, data: bytes, owner: str) -> None:
        """Write a file of mode 0600 beside its place, then rename it; `owner` is USER:GROUP, or "" for no change."""
        files = await self._files()
        unfinished = f"{path}{_UNFINISHED}"
        with _faults(f"cannot write {path}"):
            async with await self._new_file(files, unfinished) as file:
                await asyncio.gather(file.write(data), files.chmod(unfinished, _MODE))
            if owner:
                await self._give_away(files, unfinished, owner)
            await files.posix_rename(unfinished, path)

    async def _new_file(self, files: asyncssh.SFTPClient, path: str) -> asyncssh.SFTPClientFile:
        """Open a new file; only where this fails is it asked for its folder, or for one of an interrupted delivery."""
        only_ours = asyncssh.SFTPAttrs(permissions=_MODE)
        try:
            return await files.open(path, "xb", only_ours)
        except asyncssh.SFTPNoSuchFile:
            if folder := path.rpartition("/")[0]:
                await files.makedirs(folder, exist_ok=True)
        except asyncssh.SFTPError:
            if not await files.exists(path):
                raise
            await files.remove(path)
        return await files.open(path, "xb", only_ours)

    async def _give_away(self, files: asyncssh.SFTPClient, path: str, owner: str) -> None:
        user, _, group = owner.partition(":")
        if user.isdigit() and group.isdigit():
            await files.chown(path, int(user), int(group))
            return
        status, _output = await self._run(f"chown -- {shlex.quote(owner)} {shlex.quote(path)}", _CHOWN_PATIENCE)
        if status:
            raise MachineFault(
                f"cannot change its owner to {owner}", "only root can change owners; check that the user exists"
            )

    async def run(self, command: str, patience: float) -> tuple[int, bytes]:
        """Run a command of the shell for so many seconds at most; return how it ended, and all that it printed."""
        with _faults(f"cannot run {shlex.split(command)[0]}"):
            return await self._run(command, patience)

    async def _run(self, command: str, patience: float) -> tuple[int, bytes]:
        async with self._commands:
            done = await self._connection.run(
                command, check=False, timeout=patience, encoding=None, stderr=asyncssh.STDOUT
            )
        if done.returncode is None:
            raise asyncssh.ConnectionLost("the connection was lost before it ended")
        output = done.stdout if isinstance(done.stdout, bytes) else str(done.stdout or "").encode()
        return done.returncode, output

    async def end(self) -> None:
        """Close the connection."""
        await asyncio.gather(*self._closing, return_exceptions=True)
        self._connection.close()
        await self._connection.wait_closed()

    async def _files(self) -> asyncssh.SFTPClient:
        if self._sftp is None:
            self._sftp = asyncio.ensure_future(self._connection.start_sftp_client())
        with _faults("it does not support file transfer (SFTP)"):
            return await self._sftp


def shared_options(known_hosts: Path | None, key: Path | None) -> dict[str, object]:
    """Return the options of connections that are read from files: the known hosts, and the key. Raises MachineFault."""
    options: dict[str, object] = {}
    with _login_faults():
        if known_hosts is not None:
            options["known_hosts"] = asyncssh.read_known_hosts(str(known_hosts))
        if key is not None:
            options["client_keys"] = asyncssh.load_keypairs(str(key))
    return options


async def connected(host: str, options: Mapping[str, object], sock: socket.socket | None) -> Machine:
    """Return a machine, connected to by this socket if there is one. Raises MachineFault."""
    with _login_faults():
        return Machine(
            await asyncssh.connect(
                host, sock=sock, connect_timeout=PATIENCE, login_timeout=PATIENCE, keepalive_interval=15, **options
            )
        )


@contextmanager
def _faults(words: str) -> Iterator[None]:
    try:
        yield
    except (OSError, asyncssh.Error, TimeoutError) as fault:
        raise MachineFault(f"{words}: {own_words(fault)}", _FILE_HINT) from None


@contextmanager
def _login_faults() -> Iterator[None]:
    try:
        yield
    except asyncssh.HostKeyNotVerifiable:
        raise MachineFault(
            "its host key is not the known one",
            "compare its key with the machine's own, then add it to known_hosts; if it changed, find out why first",
            "host-key",
        ) from None
    except asyncssh.PermissionDenied:
        raise MachineFault("it refused the login", "check the user, and that the key is in authorized_keys") from None
    except ValueError as fault:  # a key, a configuration or a known_hosts file that cannot be read
        raise MachineFault(
            f"cannot use the SSH key or configuration: {fault}", "check identity_file, ssh_config and known_hosts"
        ) from None
    except (OSError, asyncssh.Error, TimeoutError) as fault:
        raise MachineFault.unreachable(fault) from None
