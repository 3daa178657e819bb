"""A row that misleads: one far-out hive decides a curve; see the model with and without it."""

from pathlib import Path

import joinery as jn

OUT = Path("example-pictures")
OUT.mkdir(exist_ok=True)

sentence = "honey_kg given forage_km2, altitude_m, altitude_m^2, feed_kg, rain_days, hive_type"
fit = jn.fit("sample:yields", sentence, id="hive")
rows = fit.rows().frame
notable = rows[rows["reason"] != ""].head(6)
print(notable[["leverage", "studentized_residual", "cooks_distance", "verdict"]].round(3))

without = fit.revise(leave_out="H058")
print("\nThe curve in altitude, with the row and without it:")
for each in (fit, without):
    print(each.coefficients().frame.set_index("term").loc["altitude_m^2", ["estimate", "p"]])
fit.draw("leverage", path=OUT / "leverage.png")
fit.draw("influence", path=OUT / "influence.png")
without.draw("line", against="altitude_m", path=OUT / "altitude.png")
