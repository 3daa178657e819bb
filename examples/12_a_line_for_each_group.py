"""A line for each kind of hive, a month for each date, and which value gives a response."""

from pathlib import Path

import joinery as jn

OUT = Path("example-pictures")
OUT.mkdir(exist_ok=True)

each = jn.fit_each("sample:yields", "honey_kg given forage_km2, feed_kg", by="hive_type")
print(each)
print(each.test())
print(each.fits["top-bar"].forecast("forage_km2 = 3, feed_kg = 2"))
each.draw("lines", path=OUT / "each-line.png")
each.draw("coefficients", path=OUT / "each-coefficients.png")

print("\nMonths are taken from dates, and rare levels pooled, in the sentence itself:")
months = jn.fit("sample:hive_scale", "gain_kg given month(date), temperature_c", order="date")
print(months.adjusted_means("month(date)"))
print(jn.fit("sample:yields", "honey_kg given forage_km2, pooled(apiary, least=12)").equation())

print("\nHow many hours must the stall be open to sell 30 jars, and how many on average?")
jars = jn.fit("sample:jars", "jars_sold given hours_open")
print(jars.inverse("hours_open", 30))
print(jars.inverse("hours_open", 30, interval="mean"))
jars.draw("inverse", of="hours_open", at=30, path=OUT / "hours-for-30-jars.png")
