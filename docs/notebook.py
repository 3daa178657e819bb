"""Makes docs/guide.ipynb from docs/guide.md: `python docs/notebook.py`; its prose and code are the guide's."""

from __future__ import annotations

import re
from pathlib import Path
from typing import Any

GUIDE = Path(__file__).with_name("guide.md")
NOTEBOOK = Path(__file__).with_name("guide.ipynb")
BLOCK = re.compile(r"^```python\n(.*?)^```\n", re.M | re.S)


def notebook() -> Any:
    """The guide as a notebook, each block of Python a cell."""
    import nbformat.v4 as nb

    cells, at, text = [], 0, GUIDE.read_text("utf-8")
    for found in BLOCK.finditer(text):
        cells.append(nb.new_markdown_cell(text[at : found.start()].strip()))
        cells.append(nb.new_code_cell(found[1].rstrip()))
        at = found.end()
    cells.append(nb.new_markdown_cell(text[at:].strip()))
    cells = [cell for cell in cells if cell.source]
    for place, cell in enumerate(cells):
        cell.id = f"cell-{place}"
    kernel = {"display_name": "Python 3", "language": "python", "name": "python3"}
    return nb.new_notebook(cells=cells, metadata={"kernelspec": kernel})


if __name__ == "__main__":
    import nbformat

    nbformat.write(notebook(), NOTEBOOK)
