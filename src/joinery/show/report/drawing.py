"""A picture as it stands in a page: small, in the page's colours, its points tied to rows."""

from __future__ import annotations

import html
import re
from typing import TYPE_CHECKING

from joinery.show import palette
from joinery.show.pictures.canvas import ROWS, as_svg

if TYPE_CHECKING:
    from matplotlib.figure import Figure

# what the page's style sheet sets, so that pictures follow light and dark
COLOURS = {
    palette.INK: "ink", palette.SLATE: "slate", palette.MIST: "mist", palette.PAPER: "paper",
    palette.AMBER: "amber", palette.TEAL: "teal", palette.RUST: "rust",
}  # fmt: skip
_POINTS = re.compile(
    rf'<g id="({ROWS} [\d ]+)">\s*<defs>\s*<path [^>]*?d="M 0 ([\d.]+)[^"]*"[^>]*/>'
    r"\s*</defs>(.*?)</g>\s*</g>",
    re.S,
)
_USE = re.compile(r'<use xlink:href="#\w+" x="([-\d.]+)" y="([-\d.]+)"(?: style="([^"]*)")?/>')
_CLIP = re.compile(r'<g clip-path="(url\(#\w+\))">')


def picture(figure: Figure, name: str, rows: list[int]) -> str:
    """Return an SVG element with its own text alternative; ``rows`` are the page's numbers of the
    rows.

    ``name`` is unique in the page.
    """
    title, finding = (_text_of(figure, gid) for gid in ("title", "finding"))
    svg = as_svg(figure, name)
    svg = re.sub(r"<metadata>.*?</metadata>", "", svg, flags=re.S)
    svg = re.sub(r'\s*<style type="text/css">.*?</style>', "", svg, flags=re.S)
    svg = _POINTS.sub(lambda match: _circles(match, rows), svg)
    used = set(re.findall(r'(?:href="#|url\(#)([\w-]+)', svg))
    svg = re.sub(r' id="([^"]*)"', lambda m: m[0] if m[1] in used else "", svg)
    for colour, variable in COLOURS.items():
        svg = svg.replace(colour, f"var(--{variable})")
    svg = re.sub(r" font-family: [^;\"]*;?", "", svg)  # the page's style sheet names one for all
    svg = re.sub(r"(\d\.\d{2})\d+", r"\1", svg)  # a hundredth of a point is enough
    svg = re.sub(r"\n\s*", " ", svg).replace("> <", "><").replace("xlink:href", "href")
    svg = svg.replace(' xmlns:xlink="http://www.w3.org/1999/xlink"', "")
    words = html.escape(f"{title} {finding}".strip())
    sized = r'<svg width="[\d.]+pt" height="[\d.]+pt"'
    return re.sub(sized, f'<svg role="img" aria-label="{words}"', svg, count=1)


def axes_of(figure: Figure) -> dict[str, list[float]]:
    """Return where the first axes of a drawn figure lie in its SVG, and the ends of their data."""
    ax = figure.axes[0]
    wide, high = figure.get_size_inches() * 72
    box = ax.get_position()
    return {
        "x": [float(v) for v in ax.get_xlim()],
        "y": [float(v) for v in ax.get_ylim()],
        "left": [float(box.x0 * wide), float(box.x1 * wide)],
        "low": [float((1 - box.y0) * high), float((1 - box.y1) * high)],
    }


def _text_of(figure: Figure, gid: str) -> str:
    return " ".join(t.get_text().replace("\n", " ") for t in figure.texts if t.get_gid() == gid)


def _circles(match: re.Match[str], rows: list[int]) -> str:
    """Return points as circles that carry the numbers of their rows, styled as a group."""
    places = [int(v) for v in match[1].split()[1:]]
    uses = _USE.findall(match[3])
    clip = _CLIP.search(match[3])
    if len(uses) != len(places):  # a point off the sheet was not written
        return match[0].replace(f' id="{match[1]}"', "")
    if uses:
        style = uses[0][2]
    else:
        style = ""
    size = f"{float(match[2]):.2g}"
    circles = "".join(
        f'<circle cx="{float(x):.1f}" cy="{float(y):.1f}" r="{size}" data-r="{rows[place]}"/>'
        for (x, y, _), place in zip(uses, places, strict=True)
    )
    if clip:
        within = f' clip-path="{clip[1]}"'
    else:
        within = ""
    return f'<g class="points" style="{style}"{within}>{circles}</g>'
