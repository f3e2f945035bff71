"""Public timetable site."""

import os

from answering import serve

NAMES = ["APP_TITLE", "OPEN_PIERS", "SEASON", "TIMETABLE_CACHE", "PUBLIC_URL", "TICKETS_LINK"]

serve("timetable", {name: os.environ.get(name) for name in NAMES})
