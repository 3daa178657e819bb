"""The parts of a page, and the file it becomes."""

from __future__ import annotations

import base64
import hashlib
import html
import json
from collections.abc import Sequence
from dataclasses import dataclass
from importlib.resources import files

from joinery.show.marks import visible
from joinery.show.templates import template


@dataclass(frozen=True)
class Block:
    """A piece of a section, as an HTML fragment that is escaped already.

    ``fold`` is the heading under which it stays closed until asked for.
    """

    fragment: str
    fold: str = ""


@dataclass(frozen=True)
class Section:
    """One step of the work: its anchor, its heading and what stands there."""

    anchor: str
    heading: str
    blocks: Sequence[Block]


@dataclass(frozen=True)
class Chapter:
    """The sections about one fit, or several side by side; ``heading`` where there are many."""

    heading: str
    sections: Sequence[Section]


@dataclass(frozen=True)
class Row:
    """A row that pictures and tables share: its label and its values, in words."""

    label: str
    values: str


@dataclass(frozen=True)
class Page:
    """The whole page: its title, what stands under it, its chapters and the rows it links."""

    title: str
    under: str
    chapters: Sequence[Chapter]
    rows: Sequence[Row]
    functions: str = ""  # what forms on the page call, as a script


def paragraph(text: str, kind: str = "") -> str:
    """Return a paragraph of plain text."""
    return f"<p{f' class={kind!r}' if kind else ''}>{html.escape(visible(text))}</p>"


def framed(drawn: str, under: str, attributes: str = "") -> str:
    """Return a picture as a figure, with what stands under it where there is something."""
    caption = ""
    if under:
        caption = f"<figcaption>{html.escape(visible(under))}</figcaption>"
    return f"<figure{attributes}>{drawn}{caption}</figure>"


def pictures(drawn: Sequence[str]) -> str:
    """Return pictures two beside each other where the page is wide."""
    return f"<div class=pictures>{''.join(drawn)}</div>"


def code(text: str, label: str, identity: str) -> str:
    """Return text to copy, with a button that copies it where scripts run."""
    return (
        f'<figure class="code"><figcaption>{html.escape(label)} '
        f'<button type="button" class="script" data-copy="{identity}">copy</button></figcaption>'
        f'<pre tabindex="0" id="{identity}">{html.escape(visible(text))}</pre></figure>'
    )


def bullets(lines: Sequence[str]) -> str:
    """Return a list of plain sentences."""
    return "<ul>" + "".join(f"<li>{html.escape(visible(v))}</li>" for v in lines) + "</ul>"


def rendered(page: Page) -> str:
    """Return the file: one HTML text without anything from outside, whose policy forbids it too."""
    room = files(__package__)
    scripts = [room.joinpath("page.js").read_text("utf-8")]
    if page.functions:
        scripts.append(page.functions + room.joinpath("try.js").read_text("utf-8"))
    rows = json.dumps(
        [[visible(r.label), visible(r.values)] for r in page.rows], ensure_ascii=False
    )
    return template(room.joinpath("page.html").read_text("utf-8")).render(
        page=page,
        style=room.joinpath("page.css").read_text("utf-8"),
        scripts=scripts,
        policy=" ".join(f"'sha256-{_digest(script)}'" for script in scripts),
        rows=rows.replace("<", "\\u003c"),
        many=len(page.chapters) > 1,
    )


def _digest(script: str) -> str:
    return base64.b64encode(hashlib.sha256(script.encode()).digest()).decode()
