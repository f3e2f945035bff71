"""Sends delay notices."""

from answering import serve

serve("notices", ["MAIL_ENABLED", "MAIL_HOST", "TICKET_DB_HOST", "LOG_LEVEL"])
