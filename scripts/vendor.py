"""Copy what the pages ship from node_modules (pinned in package-lock.json) into static/."""

import shutil
from pathlib import Path

ROOT = Path(__file__).parents[1]
MODULES = ROOT / "node_modules"
VENDOR = ROOT / "src/kettle_web/static/kettle/vendor"
FONTS = "@fontsource-variable"
FILES = {
    "bootstrap/dist/css/bootstrap.min.css": "bootstrap.min.css",
    "bootstrap/dist/css/bootstrap.min.css.map": "bootstrap.min.css.map",
    "bootstrap/LICENSE": "bootstrap-LICENSE.txt",
    f"{FONTS}/figtree/files/figtree-latin-wght-normal.woff2": "figtree.woff2",
    f"{FONTS}/figtree/LICENSE": "figtree-LICENSE.txt",
    f"{FONTS}/jetbrains-mono/files/jetbrains-mono-latin-wght-normal.woff2": "jetbrains-mono.woff2",
    f"{FONTS}/jetbrains-mono/LICENSE": "jetbrains-mono-LICENSE.txt",
}


def main() -> None:
    """Copy every file; run `npm ci` before."""
    VENDOR.mkdir(parents=True, exist_ok=True)
    for source, target in FILES.items():
        shutil.copy(MODULES / source, VENDOR / target)
        print(target)


if __name__ == "__main__":
    main()
