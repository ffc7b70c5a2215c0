"""Write the generated pages into `docs`, or into `man`: `python -m reference docs`."""

import sys
from pathlib import Path

from reference.manual import manual_pages
from reference.pages import PAGES

if __name__ == "__main__":
    folder = Path(sys.argv[1])
    folder.mkdir(exist_ok=True)
    pages = (
        manual_pages() if folder.name == "man" else {name: page() for name, page in PAGES.items()}
    )
    for name, page in pages.items():
        (folder / name).write_text(page, "utf-8")
