"""Plans who lies where."""

from answering import serve

serve("berths", ["SEASON", "OPEN_PIERS", "ISLE_RADIO", "LOG_LEVEL"])
