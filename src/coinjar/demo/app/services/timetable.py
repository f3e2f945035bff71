"""Public timetable site."""

from answering import serve

serve("timetable", ["APP_TITLE", "OPEN_PIERS", "SEASON", "TIMETABLE_CACHE", "PUBLIC_URL", "LOG_LEVEL"])
