"""Sends delay notices."""

import os

from answering import serve

NAMES = ["MAIL_ENABLED", "MAIL_HOST", "TICKET_DB_HOST"]

serve("notices", {name: os.environ.get(name) for name in NAMES})
