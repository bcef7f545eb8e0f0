"""Fails where a colour stands outside the tokens: another theme is made of tokens alone."""

import re
import sys
from pathlib import Path

PAGES = Path(__file__).parents[1] / "src" / "kettle_web"
TOKENS = "tokens.css"
NAMED = "white|black|red|green|blue|gray|grey|yellow|orange|purple|silver|maroon|navy|teal"
IN_SHEET = re.compile(
    rf"#[0-9a-f]{{3,8}}\b|\b(?:rgba?|hsla?|oklch|lab)\(|(?<![-\w])(?:{NAMED})(?![-\w])",
    re.IGNORECASE,
)
IN_PAGE = re.compile(
    r"""(?:fill|stroke|color|stop-color)=["'](?!none|currentcolor|var\(|url\(|\{)"""
)
IN_SCRIPT = re.compile(r"""["'`]#(?:[0-9a-f]{3}|[0-9a-f]{6})["'`]|["'`]rgba?\(""", re.IGNORECASE)


def main() -> int:
    """Print where; gives 1 if there is such a place."""
    found = [f"{path}:{line}" for path in sorted(PAGES.rglob("*")) for line in _lines(path)]
    print("\n".join(found))
    return 1 if found else 0


def _lines(path: Path) -> list[str]:
    pattern = {".css": IN_SHEET, ".html": IN_PAGE, ".js": IN_SCRIPT}.get(path.suffix)
    if pattern is None or path.name == TOKENS or "vendor" in path.parts:
        return []
    text = re.sub(
        r"/\*.*?\*/", lambda m: "\n" * m[0].count("\n"), path.read_text(), flags=re.DOTALL
    )
    lines = enumerate(text.splitlines(), 1)
    return [f"{number}: {line.strip()}" for number, line in lines if pattern.search(line)]


if __name__ == "__main__":
    sys.exit(main())
