"""No core file of a process that holds secrets: it would contain them."""

from __future__ import annotations

_before: list[tuple[int, int]] = []


def turn_off() -> None:
    """Write no core file from now on; programs that are executed get the limit back by `restore`."""
    import resource

    if not _before:
        soft, hard = resource.getrlimit(resource.RLIMIT_CORE)
        _before.append((soft, hard))
        resource.setrlimit(resource.RLIMIT_CORE, (0, hard))


def restore() -> None:
    """Set the limit that this process was started with, for the program that follows it."""
    if _before:
        import resource

        resource.setrlimit(resource.RLIMIT_CORE, _before.pop())
