"""Docstrings as the site shows them: examples as code, headings as bold words."""

from __future__ import annotations

import re
from typing import Any

import griffe

EXAMPLE = re.compile(r"^>>> .*(?:\n(?!\s*$).*)*", re.MULTILINE)
HEADING = re.compile(r"^(\w+)\n-+$", re.MULTILINE)
PARAMETER = re.compile(r"^(\*{0,2}\w[\w, *]*): ", re.MULTILINE)


class Docstrings(griffe.Extension):
    """Rewrite every docstring into Markdown."""

    def on_instance(self, *, obj: griffe.Object, **kwargs: Any) -> None:
        """Rewrite the docstring of one object."""
        if obj.docstring is None:
            return
        text = EXAMPLE.sub(lambda found: f"```python\n{found[0]}\n```", obj.docstring.value)
        before, heading, after = _parted(text)
        obj.docstring.value = before + heading + after


def _parted(text: str) -> tuple[str, str, str]:
    """Return what stands before a list of parameters, its heading, and the list as bullets."""
    found = HEADING.search(text)
    if found is None:
        return text, "", ""
    listed, _, rest = text[found.end() :].partition("\n\n")
    bullets = PARAMETER.sub(r"- `\1`: ", listed.strip("\n"))
    return text[: found.start()], f"**{found[1]}**\n\n", f"{bullets}\n\n{rest}"
