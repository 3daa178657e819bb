"""A page to send: the season's answer as one file, with the forecast as code for a database."""

from pathlib import Path

import joinery as jn

OUT = Path("example-pictures")
OUT.mkdir(exist_ok=True)

fit = jn.fit(
    "sample:yields",
    "honey_kg given forage_km2, feed_kg * rain_days, hive_type",
    id="hive",
    leave_out="H089",
    labels={"honey_kg": "Honey (kg)", "forage_km2": "Forage within reach (km²)"},
)
simpler = fit.revise(drop="hive_type")
print(jn.compare(fit, simpler))

# one file, in the order of the work; rows are linked through all pictures and tables
page = jn.report(OUT / "honey.html", fit, simpler)
print(f"wrote {page.name}: the two fits side by side")
book = fit.write(OUT / "honey.xlsx")
print(f"wrote {book.name}: its forecast sheet follows what is typed")

# the forecast where the data live: the same figures without Joinery
print(fit.equation("sql"))
room = {}
exec(fit.equation("python"), room)
hives = jn.sample_data("yields").set_index("hive")
ours = fit.forecast()["fitted"]
needed = ["hive_type", "forage_km2", "feed_kg", "rain_days"]
theirs = room["fitted"](**hives.loc[ours.index, needed])
print(f"largest difference from forecast(): {abs(ours - theirs).max():.1e}")
