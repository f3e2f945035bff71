"""Sells tickets over HTTP."""

import os

from answering import serve

NAMES = ["APP_TITLE", "TICKET_DB_HOST", "TICKET_DB_USER", "FARE_CURRENCY", "PUBLIC_URL", "fareTable"]

serve("ticketing", {name: os.environ.get(name) for name in NAMES})
