from os import environ as surroundings, getenv
import os.path

BASE = os.path.dirname(__file__)
REQUIRED = ["«SECRET_KEY»", "«DATABASE_URL»"]
OPTIONAL = {"CACHE_URL": "memory", "NOT_LOOPED_OVER": 1}


class Missing(Exception):
    def __init__(self, environ):
        super().__init__(environ["NOT_OURS"])


def read(name, kind=str, *, default=None):
    try:
        return kind(surroundings[name])
    except KeyError:
        if default is None:
            raise
        return default


for name in REQUIRED:
    globals()[name] = surroundings[name]
CACHE = surroundings.get("«CACHE_URL»")
WORKERS = read("«WORKERS|4»", int, default=4)
LEVEL = (getenv("«LOG_LEVEL|info»") or "info").upper()
PIERS = [one for one in getenv("«PIERS|north»", "north").split(",") if one]
TIMEOUT = float(surroundings.get("«TIMEOUT»") or 2 * 15)
if getenv("«MODE»") not in ("fast", "slow"):
    raise Missing({})
