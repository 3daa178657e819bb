"""A form of a page: fields, and a place for what a script answers."""

from __future__ import annotations

import html
import json
from typing import Any


def form(about: dict[str, Any], place: int) -> str:
    """Return a form with a field a column, the answer, its bar and remarks; ``about`` is its
    script's."""
    identity = f"try-{place}"
    fields = "".join(_field(column, f"{identity}-{i}") for i, column in enumerate(about["columns"]))
    data = html.escape(json.dumps(about, ensure_ascii=False), quote=True)
    bar = (
        '<svg role="img" aria-label="the forecast with its intervals, on the range of the rows" '
        'viewBox="0 0 320 44"><line class="rule" x1="10" x2="310" y1="18" y2="18" '
        'data-part="none"/><line class="new" data-part="new" y1="18" y2="18"/>'
        '<line class="mean" data-part="mean" y1="18" y2="18"/>'
        '<line class="mean" data-part="median" y1="18" y2="18"/>'
        '<circle cy="18" r="5"/><text class="low" x="10" y="40"></text>'
        '<text class="high" x="310" y="40" text-anchor="end"></text></svg>'
    )
    return (
        f'<form class="try script" id="{identity}" data-about="{data}"><div class="fields">{fields}'
        f'</div><output aria-live="polite"></output>{bar}<p class="remark note" role="status"></p>'
        "</form>"
    )


def _field(column: dict[str, Any], identity: str) -> str:
    label = f'<label for="{identity}">{html.escape(column["words"])}</label>'
    start = html.escape(str(column["start"]), quote=True)
    if column["kind"] in ("level", "flag"):
        chosen = {column["start"]: " selected"}
        options = "".join(
            f"<option{chosen.get(level, '')}>{html.escape(level)}</option>"
            for level in column["levels"]
        )
        return f'<div>{label}<select id="{identity}">{options}</select></div>'
    if column["kind"] == "text":
        return f'<div>{label}<input id="{identity}" type="text" value=""></div>'
    if column["kind"] == "date":
        ends = f'min="{column["from"]}" max="{column["to"]}"'
        return f'<div>{label}<input id="{identity}" type="date" {ends} value="{start}"></div>'
    words = html.escape(f"{column['words']}, slider", quote=True)
    ends = f'min="{column["low"]!r}" max="{column["high"]!r}" step="{column["step"]!r}"'
    return (
        f'<div>{label}<input id="{identity}" type="number" step="any" value="{start}">'
        f'<input id="{identity}-s" type="range" aria-label="{words}" {ends} value="{start}"></div>'
    )
