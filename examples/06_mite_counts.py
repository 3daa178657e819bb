"""Mite counts: rates by the number of bees in a sample, and a spread that Poisson does not have."""

from pathlib import Path

import joinery as jn

OUT = Path("example-pictures")
OUT.mkdir(exist_ok=True)

poisson = jn.fit("sample:bee_samples", "mites per bees_sampled given treatment, month")
checks = poisson.checks().frame
told = checks[checks["verdict"] != "no sign"]
print(told[["check", "statistic", "verdict"]].to_string(index=False))

wider = poisson.revise(family="negative-binomial")
print("\nThe extra spread is real, so the second model is the one to read:")
print(jn.compare(poisson, wider))
print(wider.coefficients(ratios=True))
print(wider.level_differences("treatment", reference="none"))
wider.draw("quantiles", path=OUT / "mites.png")
