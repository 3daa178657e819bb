"""A first line: how many jars a longer day at the stall sells, and what the line cannot say."""

from pathlib import Path

import joinery as jn

OUT = Path("example-pictures")
OUT.mkdir(exist_ok=True)

fit = jn.fit("sample:jars", "jars_sold given hours_open")
print(fit)
print()
print(fit.explain())

print("\nA day of six hours, and one of thirty, which nobody has seen:")
print(fit.forecast({"hours_open": [6, 30]}))
fit.draw("line", path=OUT / "jars.png")
