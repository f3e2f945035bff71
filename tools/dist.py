"""Build what is released, and try it: `make dist`. The same commit gives the same bytes.

Writes dist/: sdist, wheel, man page. Checks that a second build is the same, that the metadata is valid, and that the
wheel runs the demo in an empty environment with the locked versions.
"""

from __future__ import annotations

import hashlib
import os
import subprocess
import sys
import tempfile
import zipfile
from pathlib import Path

from manual import manual
from packaging.metadata import Metadata

ROOT = Path(__file__).parent.parent


def build(folder: Path) -> dict[str, bytes]:
    """Build sdist and wheel into a folder; return their bytes by name."""
    env = os.environ | {"SOURCE_DATE_EPOCH": "1577836800"}
    argv = [sys.executable, "-m", "hatchling", "build", "-t", "sdist", "-t", "wheel", "-d", str(folder)]
    subprocess.run(argv, cwd=ROOT, env=env, check=True, capture_output=True)
    return {path.name: path.read_bytes() for path in sorted(folder.iterdir())}


def check_metadata(wheel: Path) -> None:
    """Raise packaging's error for metadata that an index would refuse."""
    with zipfile.ZipFile(wheel) as archive:
        name = next(name for name in archive.namelist() if name.endswith(".dist-info/METADATA"))
        Metadata.from_email(archive.read(name), validate=True)


def try_out(wheel: Path) -> None:
    """Install the wheel in an empty environment, and run the demo there."""
    with tempfile.TemporaryDirectory() as folder:
        subprocess.run([sys.executable, "-m", "venv", folder], check=True)
        pip = [f"{folder}/bin/pip", "install", "--quiet", "--disable-pip-version-check"]
        requirements = str(ROOT / "requirements/run.txt")
        subprocess.run([*pip, "--require-hashes", "--requirement", requirements], check=True)
        subprocess.run([*pip, "--no-deps", "--no-index", str(wheel)], check=True)
        env = {"PATH": f"{folder}/bin:/usr/bin:/bin", "HOME": folder, "LANG": "C.UTF-8"}
        for words in (["--version"], ["help", "formats"], ["demo"]):
            subprocess.run(
                [f"{folder}/bin/coinjar", *words], cwd=folder, env=env, check=True, stdout=subprocess.DEVNULL
            )


def main() -> int:
    """Build, check, try; print what is there."""
    dist = ROOT / "dist"
    with tempfile.TemporaryDirectory() as one, tempfile.TemporaryDirectory() as other:
        files = build(Path(one))
        if files != build(Path(other)):
            print("a second build is not the same", file=sys.stderr)
            return 1
    dist.mkdir(exist_ok=True)
    for path in dist.iterdir():
        path.unlink()
    for name, data in {**files, "coinjar.1": manual().encode()}.items():
        (dist / name).write_bytes(data)
        print(f"{hashlib.sha256(data).hexdigest()}  {len(data) / 1e6:5.2f} MB  dist/{name}", flush=True)
    wheel = next(dist.glob("*.whl"))
    check_metadata(wheel)
    try_out(wheel)
    print("the same twice; the metadata is valid; the wheel runs the demo")
    return 0


if __name__ == "__main__":
    sys.exit(main())
