"""Sells tickets over HTTP."""

from answering import serve

serve("ticketing", ["APP_TITLE", "TICKET_DB_HOST", "TICKET_DB_USER", "FARE_CURRENCY", "PUBLIC_URL", "LOG_LEVEL"])
