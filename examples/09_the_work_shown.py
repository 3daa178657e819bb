"""The work shown: every figure of a line by hand, from the sums of squares to the forecast."""

import joinery as jn

fit = jn.fit("sample:jars", "jars_sold given hours_open")
work = fit.workings(at=5)
print(work)

print("The same with several predictors begins with the normal equations:")
print(jn.fit("sample:yields", "honey_kg given forage_km2, feed_kg").workings().sums)
