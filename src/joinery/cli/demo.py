"""`joinery demo`: the sample data walked through the whole job."""

from __future__ import annotations

from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

from rich.rule import Rule
from rich.text import Text

from joinery.first_look.look import Look, look
from joinery.hand_over.short_page import short_page
from joinery.model.compare import compare
from joinery.model.fit import fit, load
from joinery.model.result import Fit
from joinery.show import short_page as page
from joinery.show import terminal
from joinery.show.table import Table
from joinery.support.errors import CallError

FIRST = "honey_kg given forage_km2, altitude_m, feed_kg, rain_days, hive_type"
ADDED = ["feed_kg * rain_days", "altitude_m^2"]
WITHOUT = ["H058"]
AT = "forage_km2=3, altitude_m=400, feed_kg=5, rain_days=30, hive_type=long"
WINTER = "survived of colonies given altitude_m, log(forage_km2), stores_kg"


def walk(folder: str) -> None:
    """Print what a person would read at each step; pictures and files go into ``folder``."""
    place = Path(folder)
    if place.exists() and not place.is_dir():
        raise CallError(f"{folder} is a file; the demo needs a folder to write into")
    place.mkdir(parents=True, exist_ok=True)
    files = _Files(place, [])
    first = _look_fit_and_check(files)
    mended = _mend(first, files)
    _understand(mended, files)
    forecast = _forecast(mended, files)
    _winter(files)
    _hand_over(mended, forecast, files)
    terminal.say(
        f"\nWritten into {place}/: {', '.join(path.name for path in files.written)}",
        "\nTry next:",
        "  joinery look YOUR.csv",
        "  joinery fit sample:jars 'jars_sold given hours_open'",
        "  joinery stepwise sample:queens 'eggs_a_day given all but queen, outcome' "
        "--criterion bic",
        "  joinery draw sample:yields 'honey_kg given forage_km2' line --output line.png",
    )


@dataclass(frozen=True)
class _Files:
    """The folder of the demo, and what was written into it."""

    folder: Path
    written: list[Path]

    def draw(self, made: Fit | Look, name: Any, file: str = "", **options: Any) -> None:
        made.draw(name, path=self.folder / f"{file or name}.png", **options)
        self.written.append(self.folder / f"{file or name}.png")


def _look_fit_and_check(files: _Files) -> Fit:
    _step("1. Look at the table", "joinery look sample:yields --id hive")
    terminal.say(terminal.grid(look("sample:yields", id="hive").columns))
    files.draw(look("sample:yields", FIRST, id="hive"), "response")

    _step("2. Say a model, fit it and read it", f"joinery fit sample:yields '{FIRST}' --id hive")
    first = fit("sample:yields", FIRST, id="hive")
    terminal.say(page.renderable(short_page(first._fitted)))

    _step("3. Test: what does each term add?", "fit.anova('others')")
    terminal.say(terminal.grid(first.anova("others")))

    heading = "4. Check it: what the model takes for granted, and which rows stand out"
    _step(heading, "fit.checks(), fit.rows()")
    terminal.say(terminal.grid(first.checks()), "", terminal.grid(_remarkable(first)))
    files.draw(first, "checks")
    return first


def _mend(first: Fit, files: _Files) -> Fit:
    heading = "5. Mend it: feeding pays when it rains, altitude bends"
    _step(heading, f"fit = fit.revise(add={ADDED})")
    bent = first.revise(add=ADDED)
    terminal.say(terminal.grid(_short(compare(first, bent))), "", terminal.grid(_remarkable(bent)))
    files.draw(bent, "leverage")

    heading = "   One row now decides the curve, so see the model without it"
    _step(heading, f"fit = fit.revise(leave_out={WITHOUT})")
    mended = bent.revise(leave_out=WITHOUT)
    terminal.say(page.renderable(short_page(mended._fitted)))
    files.draw(mended, "line", "altitude", against="altitude_m")
    return mended


def _understand(mended: Fit, files: _Files) -> None:
    heading = "6. Understand: from how many rainy days on does feeding pay?"
    _step(heading, "fit.slope_regions('feed_kg', 'rain_days')")
    terminal.say(terminal.grid(mended.slope_regions("feed_kg", "rain_days")))
    files.draw(mended, "simple_slopes", "feeding", of="feed_kg", across="rain_days")

    _step("   Which kinds of hive differ?", "fit.level_differences('hive_type')")
    terminal.say(terminal.grid(mended.level_differences("hive_type")))

    _step("   The whole model read aloud", "fit.explain()")
    terminal.say(terminal.paragraphs(mended.explain()))


def _forecast(mended: Fit, files: _Files) -> Table:
    _step("7. Forecast the hives that have no honey weighed yet", "fit.forecast()")
    forecast = mended.forecast()
    terminal.say(terminal.grid(forecast), "", terminal.grid(mended.crosscheck()))
    files.draw(mended, "forecast")
    return forecast


def _winter(files: _Files) -> None:
    heading = "8. Not only numbers: how many colonies came through the winter"
    _step(heading, f"joinery fit sample:winter '{WINTER}'")
    winter = fit("sample:winter", WINTER, id="apiary")
    terminal.say(page.renderable(short_page(winter._fitted)))
    files.draw(winter, "line", "survival", against="stores_kg")

    heading = "   Three apiaries were kept back; now their figures have come"
    _step(heading, "fit.forecast('sample:winter_outcome')")
    terminal.say(terminal.grid(winter.forecast("sample:winter_outcome")))


def _hand_over(mended: Fit, forecast: Table, files: _Files) -> None:
    saved = mended.save(files.folder / "honey.json")
    files.written.extend((saved, forecast.write(files.folder / "forecast.csv")))
    files.written.append(mended.report(files.folder / "honey.html"))
    files.written.append(mended.write(files.folder / "honey.xlsx"))
    heading = "9. Hand over: a page, a workbook, and forecasts from the saved result alone"
    _step(heading, f"joinery forecast {saved} --at '{AT}'")
    terminal.say(terminal.grid(load(saved).forecast(AT)))


def _short(table: Table) -> Table:
    """Return a comparison without the coefficients."""
    chosen = (
        "fit",
        "sentence",
        "n_rows",
        "r_squared",
        "residual_sd",
        "aic",
        "crosscheck_error",
        "test",
        "df",
        "p",
    )
    columns = {name: table.columns[name] for name in chosen if name in table.columns}
    return replace(table, columns=columns, notes=table.notes[:-1])


def _remarkable(fit: Fit) -> Table:
    """Return the rows table cut to the remarkable rows of a fit."""
    rows = fit.rows().frame
    rows = rows[(rows["reason"] != "") & (rows["verdict"] != "")]
    chosen = (
        "observed",
        "fitted",
        "studentized_residual",
        "leverage",
        "cooks_distance",
        "verdict",
        "reason",
    )
    return Table(
        {name: rows[name].tolist() for name in chosen},
        title="Remarkable rows",
        index=rows.index.tolist(),
        index_name=str(rows.index.name),
    )


def _step(title: str, command: str) -> None:
    terminal.say("", Rule(Text(title, style="bold"), align="left"), Text(command), "")
