"""Words for people in place of column names, in the names of terms and coefficients."""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass
from functools import cached_property


@dataclass(frozen=True)
class Labels:
    """Column → words, put into a name: ``log(forage_km2)`` → ``log(Forage (km²))``."""

    words: Mapping[str, str]

    def __call__(self, name: str) -> str:
        if not self.words or not name:
            return name
        return " × ".join(map(self._of_factor, name.split(" × ")))

    def _of_factor(self, text: str) -> str:
        """Return a factor with its column in words; its level stays as it is."""
        head, colon, level = text.partition(": ")
        return self._pattern.sub(lambda m: self._lookup[m[0]], head) + colon + level

    @cached_property
    def _lookup(self) -> dict[str, str]:
        quoted = {f'"{name}"': words for name, words in self.words.items()}
        return {**self.words, **quoted}

    @cached_property
    def _pattern(self) -> re.Pattern[str]:
        longest = sorted(self._lookup, key=len, reverse=True)
        return re.compile(rf"(?<![\w.])(?:{'|'.join(map(re.escape, longest))})(?![\w.])")
