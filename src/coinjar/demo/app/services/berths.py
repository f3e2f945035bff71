"""Plans who lies where."""

import os

from answering import serve

NAMES = ["SEASON", "OPEN_PIERS", "ISLE_RADIO", "TIMETABLE_LINK"]

serve("berths", {name: os.environ.get(name) for name in NAMES})
