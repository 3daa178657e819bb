"""What a standard error means: a study a thousand times over, and a bootstrap of one."""

from pathlib import Path

import joinery as jn

OUT = Path("example-pictures")
OUT.mkdir(exist_ok=True)

fit = jn.fit("sample:jars", "jars_sold given hours_open")
b, sd = fit.coefficients()["estimate"], fit.residual_sd
truth = {"intercept": round(b[0], 1), "hours_open": round(b[1], 1)}
days = jn.sample_data("jars")[["hours_open"]]

study = jn.rehearse(
    "jars_sold given hours_open", truth, [7, 14, 28], predictors=days, residual_sd=sd, seed=1
)
print(study)
study.draw("estimates", path=OUT / "rehearsal.png")

print("\nWhere neighbouring days are alike, plain intervals promise too much:")
print(
    jn.rehearse(
        "y given x", {"x": 1}, 60, predictors={"x": list(range(60))}, errors="alike", seed=1
    )
)

print("\nFrom the fourteen days alone:")
print(fit.bootstrap(interval="accelerated", seed=1))
fit.draw("bootstrap", seed=1, path=OUT / "bootstrap.png")
