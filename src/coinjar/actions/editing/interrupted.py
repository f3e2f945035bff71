"""Complete a change of several files that was interrupted."""

from __future__ import annotations

from coinjar.actions.open_jar import OpenJar
from coinjar.jarfile.journal import finish, is_unfinished
from coinjar.jarfile.local_folder import locked


def finish_earlier(opened: OpenJar) -> list[str]:
    """Complete an interrupted change; return the files that were still written. Raises InputError if one was changed
    since, or the change was not begun here.
    """
    if not is_unfinished(opened.folder):
        return []
    with locked(opened.folder):
        return finish(opened.folder)
