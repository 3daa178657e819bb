"""Pages and fragments from templates; the engine loads when the first is made."""

from __future__ import annotations

from functools import lru_cache
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    import jinja2


@lru_cache(maxsize=8)
def template(source: str) -> jinja2.Template:
    """Return a template whose values are escaped."""
    import jinja2

    environment = jinja2.Environment(autoescape=True, trim_blocks=True, lstrip_blocks=True)
    return environment.from_string(source)
