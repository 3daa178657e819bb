"""The forms in which a table is shown, each by where the function that makes it stands.

A renderer knows tables; a table knows renderers by name alone, and loads one when it is needed."""

from __future__ import annotations

from collections.abc import Callable
from importlib import import_module

RENDERERS = {
    "text": ("joinery.show.forms", "as_text"),
    "markdown": ("joinery.show.forms", "as_markdown"),
    "html": ("joinery.show.forms", "as_html"),
    "csv": ("joinery.show.forms", "as_csv"),
    "json": ("joinery.show.forms", "as_json"),
    "latex": ("joinery.show.forms", "as_latex"),
}


def renderer(form: str) -> Callable[..., str]:
    """Return what shows a table in a form."""
    module, name = RENDERERS[form]
    made: Callable[..., str] = getattr(import_module(module), name)
    return made
