"""Survival of colonies: so many out of so many, odds in words, and winters that were kept back."""

from pathlib import Path

import joinery as jn

OUT = Path("example-pictures")
OUT.mkdir(exist_ok=True)

winter = jn.fit(
    "sample:winter",
    "survived of colonies given altitude_m, log(forage_km2), stores_kg",
    id="apiary",
)
print(winter)
print(winter.coefficients(ratios=True))
print(winter.average_effects())

print("\nThree apiaries were kept back; now their figures have come:")
print(winter.forecast("sample:winter_outcome"))
winter.draw("line", against="stores_kg", path=OUT / "survival.png")
winter.draw("forecast", new="sample:winter_outcome", path=OUT / "kept-back.png")
