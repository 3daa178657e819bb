"""Short forms of long names, no two alike."""

from __future__ import annotations

from collections.abc import Iterable

from joinery.show.marks import visible

MOST_NAME = 26  # characters of a name; longer ones stand in the key


def brief(name: str, most: int = MOST_NAME) -> str:
    """Return a name cut in the middle where it is longer than ``most``."""
    if len(name) <= most:
        return name
    tail = (most - 1) // 2
    return f"{name[: most - 1 - tail]}…{name[len(name) - tail :]}"


def briefs_of(names: Iterable[str]) -> dict[str, str]:
    """Long names to short ones, no two alike; control characters made visible."""
    long = [n for n in dict.fromkeys(names) if len(n) > MOST_NAME or visible(n) != n]
    alike: dict[str, list[str]] = {}
    for name in long:
        alike.setdefault(brief(visible(name)), []).append(name)
    out: dict[str, str] = {}
    for short, group in alike.items():
        out |= {group[0]: short} if len(group) == 1 else _short_forms(group)
    return out


def _shared(names: list[str]) -> int:
    """Return how many characters all names begin with."""
    columns = zip(*names, strict=False)
    return next((i for i, c in enumerate(columns) if len(set(c)) > 1), min(map(len, names)))


def _short_forms(names: list[str]) -> dict[str, str]:
    """Short forms that keep what the names do not share at their beginning and end."""
    first = _shared(names)
    last = _shared([name[first:][::-1] for name in names])
    out: dict[str, str] = {}
    for name in names:
        result, number = brief(visible(name[first : len(name) - last]), MOST_NAME - 9), 2
        short = f"{visible(name[: min(first, 8)])}…{result}" + "…" * (last > 0)
        while short in out.values():
            short, number = f"{short} {number}", number + 1
        out[name] = short
    return out
