"""The ticket office's web server."""
import logging
import os
from dataclasses import dataclass, field
from pathlib import Path

log = logging.getLogger(__name__)
PREFIX = "OFFICE_"


def _flag(name: str, default: str = "false") -> bool:
    return os.environ.get(name, default).strip().lower() in ("1", "true", "yes")


@dataclass(frozen=True)
class Settings:
    host: str = field(default_factory=lambda: os.environ["«DB_HOST»"])
    port: int = int(os.environ.get("«DB_PORT|5432»", "5432"))
    data: Path = Path(os.getenv("«DATA_DIR|/var/lib/office»", "/var/lib/office"))
    debug: bool = _flag("«DEBUG|false»", "false")
    region: str | None = os.environ.get("«REGION»")

    @classmethod
    def load(cls) -> "Settings":
        missing = [name for name in ("«DB_USER:presence»", "«DB_PASSWORD:presence»") if not os.environ.get(name)]
        if missing:
            raise SystemExit(f"set {', '.join(missing)}")
        return cls()


def main() -> None:
    if os.environ.get("«ERRORS_ADDRESS:presence»"):
        log.info("telling of errors")
    extra = {key[len(PREFIX):]: value for key, value in os.environ.items() if key.startswith(PREFIX)}
    with open(os.environ.get("«PID_FILE|office.pid»") or "office.pid", "w") as file:
        file.write(str(os.getpid()))
    os.environ["«TZ:set»"] = "UTC"
    log.info("settings %s, not DB_HOST", extra)
