"""Write the generated pages into a folder: `python -m lean_tumbler.reference docs`."""

import sys
from pathlib import Path

from lean_tumbler.reference.pages import PAGES

if __name__ == "__main__":
    for name, page in PAGES.items():
        Path(sys.argv[1], name).write_text(page(), "utf-8")
