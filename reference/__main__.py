"""Write generated files into `docs`, `man` or `docs/schemas`: `python -m reference docs`."""

import sys
from pathlib import Path

from reference.documents import schema_files
from reference.manual import manual_pages
from reference.pages import PAGES

FILES = {
    "docs": lambda: {name: page() for name, page in PAGES.items()},
    "man": manual_pages,
    "schemas": schema_files,
}

if __name__ == "__main__":
    folder = Path(sys.argv[1])
    folder.mkdir(exist_ok=True)
    pages = FILES[folder.name]()
    for name, page in pages.items():
        (folder / name).write_text(page, "utf-8")
