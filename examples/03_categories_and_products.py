"""Categories and products: kinds of hive, and feeding that pays only when it rains."""

from pathlib import Path

import joinery as jn

OUT = Path("example-pictures")
OUT.mkdir(exist_ok=True)

fit = jn.fit(
    "sample:yields", "honey_kg given forage_km2, crossed(feed_kg, rain_days), hive_type", id="hive"
)
print(fit.adjusted_means("hive_type"))
print(fit.level_differences("hive_type"))

print("\nThe product is read through the slopes it makes, not coefficient by coefficient:")
print(fit.simple_slopes("feed_kg", "rain_days", [20, 40, 60]))
print(fit.slope_regions("feed_kg", "rain_days"))
print(fit.difference("feed_kg=6, rain_days=50", "feed_kg=4, rain_days=50"))
fit.draw("simple_slopes", of="feed_kg", across="rain_days", path=OUT / "feeding.png")
fit.draw("line", against="feed_kg", across="rain_days", path=OUT / "feeding-lines.png")
