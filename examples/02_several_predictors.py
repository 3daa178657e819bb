"""Several predictors: what each adds to the others, and which overlap."""

from pathlib import Path

import joinery as jn

OUT = Path("example-pictures")
OUT.mkdir(exist_ok=True)

hives = jn.sample_data("yields")
print(jn.look(hives, id="hive").correlations)

fit = jn.fit(hives, "honey_kg given forage_km2, altitude_m, feed_kg, rain_days", id="hive")
print(fit.coefficients(standardized=True))
print(fit.term_correlations())
print(fit.anova("others"))

print("\nAltitude stands in the table twice; a model can use one of them:")
both = jn.fit(hives, "honey_kg given altitude_m, altitude_ft", id="hive")
print(both.coefficients())
fit.draw("coefficients", path=OUT / "coefficients.png")
