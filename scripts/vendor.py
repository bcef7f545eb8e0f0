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
    "idiomorph/dist/idiomorph.esm.js": "idiomorph.esm.js",
    "idiomorph/LICENSE": "idiomorph-LICENSE.txt",
    "sortablejs/modular/sortable.core.esm.js": "sortable.core.esm.js",
    "sortablejs/LICENSE": "sortable-LICENSE.txt",
}
CARD_FONTS = ROOT / "src/kettle_media/assets"
CARD_FILES = {
    f"{FONTS}/figtree/files/figtree-latin-wght-normal.woff2": "figtree.woff2",
    f"{FONTS}/figtree/LICENSE": "figtree-LICENSE.txt",
    f"{FONTS}/jetbrains-mono/files/jetbrains-mono-latin-wght-normal.woff2": "jetbrains-mono.woff2",
    f"{FONTS}/jetbrains-mono/LICENSE": "jetbrains-mono-LICENSE.txt",
    f"{FONTS}/source-serif-4/files/source-serif-4-latin-wght-normal.woff2": "source-serif.woff2",
    f"{FONTS}/source-serif-4/LICENSE": "source-serif-LICENSE.txt",
}


def main() -> None:
    """Copy every file; run `npm ci` before."""
    for folder, files in ((VENDOR, FILES), (CARD_FONTS, CARD_FILES)):
        folder.mkdir(parents=True, exist_ok=True)
        for source, target in files.items():
            shutil.copy(MODULES / source, folder / target)
            print(folder.name, target)


if __name__ == "__main__":
    main()
