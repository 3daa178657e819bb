"""Commands that understand a model: slopes, means, differences, what it says in words."""

from __future__ import annotations

import sys
from dataclasses import replace
from typing import Any

from joinery.cli import options as o
from joinery.cli.app import UNDERSTAND, app, fit_of, question
from joinery.cli.options import Option
from joinery.cli.texts import held_in, held_or_word, moved_in, numbers_in, settings_in, values_in
from joinery.support import words

OF = Option(
    "the predictor; a level, 'hive_type: stacked'; two, 'hive_type: stacked, long'",
    wanted=True,
    read=moved_in,
)
ACROSS = Option("the column across which it changes", wanted=True)
HOLD = Option("the rest at values: 'forage_km2=3, hive_type=long'", read=held_in)
HOLD_OR_AVERAGE = replace(HOLD, kind=words.Hold, read=held_or_word)
SIMULTANEOUS = Option("intervals that hold for all values together", bool, False)
SETTINGS = Option(
    "values of other columns: 'rain_days=40'; repeat for several", several=True, read=settings_in
)
TERM = Option(
    "a category, or 'hive_type * swarmed'",
    place=True,
    metavar="TERM",
    absent="name the category whose levels are meant, after the sentence",
)
AS_TEXT = {
    "form": Option("text, markdown, html or latex", words.Form, "text", name="--as"),
    "output": Option("write to this file"),
}


@app.command(rich_help_panel=UNDERSTAND)
@o.takes(o.DATA_AND_MODEL, o.FIT)
def explain(**given: Any) -> None:
    """The fit read aloud, in plain words and the data's units."""
    from joinery.show import terminal

    terminal.say(terminal.paragraphs(fit_of(**given).explain()))


@app.command(rich_help_panel=UNDERSTAND)
@o.takes(
    o.DATA_AND_MODEL,
    {"at": Option("where a single predictor is forecast: 'x=3', or 3")},
    AS_TEXT,
    o.FIT,
)
def workings(at: str | None, form: str, output: str | None, **given: Any) -> None:
    """The arithmetic behind each figure, step after step."""
    from joinery.show.files import write_text
    from joinery.show.marks import tell

    text = fit_of(**given).workings(at).render(form)
    if output is None:
        sys.stdout.write(text)
    else:
        tell(f"wrote {write_text(output, text)}")


question(
    "simple-slopes",
    UNDERSTAND,
    "The slope of one predictor at values of another.",
    {
        "of": OF,
        "across": ACROSS,
        "at": Option("its values or levels: '20, 40, 60'", read=values_in),
        "hold": HOLD,
        "simultaneous": SIMULTANEOUS,
    },
)
question(
    "inverse",
    UNDERSTAND,
    "Find which value of a predictor gives a response: a reading, a chance.",
    {
        "of": Option("the predictor whose value is asked for", wanted=True),
        "at": Option("the response, or several: '20, 40'", wanted=True, read=numbers_in),
        "hold": HOLD_OR_AVERAGE,
        "replicates": Option("the response is the mean of so many readings", int, 1),
        "interval": Option(
            "new (of a reading) or mean (of the mean itself)", words.InverseInterval, "new"
        ),
    },
)
question(
    "slope-regions",
    UNDERSTAND,
    "Find the stretches in which that slope differs from zero.",
    {
        "of": OF,
        "across": ACROSS,
        "hold": HOLD,
        "simultaneous": Option(SIMULTANEOUS.help, bool, True),
    },
)
question(
    "adjusted-means",
    UNDERSTAND,
    "The means of a category's levels, the rest held.",
    {
        "term": TERM,
        "at": SETTINGS,
        "weighting": Option(
            "of other categories' levels: equal or 'as seen'", words.Weighting, "equal"
        ),
        "per": o.PER,
    },
)
question(
    "level-differences",
    UNDERSTAND,
    "Differences between levels, corrected for their number.",
    {
        "term": TERM,
        "reference": Option("set each level against this one alone"),
        "correction": Option("tukey, dunnett, holm, bonferroni or none", words.Correction),
        "at": SETTINGS,
    },
    busy="comparing levels",
)
question(
    "difference",
    UNDERSTAND,
    "Answer a what-if: the mean at one setting less the mean at another.",
    {
        "a": Option(
            "'feed_kg=6, rain_days=40'",
            place=True,
            metavar="SETTING",
            absent="a setting must follow the model sentence: 'feed_kg=6, rain_days=40'",
        ),
        "b": Option("less this one; else less the average", place=True, metavar="[SETTING]"),
        "hold": HOLD_OR_AVERAGE,
    },
)
question(
    "average-effects",
    UNDERSTAND,
    "Average change of the mean with each predictor, on its own scale.",
    {
        "step": Option("for numbers: the effect of so much more, not the slope", float),
        "per": o.PER,
    },
)
question(
    "cutoffs",
    UNDERSTAND,
    "Yes/no models: what it costs to say yes from a cut-off on.",
    {
        "at": Option("probabilities: '0.2, 0.5'", read=values_in),
        "crosscheck": Option("judge each row by a fit without it", bool, False),
        "seed": o.FOLDS_SEED,
    },
)
question(
    "covariance", UNDERSTAND, "The covariance of the coefficients, their correlations beside it."
)
question("design-columns", UNDERSTAND, "The design matrix of the rows used.")
