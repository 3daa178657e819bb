"""Make the sample tables again: ``python -m joinery.data.samples.make [FOLDER]``.

Everything is made up. Each table has a seed of its own, so that changing one leaves the others as
they are. What is planted in a table is said beside the line that plants it."""

from __future__ import annotations

import sys
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pandas as pd
from scipy.special import ndtri

APIARIES = (
    "Alder Bank", "Quarry Field", "Mill Lane", "Long Meadow", "Heron Pool", "Stony Rise",
    "Orchard End", "North Gate", "Fern Hollow", "Chapel Green", "Larch Wood", "Sandy Brow",
    "Old Ferry", "Bramble Side", "Toll House", "Kiln Yard", "Willow Reach", "Crow Hill",
    "Lower Dene", "Upper Dene", "Salt Path", "Round Copse", "Weir Cottage", "Gorse Top",
    "Plum Corner", "Barley Hill", "Moss Bridge", "Hazel Row", "Beacon Foot", "Rushy Marsh",
    "Clover Bank", "Wren Nook", "Thorn Cross", "Dove Holm",
)  # fmt: skip


def jars() -> pd.DataFrame:
    """Hours a market stall was open, and jars sold."""
    rng = np.random.default_rng(101)
    hours = np.array([2.0, 2.5, 3.0, 3.0, 3.5, 4.0, 4.5, 5.0, 5.0, 5.5, 6.0, 6.5, 7.0, 8.0])
    sold = np.round(4 + 5.2 * hours + rng.normal(0, 3.2, len(hours)))
    order = rng.permutation(len(hours))
    return pd.DataFrame({"hours_open": hours[order], "jars_sold": sold[order].astype(int)})


def yields() -> pd.DataFrame:
    """Return a hive and season a row: its surroundings, its feeding, and the honey it gave."""
    rng = np.random.default_rng(202)
    n = 120
    forage = np.round(rng.uniform(0.6, 6.2, n), 2)
    altitude = np.round(rng.uniform(60, 880, n))
    feed = np.round(rng.gamma(4.0, 1.3, n), 1)
    rain = rng.integers(12, 62, n)
    hive_type = rng.choice(["long", "stacked", "top-bar"], n, p=[0.3, 0.45, 0.25])
    queen_age = rng.integers(1, 5, n)
    forage[30] = 11.4  # far out, and fits well
    altitude[57] = 1510  # far out, and does harm
    mean = (
        9.0
        + 2.9 * forage
        + 0.021 * altitude
        - 0.000021 * altitude**2  # a gentle curve
        - 1.3 * feed
        + 0.045 * feed * rain  # feeding pays when it rains
        - 0.10 * rain
        + np.select([hive_type == "stacked", hive_type == "top-bar"], [2.4, -1.8], 0.0)
        - 0.5 * queen_age
    )
    honey = mean + rng.normal(0, 2.6, n)
    honey[30] = mean[30] + 0.4
    honey[57] = mean[57] + 22.0
    honey[88] = mean[88] - 15.0  # badly fitted, in the middle of the others
    frame = pd.DataFrame(
        {
            "hive": [f"H{i:03d}" for i in range(1, n + 1)],
            "apiary": rng.choice(APIARIES[:9], n),
            "season": rng.integers(2019, 2025, n),
            "hive_type": hive_type,
            "forage_km2": forage,
            "altitude_m": altitude.astype(int),
            "altitude_ft": [f"{a * 3.28084:.5f}" for a in altitude],  # the same again
            "feed_kg": feed,
            "rain_days": rain,
            "queen_age": queen_age,
            "swarmed": np.where(
                rng.random(n) < 1 / (1 + np.exp(1.6 - 0.35 * queen_age)), "yes", "no"
            ),
            "honey_kg": [f"{h:.1f}" for h in np.maximum(honey, 0.5)],
        }
    )
    frame.loc[[11, 64, 101], "forage_km2"] = np.nan
    frame.loc[[20, 46, 75, 110], "honey_kg"] = None  # to be forecast
    return frame


def _winter() -> tuple[pd.DataFrame, pd.DataFrame]:
    rng = np.random.default_rng(303)
    n = len(APIARIES)
    colonies = rng.integers(6, 42, n)
    altitude = np.round(rng.uniform(40, 920, n))
    spread = ndtri((np.arange(n) + 0.5) / n)
    forage = np.round(np.exp(0.7 + 0.9 * rng.permutation(spread)), 2)  # long tail: wants a log
    nearest = np.round(np.exp(0.4 + 0.9 * rng.permutation(spread)), 2)  # long tail: wants a log
    stores = np.round(rng.normal(17, 3.5, n), 1)
    # overlaps strongly with the stores
    weight = np.round(stores * 1.02 + 14 + rng.normal(0, 0.5, n), 1)
    eta = -2.6 + 0.55 * np.log(forage) + 0.30 * np.log(nearest) - 0.0016 * altitude + 0.23 * stores
    survived = rng.binomial(colonies, 1 / (1 + np.exp(-eta)))
    table = pd.DataFrame(
        {
            "apiary": APIARIES,
            "colonies": colonies,
            "survived": survived,
            "altitude_m": altitude.astype(int),
            "forage_km2": forage,
            "nearest_km": nearest,
            "stores_kg": stores,
            "hive_weight_kg": weight,
        }
    )
    kept_back = [6, 17, 28]
    outcome = table.loc[kept_back].reset_index(drop=True)
    table["survived"] = table["survived"].astype("Int64")
    table.loc[kept_back, "survived"] = pd.NA
    return table, outcome


def winter() -> pd.DataFrame:
    """Return one apiary a row: colonies in autumn, and how many survived the winter."""
    return _winter()[0]


def winter_outcome() -> pd.DataFrame:
    """Return the three apiaries kept back in ``winter``, with what came."""
    return _winter()[1]


def bee_samples() -> pd.DataFrame:
    """Mites counted in samples of bees; more spread than a Poisson count has."""
    rng = np.random.default_rng(404)
    n = 160
    sampled = rng.integers(180, 420, n)
    treatment = rng.choice(["none", "strips", "vapour"], n, p=[0.4, 0.3, 0.3])
    month = rng.integers(4, 11, n)
    rate = np.exp(
        -4.4
        + 0.22 * (month - 4)
        + np.select([treatment == "strips", treatment == "vapour"], [-0.9, -0.5], 0.0)
    )
    shape = 2.2  # overdispersed
    mites = rng.poisson(sampled * rate * rng.gamma(shape, 1 / shape, n))
    return pd.DataFrame(
        {"mites": mites, "bees_sampled": sampled, "treatment": treatment, "month": month}
    )


def hive_scale() -> pd.DataFrame:
    """Return a hive on a scale, one day a row; neighbouring days are alike."""
    rng = np.random.default_rng(505)
    n = 150
    day = np.arange(1, n + 1)
    temperature = np.round(15 + 7 * np.sin((day - 30) / 150 * np.pi) + rng.normal(0, 2.4, n), 1)
    rain = np.round(np.where(rng.random(n) < 0.35, rng.gamma(1.2, 4.0, n), 0.0), 1)
    error = np.zeros(n)
    shock = rng.normal(0, 0.32, n)
    for i in range(1, n):
        error[i] = 0.65 * error[i - 1] + shock[i]
    gain = np.round(-1.1 + 0.11 * temperature - 0.06 * rain + error, 2)
    return pd.DataFrame(
        {
            "day": day,
            "date": pd.date_range("2025-04-15", periods=n).strftime("%Y-%m-%d"),
            "temperature_c": temperature,
            "rain_mm": rain,
            "gain_kg": gain,
        }
    )


def prices() -> pd.DataFrame:
    """Jars at the shop: weight, floral source and price; the spread grows with the price."""
    rng = np.random.default_rng(606)
    n = 90
    weight = rng.choice([125, 250, 340, 500, 750, 1000], n)
    source = rng.choice(["heather", "lime", "meadow"], n, p=[0.25, 0.3, 0.45])
    mean = np.exp(
        0.75
        + 0.0019 * weight
        + np.select([source == "heather", source == "lime"], [0.42, 0.12], 0.0)
    )
    price = mean * rng.gamma(40, 1 / 40, n)
    return pd.DataFrame(
        {"weight_g": weight, "source": source, "price": [f"{p:.2f}" for p in price]}
    )


def queens() -> pd.DataFrame:
    """Young queens, accepted by their hive or not; of many things measured, few matter."""
    rng = np.random.default_rng(707)
    n = 60
    weight = np.round(rng.normal(205, 18, n))
    thorax = np.round(4.6 + 0.006 * (weight - 205) + rng.normal(0, 0.12, n), 2)
    age = rng.integers(8, 29, n)
    attendants = rng.integers(3, 13, n)
    eggs = np.round(
        900 + 6.5 * (weight - 205) - 14 * (age - 18) + 22 * attendants + rng.normal(0, 95, n)
    )
    eta = 0.05 * (weight - 205) + 0.25 * (attendants - 7) + 0.6
    frame = pd.DataFrame(
        {
            "queen": [f"Q{i:02d}" for i in range(1, n + 1)],
            "outcome": np.where(rng.random(n) < 1 / (1 + np.exp(-eta)), "accepted", "rejected"),
            "eggs_a_day": eggs.astype(int),
            "weight_mg": weight.astype(int),
            "thorax_mm": thorax,
            "age_days": age,
            "attendants": attendants,
        }
    )
    noise = {  # measured with care, and of no consequence
        "wing_mm": (9.6, 0.3, 2), "cage_days": (4, 1.2, 1), "candy_g": (11, 2.5, 1),
        "hive_temp_c": (34.2, 0.6, 1), "humidity": (61, 7, 0), "brood_frames": (6, 1.5, 0),
        "pollen_g": (140, 35, 0), "mite_drop": (9, 4, 0), "wind_ms": (3.1, 1.1, 1),
        "moon_days": (14, 7, 0),
    }  # fmt: skip
    for name, (mean, sd, digits) in noise.items():
        frame[name] = np.round(np.abs(rng.normal(mean, sd, n)), digits)
    return frame


TABLES: dict[str, Callable[[], pd.DataFrame]] = {
    "jars": jars,
    "yields": yields,
    "winter": winter,
    "winter_outcome": winter_outcome,
    "bee_samples": bee_samples,
    "hive_scale": hive_scale,
    "prices": prices,
    "queens": queens,
}


def main(folder: Path) -> None:
    """Writes every table into a folder."""
    for name, make in TABLES.items():
        make().to_csv(folder / f"{name}.csv", index=False, lineterminator="\n")


if __name__ == "__main__":
    main(Path(sys.argv[1]) if len(sys.argv) > 1 else Path(__file__).parent)
