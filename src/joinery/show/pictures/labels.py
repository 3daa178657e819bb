"""Labels beside points, put where they cover nothing."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
from matplotlib.axes import Axes
from matplotlib.patheffects import withStroke

from joinery.show.palette import INK, PAPER
from joinery.show.pictures.layout import Box, box_of, overlap, renderer_of, right_end, shown_ticks
from joinery.show.pictures.short_names import brief
from joinery.show.pictures.style import letters

SMALL, SMALL_AXES = 6.5, 75.0  # letters on axes lower than this, in points


# directions in which a label may stand off its point, the best first
AWAY = ((1, 0), (-1, 0), (0, 1), (0, -1), (1, 1), (-1, 1), (1, -1), (-1, -1))


def place_labels(
    ax: Axes,
    at: Sequence[tuple[float, float]],
    words: Sequence[str],
    crowd: tuple[np.ndarray, np.ndarray],
    size: float = 8.5,
    *,
    lit: bool = False,
) -> None:
    """Write a label beside each point where it covers no other text and few points.

    Labels that find no place are left out: the first are the most important. ``lit`` edges them
    with paper, to be read on dark cells.
    """
    figure: Any = ax.figure
    renderer, scale = renderer_of(figure), figure.dpi / 72
    if ax.get_window_extent().height < SMALL_AXES * scale:
        size = SMALL
    to_pixels = ax.transData.transform
    finite = np.isfinite(crowd[0]) & np.isfinite(crowd[1])
    step = max(1, int(finite.sum()) // 2000)
    points = to_pixels(np.column_stack([crowd[0][finite], crowd[1][finite]])[::step])
    taken = _written(ax, renderer)
    room = _room(ax)
    for place, word in zip(at, words, strict=True):
        pixel = to_pixels(place)
        note = ax.annotate(
            brief(word, 20),
            place,
            xytext=(0, 0),
            textcoords="offset points",
            fontsize=size * letters(),
            color=INK,
            ha="left",
            va="bottom",
            zorder=5,
        )
        if lit:
            note.set_path_effects([withStroke(linewidth=2.2, foreground=PAPER)])
        extent = note.get_window_extent(renderer)
        box = _best_box(pixel, (extent.width, extent.height), 7 * scale, points, taken, room)
        if box is None:
            note.remove()
            continue
        taken.append(box)
        offset = (box[0] - pixel[0]) / scale, (box[1] - pixel[1]) / scale
        note.set_position(offset)


def _best_box(
    pixel: np.ndarray,
    size: tuple[float, float],
    gap: float,
    points: np.ndarray,
    taken: Sequence[Box],
    room: Box,
) -> Box | None:
    """Return the place around a point that covers no text and the fewest points, or None."""
    wide, high = size
    best: tuple[int, Box] | None = None
    for far in (1.0, 2.6):
        for dx, dy in AWAY:
            away = gap * far
            left = pixel[0] + (away if dx > 0 else -away - wide if dx < 0 else -wide / 2)
            low = pixel[1] + (away if dy > 0 else -away - high if dy < 0 else -high / 2)
            box = (left, low, left + wide, low + high)
            inside = box[0] >= room[0] and box[1] >= room[1]
            inside = inside and box[2] <= room[2] and box[3] <= room[3]
            if not inside or any(overlap(box, other) for other in taken):
                continue
            x, y = points[:, 0], points[:, 1]
            over = (x > box[0]) & (x < box[2]) & (y > box[1]) & (y < box[3])
            cost = int(over.sum()) + 2 * int(far > 1)
            if best is None or cost < best[0]:
                best = cost, box
    if best is None:
        return None
    return best[1]


def _written(ax: Axes, renderer: Any) -> list[Box]:
    """Return boxes of all that is written on the axes and on the figure."""
    figure: Any = ax.figure
    texts = [*ax.texts, *getattr(figure, "texts", []), ax.xaxis.label, ax.yaxis.label]
    boxes = [box_of(t.get_window_extent(renderer)) for t in texts if t.get_text().strip()]
    for axis in (ax.xaxis, ax.yaxis):
        boxes += [box_of(extent) for _, extent in shown_ticks(ax, axis, renderer)]
    return boxes


def _room(ax: Axes) -> Box:
    """Return where labels may stand: the axes, and their cell to the right of them."""
    box = box_of(ax.get_window_extent())
    return (box[0], box[1], max(box[2], right_end(ax)), box[3])
