"""What tests and measurements need besides Python's packages: installed where it is missing."""

import os
import shutil
import subprocess
import sys
from pathlib import Path

from kettle_cli.paths import ROOT
from kettle_core.errors import KettleError

BIN = Path(sys.executable).parent


def environment() -> dict[str, str]:
    """As of this process, with the programs of its Python first."""
    return {**os.environ, "PATH": f"{BIN}{os.pathsep}{os.environ['PATH']}"}


def node() -> str:
    """Node's program: the machine's, or the one from PyPI."""
    found = shutil.which("node") or shutil.which("node", path=str(BIN))
    if found:
        return found
    lock = ROOT / "requirements" / "node.lock"
    _run("Installing Node from PyPI", [sys.executable, "-m", "pip", "install", "--quiet",
                                       "--require-hashes", "-r", str(lock)])  # fmt: skip
    return str(BIN / "node")


def need_node_packages() -> None:
    """Install the JavaScript checks at the versions of package-lock.json."""
    lock, stamp = ROOT / "package-lock.json", ROOT / "node_modules" / ".installed"
    if stamp.exists() and stamp.read_text() == lock.read_text():
        return
    npm = shutil.which("npm", path=f"{Path(node()).parent}{os.pathsep}{os.environ['PATH']}")
    if npm is None:
        raise KettleError("npm is not on this machine; install Debian's package npm.")
    # Not `npm ci`: it wants every platform's optional package, and not all registries have them.
    words = ["install", "--no-save", "--ignore-scripts", "--silent", "--no-audit", "--no-fund"]
    _run("Installing the JavaScript checks", [npm, *words])
    stamp.write_text(lock.read_text())


def need_debian(package: str, brings: Path) -> None:
    """Install a package of Debian's as root if a file of it is missing; else say what to do."""
    if brings.exists():
        return
    if os.geteuid() or not shutil.which("apt-get"):
        raise KettleError(f"This needs {brings}; install Debian's package {package}.")
    _run("Updating Debian's package lists", ["apt-get", "update", "-qq"])
    # Another one that installs just now is waited for.
    patiently = ["-o", "DPkg::Lock::Timeout=600"]
    _run(f"Installing {package}", ["apt-get", *patiently, "install", "-y", "-qq", package])


def _run(what: str, command: list[str]) -> None:
    print(f"{what} …", flush=True)
    quiet = {**environment(), "DEBIAN_FRONTEND": "noninteractive"}
    done = subprocess.run(command, cwd=ROOT, env=quiet, stdout=subprocess.DEVNULL, check=False)
    if done.returncode:
        raise KettleError(f"{what} failed with status {done.returncode}: {' '.join(command)}")
