"""More rows than memory holds: a season of weighings, fitted and forecast in files."""

from pathlib import Path

import numpy as np
import pandas as pd

import joinery as jn

SEASON, OUT = Path("season"), Path("example-pictures")
SEASON.mkdir(exist_ok=True)
OUT.mkdir(exist_ok=True)

# a scale under each of fifty hives writes a file a month: what a real season would be, in small
rng = np.random.default_rng(11)
for month in range(4, 9):
    rows = 40_000
    scale = pd.DataFrame({"hive": rng.choice([f"H{i:03}" for i in range(1, 51)], rows)})
    scale["temperature_c"] = rng.normal(8 + 2 * (month - 4), 4, rows)
    scale["rain_mm"] = rng.gamma(0.6, 3, rows)
    scale["gain_kg"] = (
        0.1 * scale["temperature_c"] - 0.08 * scale["rain_mm"] + rng.normal(0, 1, rows)
    )
    scale.to_parquet(SEASON / f"scale-{month:02}.parquet", index=False)

# a folder is taken wherever a table is; what is too large for memory is read as it is used
print(jn.look(SEASON).columns)
fit = jn.fit(SEASON, "gain_kg given temperature_c, rain_mm, hive")
print(fit)

# a line for each row goes to a file, some rows at a time
rows = fit.write_rows(OUT / "rows.parquet")
forecasts = fit.write_forecasts(SEASON / "scale-08.parquet", OUT / "august.parquet")
print(f"wrote {len(jn.read(rows)):,} rows and {len(jn.read(forecasts)):,} forecasts")
