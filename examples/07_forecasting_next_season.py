"""Forecasting next season: which model does best on hives it has not seen, and what it expects."""

from pathlib import Path

import joinery as jn

OUT = Path("example-pictures")
OUT.mkdir(exist_ok=True)

plain = jn.fit("sample:yields", "honey_kg given forage_km2, hive_type", id="hive")
fed = plain.revise(add="crossed(feed_kg, rain_days)")
print(jn.compare(plain, fed, crosscheck=True))
print(fed.crosscheck(by="apiary"))

print("\nThe hives whose honey is not weighed yet:")
print(fed.forecast())
print(fed.forecast({"forage_km2": [3.0]}, hold="average", level=[80, 95]))
fed.draw("forecast", path=OUT / "next-season.png")

scale = jn.sample_data("hive_scale")
scale.loc[scale.index[-10:], "gain_kg"] = None
daily = jn.fit(scale, "gain_kg given temperature_c, rain_mm", order="date")
daily.draw("series", path=OUT / "hive-scale.png")
