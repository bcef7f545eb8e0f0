"""Where things lie in a checkout."""

import os
from pathlib import Path

ROOT = Path(__file__).parents[2]
DATA = Path(os.environ.get("KETTLE_DATA", ROOT / "var"))
