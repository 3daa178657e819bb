"""Fit: the public face of a fitted model, nothing but doors into the study rooms."""

from __future__ import annotations

import os
import warnings
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from functools import wraps
from pathlib import Path
from typing import TYPE_CHECKING, Any, ParamSpec, Unpack

from joinery.show.files import refuse_input
from joinery.show.labels import Labels
from joinery.show.table import Table
from joinery.study.fitted import Fitted
from joinery.study.read.notes import estimate_notes, reading_notes
from joinery.support import words
from joinery.support.arguments import checked
from joinery.support.errors import EstimateWarning, Note, ReadingWarning, nearest
from joinery.support.threads import one_thread_a_product

if TYPE_CHECKING:
    import pandas as pd
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure, SubFigure

    from joinery.study.understand.worked import Workings


P = ParamSpec("P")


def answered(question: Callable[P, Table]) -> Callable[P, Table]:
    """Return a question whose arguments are checked, and whose Table has the fit's labels."""
    wanted = checked(question)

    @wraps(question)
    def answer(*args: P.args, **kwargs: P.kwargs) -> Table:
        table, fit = wanted(*args, **kwargs), args[0]
        labels = fit._fitted.options.labels  # type: ignore[attr-defined]
        if labels:
            shown = replace(table.appearance, labels=Labels(labels))
            return replace(table, appearance=shown)
        return table

    return answer


FIGURES = (
    "n_rows", "r_squared", "adjusted_r_squared", "residual_sd", "model_df", "residual_df",
    "deviance", "null_deviance", "dispersion", "shape", "log_likelihood", "aic", "bic",
    "converged", "iterations",
)  # fmt: skip
# general words of the trade, and what answers them here
WORDS_FOR = {
    **dict.fromkeys(("plot", "picture", "chart"), "draw"),
    **dict.fromkeys(("predict", "prediction", "predictions", "interpolate"), "forecast"),
    **dict.fromkeys(("summary", "describe"), "print(fit), or figures"),
    **dict.fromkeys(("vif", "diagnostics", "tests"), "checks"),
    **dict.fromkeys(("residuals", "fitted", "leverage", "influence", "cooks_distance"), "rows"),
    **dict.fromkeys(("parameters", "intervals", "standard_errors", "p_values"), "coefficients"),
    **dict.fromkeys(("test", "hypothesis", "contrast"), "claim"),
    **dict.fromkeys(("update", "refit"), "revise"),
    **dict.fromkeys(("cross_validate", "cross_validation"), "crosscheck"),
    **dict.fromkeys(("marginal_effects", "effects"), "average_effects"),
    **dict.fromkeys(("slope", "slopes"), "simple_slopes"),
    "means": "adjusted_means",
}


@dataclass(frozen=True, eq=False, repr=False)
class Fit:
    """A fitted model. Made by ``fit``, ``load`` and ``Fit.revise``; never changed afterwards.

    Figures: ``sentence family link level n_rows left_out``; ``r_squared adjusted_r_squared
    residual_sd model_df residual_df``; ``deviance null_deviance dispersion shape log_likelihood
    aic bic``; ``converged iterations``; ``changes``; ``notes remarks``. A figure without
    meaning for the family is None."""

    _fitted: Fitted

    # ------------------------------------------------------------------ figures

    @property
    def sentence(self) -> str:
        """The model sentence in its canonical form."""
        return self._fitted.sentence

    @property
    def family(self) -> str:
        """The family's name."""
        return self._fitted.family.name

    @property
    def link(self) -> str:
        """The link's name."""
        return self._fitted.link.name

    @property
    def level(self) -> float:
        """The level of intervals unless another is asked for."""
        return self._fitted.level

    @property
    def n_rows(self) -> int:
        """Rows the fit rests on."""
        return self._fitted.n_rows

    @property
    def left_out(self) -> Table:
        """The rows not used, each with its reason."""
        from joinery.study.rows.table import left_out

        return left_out(self._fitted)

    @property
    def r_squared(self) -> float | None:
        """1 − RSS/TSS; None when the response does not vary, and for other families."""
        return self._fitted.r_squared

    @property
    def adjusted_r_squared(self) -> float | None:
        """1 − (RSS/residual df)/(TSS/total df)."""
        return self._fitted.adjusted_r_squared

    @property
    def residual_sd(self) -> float | None:
        """s = √(RSS / residual df), or the known one; None for other families than the normal."""
        return self._fitted.residual_sd

    @property
    def model_df(self) -> int:
        """Coefficients beside the constant."""
        return self._fitted.model_df

    @property
    def residual_df(self) -> int:
        """Rows less coefficients."""
        return self._fitted.residual_df

    @property
    def deviance(self) -> float:
        """The deviance; for the normal family the residual sum of squares."""
        return self._fitted.estimate.deviance

    @property
    def null_deviance(self) -> float:
        """The deviance without predictors."""
        return self._fitted.estimate.null_deviance

    @property
    def dispersion(self) -> float | None:
        """φ: s² for the normal family.

        For others as known, else Pearson's χ² over the residual df.
        """
        return self._fitted.estimate.dispersion

    @property
    def shape(self) -> float | None:
        """k of the negative binomial, ∞ where counts spread no more than Poisson ones.

        None for other families.
        """
        return self._fitted.family.shape

    @property
    def log_likelihood(self) -> float | None:
        """With all constants, at the likeliest dispersion.

        None for a perfect fit and for quasi-likelihood.
        """
        return self._fitted.estimate.log_likelihood

    @property
    def aic(self) -> float | None:
        """2·parameters − 2·log likelihood."""
        return self._fitted.aic

    @property
    def bic(self) -> float | None:
        """log(n)·parameters − 2·log likelihood."""
        return self._fitted.bic

    @property
    def converged(self) -> bool:
        """Return True if the estimation settled; least squares always does."""
        return self._fitted.estimate.converged

    @property
    def iterations(self) -> int | None:
        """Steps of the iteration over all rows; None for least squares, which is solved at once."""
        return self._fitted.estimate.iterations

    @property
    def changes(self) -> tuple[str, ...]:
        """The trail of revisions."""
        return self._fitted.changes

    @property
    def notes(self) -> tuple[str, ...]:
        """Return what the reader must know, the gravest first."""
        return tuple(note.words for note in self.remarks)

    @property
    @one_thread_a_product()
    def remarks(self) -> tuple[Note, ...]:
        """The notes as data: kind, gravity (serious, caution, note), words, subjects."""
        from joinery.study.read.notes import notes

        return notes(self._fitted)

    # ------------------------------------------------------------------ questions

    @answered
    def coefficients(
        self,
        level: float | None = None,
        *,
        standardized: bool = False,
        ratios: bool = False,
        profile: bool = False,
    ) -> Table:
        """Return coefficients with intervals, standard errors, t (z where the dispersion is known)
        and p.

        Parameters: ``level`` of the intervals (the fit's own if not given); ``standardized`` adds
        slopes in standard units, b·sd(column)/sd(response); ``ratios`` adds exp of estimate and
        ends (odds, rate or mean ratio); ``profile`` takes the ends from the profile likelihood
        (penalized, for a penalized fit).
        Returns a Table: term, estimate, lower, upper, standard_error, t, p. Raises CallError for a
        level outside 0–100.
        Source: Draper & Smith 1998, *Applied Regression Analysis*, 1.4 and 5.

        >>> import joinery as jn
        >>> fit = jn.fit("sample:jars", "jars_sold given hours_open")
        >>> fit.coefficients()["estimate"].round(3).tolist()
        [3.738, 5.293]
        """
        from joinery.study.read.coefficients import coefficients

        return coefficients(
            self._fitted,
            level,
            standardized=standardized,
            ratios=ratios,
            profile=profile,
        )

    @answered
    def figures(self) -> Table:
        """Return every figure of the fit as one row: what is a figure of the fit itself is a
        column.

        Returns a Table: n_rows, r_squared, adjusted_r_squared, residual_sd, model_df, residual_df,
        deviance, null_deviance, dispersion, shape, log_likelihood, aic, bic, converged, iterations;
        empty where a figure has no meaning for the family.

        >>> import joinery as jn
        >>> fit = jn.fit("sample:jars", "jars_sold given hours_open")
        >>> fit.figures()["n_rows"].tolist()
        [14]
        """
        from joinery.study.read.figures import figures

        return figures(self.sentence, {name: getattr(self, name) for name in FIGURES})

    @answered
    def term_correlations(self) -> Table:
        """Return what each term shares with the response: simple, partial and semipartial
        correlations.

        Returns a Table: term, simple_r, partial_r (t/√(t² + df)), semipartial_r, from the
        constant-spread t. Raises CallError for a family but the normal.
        Source: Cohen, Cohen, West & Aiken 2003, 3.3.

        >>> import joinery as jn
        >>> fit = jn.fit("sample:yields", "honey_kg given forage_km2, feed_kg")
        >>> fit.term_correlations()["partial_r"].round(2).tolist()
        [0.69, 0.14]
        """
        from joinery.study.read.term_correlations import term_correlations

        return term_correlations(self._fitted)

    @answered
    def average_effects(
        self, level: float | None = None, *, step: float | None = None, per: float | None = None
    ) -> Table:
        """Return how the mean of the response changes with each predictor, averaged over the rows.

        Parameters: ``level`` of the intervals; ``step`` for the difference that so much more of a
        number makes, in place of its slope; ``per`` for rates of a count with its exposure, per so
        much of it. For a number the slope of the mean; for a level the difference from the
        reference level. Returns a Table: term, effect, lower, upper, standard_error, z (or t), p;
        empty for what is left out of the model. Raises CallError for a loaded fit. Standard errors
        by the delta method.

        >>> import joinery as jn
        >>> fit = jn.fit("sample:winter", "survived of colonies given stores_kg")
        >>> fit.average_effects()["effect"].round(3).tolist()
        [0.039]
        """
        from joinery.study.understand.average_effects import average_effects

        return average_effects(self._fitted, level, step=step, per=per)

    @answered
    def simple_slopes(
        self,
        of: str | Sequence[str],
        across: str,
        at: Sequence[Any] | None = None,
        *,
        hold: Mapping[str, Any] | None = None,
        level: float | None = None,
        simultaneous: bool = False,
    ) -> Table:
        """Return the slope of one predictor at values, or levels, of another.

        Parameters
        ----------
        of: the predictor, a number; ``"hive_type: stacked"`` for a level against its reference,
            ``("hive_type", "stacked", "long")`` for two levels; a condition of the sentence,
            ``"(season >= 2021)"``, for the mean where it holds less that where it does not.
        across: the moderator, a number or a category.
        at: its values; its levels, few values or round ones over its range if not given.
        hold: column → value for the rest, and for ``of`` itself where its slope is not constant;
            else numbers are held at their mean, categories averaged by their shares.
        level: of the intervals.
        simultaneous: whether they hold for all values together (Scheffé's multiplier; Hotelling's
            under robust, clustered and autocorrelated errors).

        Returns a Table: at, slope (the derivative in the column as the table has it, on the scale
        of the link), lower, upper, standard_error, t (or z), p. Raises CallError for a slope of a
        category, UnknownColumnError for a column that the model does not have.
        Source: Aiken & West 1991.

        >>> import joinery as jn
        >>> fit = jn.fit("sample:yields", "honey_kg given crossed(feed_kg, rain_days)")
        >>> fit.simple_slopes("feed_kg", "rain_days", [20, 40, 60])["slope"].round(2).tolist()
        [-1.05, 0.36, 1.77]
        """
        from joinery.study.understand.simple_slopes import simple_slopes

        return simple_slopes(
            self._fitted, of, across, at, hold=hold, level=level, simultaneous=simultaneous
        )

    @answered
    def inverse(
        self,
        of: str,
        at: float | Sequence[float],
        *,
        hold: Mapping[str, Any] | words.Hold = "average",
        replicates: int = 1,
        interval: words.InverseInterval = "new",
        level: float | None = None,
    ) -> Table:
        """Return which value of one predictor gives a response, the rest held.

        Parameters: ``of`` a number or date of the model; ``at`` a response in its own unit, or
        several: a reading, a chance. ``hold``: ``"average"``, or column → value, the columns of
        ``weights`` among them. ``interval``: ``"new"`` for a new reading, or the mean of so many
        ``replicates``; ``"mean"`` for the mean itself; a chance and a rate are means. Returns a
        Table: at, value, lower, upper, note; a line for each value of a curve that gives the
        response. An end without bound is infinite; two pieces, and values outside what was seen,
        are said. Raises CallError for a category, a response that the model cannot have, or one
        that does not depend on the predictor.
        Source: Fieller 1954; Draper & Smith 1998, 3.2; curves by root finding on the band.

        >>> import joinery as jn
        >>> fit = jn.fit("sample:jars", "jars_sold given hours_open")
        >>> fit.inverse("hours_open", 30)["value"].round(2).tolist()
        [4.96]
        """
        from joinery.study.understand.inverse import inverse

        return inverse(
            self._fitted,
            of,
            at,
            hold=hold,
            replicates=replicates,
            interval=interval,
            level=level,
        )

    @answered
    def slope_regions(
        self,
        of: str | Sequence[str],
        across: str,
        *,
        hold: Mapping[str, Any] | None = None,
        level: float | None = None,
        simultaneous: bool = True,
    ) -> Table:
        """Return where the slope of one predictor differs from zero across another.

        Parameters: as for ``simple_slopes``; ``across`` is a number. Returns a Table: from, to,
        slope_is (above zero, below zero, unclear), share_of_rows; cut at the ends of
        what was seen, one line a value where the moderator has few. Raises CallError for a
        category, UnknownColumnError for a column that the model does not have.
        Source: Johnson & Neyman 1936; Bauer & Curran 2005 for ``simultaneous``.

        >>> import joinery as jn
        >>> fit = jn.fit("sample:yields", "honey_kg given crossed(feed_kg, rain_days)")
        >>> fit.slope_regions("feed_kg", "rain_days")["slope_is"].tolist()
        ['below zero', 'unclear', 'above zero']
        """
        from joinery.study.understand.slope_regions import slope_regions

        return slope_regions(
            self._fitted, of, across, hold=hold, level=level, simultaneous=simultaneous
        )

    @answered
    def adjusted_means(
        self,
        term: str,
        *,
        at: Mapping[str, Any] | None = None,
        weighting: words.Weighting = "equal",
        per: float | None = None,
        level: float | None = None,
    ) -> Table:
        """Return the means of a category's levels, or of a product's cells, the rest held.

        Parameters: ``term`` a category, or a product of several: ``"hive_type * swarmed"``; ``at``
        column → value or values of other columns; ``weighting`` of the other categories' levels,
        ``"equal"`` or ``"as seen"`` (by their shares); ``per`` so much exposure, for rates of
        counts; numbers are held at their mean. Returns a Table: the level columns, mean, lower,
        upper, standard_error, back-transformed from link and transformation. Raises CallError for a
        term without levels.
        Source: Searle, Speed & Milliken 1980.

        >>> import joinery as jn
        >>> fit = jn.fit("sample:yields", "honey_kg given forage_km2, hive_type")
        >>> fit.adjusted_means("hive_type")["mean"].round(1).tolist()
        [19.5, 22.4, 16.8]
        """
        from joinery.study.understand.level_means import adjusted_means

        return adjusted_means(self._fitted, term, at=at, weighting=weighting, per=per, level=level)

    @answered
    def level_differences(
        self,
        term: str,
        *,
        reference: str | None = None,
        correction: words.Correction | None = None,
        at: Mapping[str, Any] | None = None,
        level: float | None = None,
    ) -> Table:
        """Return differences between the means of levels: all pairs, or each against one reference.

        Parameters: ``term`` and ``at`` as for ``adjusted_means``; ``reference`` a level;
        ``correction`` for many comparisons: ``"tukey"`` (all pairs; Kramer 1956), ``"dunnett"``
        (against a reference; Dunnett 1955), ``"holm"``, ``"bonferroni"`` or ``"none"``. Where
        spread may be uneven Holm stands for the first two. Returns a Table: level, minus,
        difference, lower, upper, standard_error, t (or z), p; with ratio, ratio_lower, ratio_upper
        under log and logit links. Raises CallError for a term without levels.

        >>> import joinery as jn
        >>> fit = jn.fit("sample:yields", "honey_kg given forage_km2, hive_type")
        >>> fit.level_differences("hive_type")["difference"].round(1).tolist()
        [2.9, -2.7, -5.6]
        """
        from joinery.study.understand.level_means import level_differences

        return level_differences(
            self._fitted, term, reference=reference, correction=correction, at=at, level=level
        )

    @answered
    def difference(
        self,
        a: Mapping[str, Any] | str,
        b: Mapping[str, Any] | str | None = None,
        *,
        hold: Mapping[str, Any] | words.Hold = "average",
        level: float | None = None,
    ) -> Table:
        """Return what if: the mean at one setting of the predictors less the mean at another.

        Parameters: ``a``, ``b`` column → value, or text such as ``"feed_kg=6, rain_days=40"``;
        without ``b`` against the average; ``hold`` values of the other columns, else their
        average. Returns a Table of one row: difference, lower, upper, standard_error, t (or z), p;
        with ratio and its ends under log and logit links and for a logarithm. Raises CallError
        for no setting, UnknownColumnError for a column that the model does not have.

        >>> import joinery as jn
        >>> fit = jn.fit("sample:yields", "honey_kg given forage_km2, hive_type")
        >>> fit.difference("hive_type=stacked", "hive_type=long")["difference"].round(2).item()
        2.92
        """
        from joinery.study.understand.difference import difference

        return difference(self._fitted, a, b, hold=hold, level=level)

    @answered
    def cutoffs(
        self,
        at: Sequence[float] | None = None,
        *,
        crosscheck: bool = False,
        level: float | None = None,
        seed: int | None = None,
    ) -> Table:
        """Return yes/no models: what it costs to say yes from a cut-off on.

        Parameters: ``at`` probabilities (0.1 to 0.9 if not given); ``crosscheck`` judges each row
        by a fit without it, in ten folds dealt by ``seed``. Returns a Table: cutoff, said_yes,
        right_yes, right_no, yes_when_said, no_when_said, each share with its interval
        (Wilson 1927). Raises CallError for another response, or a loaded fit.

        >>> import joinery as jn
        >>> fit = jn.fit("sample:queens", "(outcome = 'accepted') given eggs_a_day")
        >>> fit.cutoffs([0.5])["right_yes"].round(2).item()
        0.93
        """
        from joinery.study.understand.cutoffs import cutoffs

        return cutoffs(self._fitted, at, crosscheck=crosscheck, level=level, seed=seed)

    @answered
    def covariance(self) -> Table:
        """Return the covariance of the coefficients, of the chosen kind, their correlations beside
        it.

        Returns a Table: term, with, covariance, correlation; each with itself first.

        >>> import joinery as jn
        >>> fit = jn.fit("sample:jars", "jars_sold given hours_open")
        >>> fit.covariance()["correlation"].round(2).tolist()
        [1.0, 1.0, -0.94]
        """
        from joinery.study.read.covariance_table import covariance

        return covariance(self._fitted)

    @answered
    def design_columns(self) -> Table:
        """Return the design matrix of the rows used, with the names of its columns.

        Returns a Table, a line a row. Raises CallError for a loaded fit, or one too large.

        >>> import joinery as jn
        >>> fit = jn.fit("sample:jars", "jars_sold given hours_open")
        >>> list(fit.design_columns().frame)
        ['intercept', 'hours_open']
        """
        from joinery.study.read.covariance_table import design_columns

        return design_columns(self._fitted)

    @answered
    def bootstrap(
        self,
        resamples: int = 2000,
        *,
        of: Sequence[str] | str | None = None,
        resample: words.Resample = "rows",
        interval: words.Ends = "percentile",
        level: float | None = None,
        seed: int | None = None,
    ) -> Table:
        """Return how coefficients, or other figures, spread over resamples of the rows.

        Parameters
        ----------
        resamples: how many.
        of: figures in place of the coefficients, as the left sides of claims (``"x - z"``), or
            ratios and functions of them: ``"x / z"``, ``"exp(x)"``, ``"-x / (2 * x^2)"``.
        resample: ``"rows"``; for the normal family ``"residuals"`` (taken to have an even spread)
            or ``"signs"`` (each residual with a sign at random); ``"clusters"`` of a clustered fit.
        interval: ``"percentile"``, ``"accelerated"`` (Efron 1987) or ``"studentized"`` (Hall 1988).
        level: of the intervals.
        seed: seed: draws the same again.

        Returns a Table: term, estimate, lower, upper, standard_error (the spread of the draws),
        bias. Resamples that cannot be estimated are counted and said. Raises CallError for what
        does not go with the fit, or a loaded fit. Source: Davison & Hinkley 1997.

        >>> import joinery as jn
        >>> fit = jn.fit("sample:jars", "jars_sold given hours_open")
        >>> table = fit.bootstrap(500, seed=1)
        >>> bool(table["lower"][1] < table["estimate"][1] < table["upper"][1])
        True
        """
        from joinery.study.resample.bootstrap import bootstrap

        return bootstrap(
            self._fitted,
            resamples,
            of=of,
            resample=resample,
            interval=interval,
            level=level,
            seed=seed,
        )

    @checked
    def workings(self, at: float | Mapping[str, Any] | str | None = None) -> Workings:
        """Return the arithmetic behind each figure, as a teacher writes it.

        Parameters: ``at`` where a single predictor is forecast: its value, or a row as ``forecast``
        takes it (near its mean if not given).
        Returns Workings: ``.sums`` and ``.steps`` (Tables; a step is figure, formula,
        with_numbers, value), ``.render(form)`` as text, markdown, html or latex; prints as text.
        One predictor: from the sums of squares and products; several: from the normal equations;
        other families: from the last iteration. Raises CallError where nothing is left to work
        out, for more than twelve coefficients, or for a loaded fit.

        >>> import joinery as jn
        >>> jn.fit("sample:jars", "jars_sold given hours_open").workings().steps["figure"][5]
        'slope'
        """
        from joinery.study.understand.workings import workings

        return workings(self._fitted, at)

    @checked
    def simulate(self, copies: int = 1, seed: int | None = None) -> pd.DataFrame:
        """Return responses drawn from the fitted model, for the rows that it rests on.

        Parameters: how many ``copies``; ``seed`` seed: draws the same again. Returns a DataFrame, a
        column a copy, on the scale of the model's response; of a total, counts. Raises CallError
        for estimated dispersion of binomial and poisson fits, which is no distribution, or a
        loaded fit.

        >>> import joinery as jn
        >>> jn.fit("sample:jars", "jars_sold given hours_open").simulate(3, seed=1).shape
        (14, 3)
        """
        from joinery.study.resample.copies import simulate

        return simulate(self._fitted, copies, seed)

    def explain(self) -> str:
        """Return the fit read aloud: what each predictor goes with, in plain words and the data's
        units.

        Returns a str: a paragraph on the whole, a sentence or two a predictor (products through
        simple slopes, curves through values across the range, ratios for log, logit and cloglog
        links), the intercept, and what must not be read into it.

        >>> import joinery as jn
        >>> print(jn.fit("sample:jars", "jars_sold given hours_open").explain().splitlines()[6])
        - Each further unit of hours_open goes with 5.29 more jars_sold (95 %: 4.03 to 6.56), \
other things held.
        """
        from joinery.study.understand.explain import explain

        return explain(self._fitted)

    @answered
    def overall(self, level: float | None = None) -> Table:
        """Return the whole model against no predictors.

        Parameters: ``level`` of the critical F. Returns a Table: part, df, ss, ms, f, p,
        critical_f.
        Source: Draper & Smith 1998, 1.3.

        >>> import joinery as jn
        >>> jn.fit("sample:jars", "jars_sold given hours_open").overall()["df"].tolist()
        [1, 12, 13]
        """
        from joinery.study.read.overall import overall

        return overall(self._fitted, level)

    @answered
    def anova(
        self,
        after: words.After = "lower-order",
        *,
        effect_sizes: bool = False,
        level: float | None = None,
    ) -> Table:
        """Return what each term explains beyond the terms it is adjusted for.

        Parameters: ``after``: ``"lower-order"``, all terms that do not contain it; ``"earlier"``
        terms as written; ``"others"``, all other terms, categories coded to sum to zero.
        Returns a Table: term, adjusted_for, df, ss, ms, f, p, share of the total; for other
        families term, adjusted_for, df, deviance, chi2 or f, p. ``effect_sizes`` adds
        partial_eta2, partial_eta2_lower, partial_eta2_upper (at ``level``) and omega2. Raises
        CallError for another ``after``, and for effect sizes of other families.
        Source: Draper & Smith 1998, 6; Yates 1934 for unbalanced tables; Smithson 2001 and Hays
        1963 for effect sizes.

        >>> import joinery as jn
        >>> fit = jn.fit("sample:yields", "honey_kg given forage_km2, hive_type")
        >>> fit.anova()["df"].tolist()[:3]
        [1, 2, 109]
        """
        from joinery.study.compare.anova import anova

        return anova(self._fitted, after, effect_sizes=effect_sizes, level=level)

    @answered
    def box_cox(self) -> Table:
        """Return which power of the response suits the model: a ladder of seven named powers.

        Returns a Table: power, response (as a sentence writes it), typical_miss (√(Σe²/df) in the
        response's own unit, fitted values back-transformed), below_best (log likelihood below that
        of the best power), inside (whether the level's interval of powers holds it); the notes say
        the best power and its interval. Raises CallError for a response that is not positive, a
        loaded fit, or another family.
        Source: Box & Cox 1964.

        >>> import joinery as jn
        >>> fit = jn.fit("sample:prices", "price given weight_g, source")
        >>> "log(price)" in " ".join(fit.box_cox().notes)
        True
        """
        from joinery.study.compare.box_cox import box_cox

        return box_cox(self._fitted)

    @answered
    def claim(self, text: str, *, level: float | None = None) -> Table:
        """Return tests one or several equations or inequalities among coefficients.

        Parameters: ``text`` such as ``"forage_km2 = 2 * feed_kg"`` or ``"feed_kg >= 0.5,
        \\"hive_type: long\\" = 0"``; ``level`` of the intervals.
        Returns a Table: claim, difference, lower, upper, standard_error, t, df, p; several
        equations are tested together as well (f). Raises SentenceError for a claim that cannot
        be read, CallError for claims that repeat one another.
        Source: Draper & Smith 1998, 9; Wald 1943.

        >>> import joinery as jn
        >>> fit = jn.fit("sample:jars", "jars_sold given hours_open")
        >>> fit.claim("hours_open = 5")["difference"].round(2).tolist()
        [0.29]
        """
        from joinery.study.compare.claim import claim

        return claim(self._fitted, text, level)

    @answered
    def rows(self, *, dfbetas: bool = False) -> Table:
        """Return each row's figures: observed, fitted, residual, leverage, influence, and remarks.

        Parameters: ``dfbetas`` adds the change each row makes to each coefficient, in its standard
        errors. Returns a Table labelled by row; rows left out stand at the end, as they would
        be forecast, their reason beside them. Raises CallError for a loaded fit.
        Source: Belsley, Kuh & Welsch 1980, chapter 2; Cook 1977.

        >>> import joinery as jn
        >>> fit = jn.fit("sample:jars", "jars_sold given hours_open")
        >>> float(fit.rows()["leverage"].sum().round(9))
        2.0
        """
        from joinery.study.rows.table import rows

        return rows(self._fitted, dfbetas=dfbetas)

    @checked
    def write_rows(self, path: str | os.PathLike[str]) -> Path:
        """Write the rows table to a file, some rows at a time: for tables of any size.

        Parameters: ``path`` of a .parquet or .csv file. Returns the path; the figures are those of
        ``rows``. Raises CallError for another ending, a place where nothing can be written, and a
        loaded fit.

        >>> import joinery as jn, tempfile, pathlib
        >>> fit = jn.fit("sample:jars", "jars_sold given hours_open")
        >>> path = fit.write_rows(pathlib.Path(tempfile.mkdtemp()) / "rows.parquet")
        >>> jn.read(path)["observed"].tolist() == fit.rows()["observed"].tolist()
        True
        """
        from joinery.study.rows.written import write_rows

        return write_rows(self._fitted, self._output(path))

    @answered
    def checks(self) -> Table:
        """Return what the model takes for granted: a line a question, with figure, verdict and
        advice.

        Returns a Table: question, check, statistic, p (for the whole question), verdict (no sign,
        slight, caution, serious, allowed for, not judged), would_see (the smallest departure that
        these rows show four times of five), advice, which can be given to ``revise``. Raises
        CallError for a loaded fit.
        Source: docs/numerics.md names that of each check.

        >>> import joinery as jn
        >>> fit = jn.fit("sample:hive_scale", "gain_kg given temperature_c", order="day")
        >>> checks = fit.checks().frame
        >>> checks.loc[checks["check"].str.startswith("Durbin–Watson"), "verdict"].tolist()
        ['serious']
        """
        from joinery.study.check.table import checks

        return checks(self._fitted)

    @answered
    def forecast(
        self,
        new: Any = None,
        *,
        level: float | Sequence[float] | None = None,
        intervals: words.Intervals = "model",
        simultaneous: bool = False,
        hold: words.Hold | None = None,
        per: float | None = None,
    ) -> Table:
        """Return forecasts with an interval for the mean and one for a single new row.

        Parameters: ``new`` a table, dict, path or text like ``"forage_km2 = 3, hive_type =
        'long'"``; without it, the rows whose response is missing. ``level`` of the intervals,
        or several. ``intervals``: ``"model"`` or ``"distribution-free"``. ``simultaneous``:
        they hold for all rows together. ``hold="average"``: columns not given are held at their
        average. ``per``: rates of counts per so much exposure, which need none in the new rows.
        Returns a Table: fitted, mean_lower, mean_upper, new_lower, new_upper, note; of a
        transformed response median_lower, median_upper and expected; probability beside counts of
        a total; where new has the response also observed, error, inside. A missing predictor
        gives an empty forecast with the reason. Raises NewRowError for a level never seen, a
        column not there or a missing exposure.
        Source: Draper & Smith 1998, 3.1; Barber, Candès, Ramdas & Tibshirani 2021.

        >>> import joinery as jn
        >>> fit = jn.fit("sample:jars", "jars_sold given hours_open")
        >>> fit.forecast("hours_open = 5")["fitted"].round(2).tolist()
        [30.2]
        """
        from joinery.study.forecast.table import forecast

        return forecast(
            self._fitted,
            new,
            level=level,
            intervals=intervals,
            simultaneous=simultaneous,
            hold=hold,
            per=per,
        )

    @checked
    def write_forecasts(
        self,
        new: Any,
        path: str | os.PathLike[str],
        *,
        level: float | None = None,
        intervals: words.Intervals = "model",
    ) -> Path:
        """Write forecasts to a file, some rows at a time: for tables of any size.

        Parameters: ``new`` a table as for ``forecast``, also one that is read as it is used;
        ``path`` of a .parquet or .csv file; ``level`` and ``intervals`` as for ``forecast``.
        Returns the path; the figures are those of ``forecast``. Raises as ``forecast`` does, and
        CallError for another ending.

        >>> import joinery as jn, tempfile, pathlib
        >>> fit = jn.fit("sample:jars", "jars_sold given hours_open")
        >>> path = pathlib.Path(tempfile.mkdtemp()) / "forecasts.csv"
        >>> list(jn.read(fit.write_forecasts({"hours_open": [5.0]}, path)))[:2]
        ['row', 'fitted']
        """
        from joinery.study.forecast.written import write_forecasts

        path = self._output(path, new)
        return write_forecasts(self._fitted, new, path, level=level, intervals=intervals)

    @answered
    def crosscheck(
        self, folds: int | None = None, *, by: str | None = None, seed: int | None = None
    ) -> Table:
        """Judge the fit on rows it has not seen.

        Parameters: ``folds`` dealt at random by ``seed``; unless given, leave-one-out in closed
        form for the normal family and ten folds for others; ``by`` a column whose groups are
        held out whole. A fit with ``order=`` is
        judged in time: each stretch of rows forecast from those before it.
        Returns a Table: figure, unseen, fitted_rows: errors, explained share, share inside the
        intervals; for probabilities Brier and log score, AUC and calibration slope. Raises
        CallError for a loaded fit.
        Source: Stone 1974; Allen 1974 for the closed form; Brier 1950.

        >>> import joinery as jn
        >>> fit = jn.fit("sample:jars", "jars_sold given hours_open")
        >>> fit.crosscheck()["unseen"].round(2).tolist()[1]
        4.11
        """
        from joinery.study.resample.crosscheck import crosscheck

        return crosscheck(self._fitted, folds, by=by, seed=seed)

    @checked
    def equation(
        self,
        style: words.Style = "text",
        *,
        cells: Mapping[str, str] | None = None,
        part: words.Part = "fitted",
    ) -> str:
        """Return the fitted equation, intercept first: for people, or as code that gives the
        forecast.

        Parameters
        ----------
        style: ``"text"`` and ``"latex"`` for people; ``"python"``, a complete function of arrays or
            numbers; ``"javascript"``, one of a row's values; ``"sql"``, an expression of standard
            SQL; ``"spreadsheet"``, a formula.
        cells: column → cell for the spreadsheet formula; else B2, C2 and so on, in the order of
            the table's columns.
        part: ``"fitted"``, or for normal fits with the identity link an end of an interval:
            ``"mean_lower"``, ``"mean_upper"`` (of a transformed response ``"median_lower"``,
            ``"median_upper"``), ``"new_lower"``, ``"new_upper"``.

        Returns text; the code gives what ``forecast`` gives, on the response's own scale (counts of
        a total). A missing cell gives a missing value, a level never seen an error (Python), NULL
        (SQL) or #N/A (spreadsheet). Raises CallError for what a style cannot say.

        >>> import joinery as jn
        >>> fit = jn.fit("sample:jars", "jars_sold given hours_open")
        >>> fit.equation("latex")
        '\\\\widehat{\\\\text{jars\\\\_sold}} = 3.74 + 5.293\\\\,\\\\text{hours\\\\_open}'
        >>> room = {}
        >>> exec(fit.equation("python"), room)
        >>> float(room["fitted"](4)) == float(fit.forecast("hours_open=4")["fitted"][0])
        True
        """
        from joinery.hand_over.formula.equation import equation

        return equation(self._fitted, style, cells=cells, part=part)

    @checked
    def draw(
        self,
        name: words.PictureName,
        *,
        path: str | os.PathLike[str] | None = None,
        ax: Axes | Figure | SubFigure | None = None,
        label_rows: str | Sequence[Any] = "flagged",
        figsize: tuple[float, float] | None = None,
        title: str | None = None,
        x_label: str | None = None,
        y_label: str | None = None,
        **options: Any,
    ) -> Figure:
        """Draw one of the pictures of a fit.

        Parameters
        ----------
        name: one of these, with the options that each takes:

            - ``line``: the rows with the fitted line or curve and its bands (``against=``,
              ``across=``, ``beside=``, ``hold=``)
            - ``observed_fitted``: each response against its fitted value
            - ``residuals``: residuals against fitted values or a column (``against=``)
            - ``spread``: sizes of residuals against fitted values
            - ``quantiles``: residuals against the quantiles of their law
            - ``histogram``: the distribution of the residuals
            - ``sequence``: residuals in the order of the rows
            - ``leverage``: rows far out, badly fitted, or both
            - ``influence``: the rows that weigh most, and what they move
            - ``added_variable``: the response against one term, both less the other terms
              (``term=``)
            - ``component_residual``: what a column adds, with the residuals (``against=``)
            - ``forecast``: forecasts with both intervals (``new=``, ``hold=``, ``per=``)
            - ``series``: observed and fitted in order, forecasts after them (``new=``, ``hold=``)
            - ``box_cox``: powers of the response
            - ``checks``: the checks, a strip a question
            - ``coefficients``: standardized coefficients with intervals
            - ``simple_slopes``: the slope of one predictor across another (``of=``, ``across=``,
              ``at=``, ``hold=``, ``level=``, ``simultaneous=``)
            - ``inverse``: a reading carried over to the predictor that gives it (``of=``, ``at=``,
              ``hold=``, ``replicates=``, ``interval=``, ``level=``)
            - ``adjusted_means``: means of a category's levels (``term=``, ``at=``, ``weighting=``,
              ``per=``, ``level=``)
            - ``level_differences``: differences between a category's levels (``term=``,
              ``reference=``, ``correction=``, ``at=``, ``level=``)
            - ``joint_region``: the region of two coefficients (``of=``, ``level=``)
            - ``bootstrap``: the distribution of resampled coefficients (``resamples=``, ``of=``,
              ``resample=``, ``interval=``, ``level=``, ``seed=``)
            - ``cutoffs``: sensitivity and specificity against the cut-off (``crosscheck=``,
              ``seed=``)
            - ``calibration``: observed shares against fitted probabilities (``crosscheck=``,
              ``seed=``)

        path: where to write it (.png .svg .pdf).
        ax: axes to draw on; a Figure or SubFigure, also for pictures of several panels.
        label_rows: ``"flagged"``, ``"none"`` or row labels.
        figsize: width and height in inches, in place of the picture's own.
        title, x_label, y_label: words in place of the picture's own.
        options: as listed. ``against``, ``across`` are columns, ``term`` a coefficient's name or a
            term, ``beside`` other fits; the pictures of a question take that question's options.

        Returns a Matplotlib Figure. Raises CallError for another name.

        >>> import joinery as jn
        >>> figure = jn.fit("sample:jars", "jars_sold given hours_open").draw("line")
        """
        from joinery.study.draw import draw

        words = {"title": title, "x_label": x_label, "y_label": y_label}
        return draw(
            self._fitted,
            name,
            path=path,
            ax=ax,
            label_rows=label_rows,
            words=words,
            figsize=figsize,
            **options,
        )

    @checked
    def revise(
        self,
        *,
        add: str | Sequence[str] | None = None,
        drop: str | Sequence[str] | None = None,
        leave_out: Sequence[Any] | str | None = None,
        put_back: Sequence[Any] | str | None = None,
        response: str | None = None,
        **changed: Unpack[words.Changes],
    ) -> Fit:
        """Fit again with terms added or dropped, rows left out or put back, other options.

        Parameters: ``add``, ``drop`` terms; ``leave_out`` labels of further rows; ``put_back``
        labels of rows that were asked to be left out; ``response``; ``changed`` options of
        ``fit``. ``changes`` of the new fit keeps the trail. Returns a new Fit. Raises CallError
        for a dropped term that is not there, or for a loaded fit.

        >>> import joinery as jn
        >>> jn.fit("sample:yields", "honey_kg given forage_km2").revise(add="feed_kg").sentence
        'honey_kg given forage_km2, feed_kg'
        """
        from joinery.model.revise import revise

        return warned(
            Fit(
                revise(
                    self._fitted,
                    add=add,
                    drop=drop,
                    leave_out=leave_out,
                    put_back=put_back,
                    response=response,
                    **changed,
                )
            )
        )

    @checked
    def save(self, path: str | os.PathLike[str]) -> Path:
        """Write the result as one JSON file, without the table's rows.

        Parameters: ``path`` of the file. Returns the path. Raises CallError when the folder is not
        there.

        >>> import joinery as jn, tempfile, pathlib
        >>> file = pathlib.Path(tempfile.mkdtemp()) / "jars.json"
        >>> jn.fit("sample:jars", "jars_sold given hours_open").save(file).name
        'jars.json'
        """
        from joinery.model.save import save

        return save(self._fitted, self._output(path))

    @checked
    def report(self, path: str | os.PathLike[str]) -> Path:
        """Write one page to send: every step of the work, with tables and pictures.

        Parameters: ``path`` of the HTML file. It needs nothing else to be read, and its rows are
        linked: choosing one in a picture or table marks it in all. Returns the path. Raises
        CallError for a fit loaded from a file, or when the folder is not there.

        >>> import joinery as jn, tempfile, pathlib
        >>> file = pathlib.Path(tempfile.mkdtemp()) / "jars.html"
        >>> jn.fit("sample:jars", "jars_sold given hours_open").report(file).name
        'jars.html'
        """
        from joinery.hand_over.report import report

        return report([self._fitted], self._output(path))

    @checked
    def write(self, path: str | os.PathLike[str]) -> Path:
        """Write a workbook: a sheet a table, and one of forecasts that the sheet computes.

        Parameters: ``path`` of the workbook (.xlsx). Returns the path. Raises CallError for another
        ending, or when nothing can be written there.

        >>> import joinery as jn, tempfile, pathlib
        >>> file = pathlib.Path(tempfile.mkdtemp()) / "jars.xlsx"
        >>> jn.fit("sample:jars", "jars_sold given hours_open").write(file).name
        'jars.xlsx'
        """
        from joinery.hand_over.book import write

        return write(self._fitted, self._output(path))

    # ------------------------------------------------------------------ the short page

    if not TYPE_CHECKING:  # else every slip would be an attribute to a type checker

        def __getattr__(self, name: str) -> Any:
            """Return point from a word that analysts know to the question that answers it."""
            if name.startswith("_"):
                raise AttributeError(name)
            known = [n for n in dir(type(self)) if not n.startswith("_")]
            meant = WORDS_FOR.get(name) or nearest(name, known)
            hint = f"; did you mean {meant}?" if meant else ""
            raise AttributeError(f"a Fit has no {name!r}{hint}")

    def _output(self, path: Any, *inputs: object) -> Any:
        """Return a path to write to. Raises CallError for the file that the table was read from."""
        origin = self._fitted.origin
        refuse_input(path, [*inputs, *([origin.table.name] if origin else [])])
        return path

    @one_thread_a_product()
    def __str__(self) -> str:
        from joinery.hand_over.short_page import short_page
        from joinery.show.short_page import as_text

        return as_text(short_page(self._fitted))

    def __repr__(self) -> str:
        return f"<Fit {self.sentence!r}, {self.n_rows:,} rows>"

    @one_thread_a_product()
    def _repr_html_(self) -> str:
        from joinery.hand_over.short_page import short_page
        from joinery.show.short_page import as_html

        return as_html(short_page(self._fitted))


def warned(fit: Fit) -> Fit:
    """Return a fit, with one warning of what its estimates must be read with, and one of cells."""
    if notes_made := estimate_notes(fit._fitted):
        warnings.warn("; ".join(notes_made), EstimateWarning, stacklevel=4)
    if notes_made := reading_notes(fit._fitted):
        warnings.warn("; ".join(notes_made), ReadingWarning, stacklevel=4)
    return fit
