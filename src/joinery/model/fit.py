"""Fit: the one result. Its figures are attributes; each question it answers is a door into the study room."""

from __future__ import annotations

import math
import os
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING, Any

from joinery.core.covariance import Sandwich
from joinery.core.solution import Solution
from joinery.data.records import Records
from joinery.design.blocks import Asides
from joinery.design.design import Design
from joinery.design.response import ResponseScale
from joinery.model.glm import Glm
from joinery.model.notes import constant_response, fit_notes
from joinery.model.selection import Selection
from joinery.show.table import Table

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure


@dataclass(frozen=True, eq=False, repr=False)
class Fit:
    """A fitted model. Made by ``fit``, ``load`` and ``Fit.revise``; never changed afterwards.

    Figures: ``sentence family link level n_rows left_out``; ``r_squared adjusted_r_squared residual_sd model_df
    residual_df``; ``deviance null_deviance dispersion log_likelihood aic bic``; ``converged iterations``; ``notes``.
    A figure without meaning for the family is None.
    """

    design: Design
    solution: Solution
    level: float
    told: tuple[str, ...] = ()  # what was noted on the way; of a loaded fit, every note
    labels: Mapping[str, str] = field(default_factory=dict)
    table: Records | None = None
    selection: Selection | None = None
    asked: Mapping[str, Any] = field(default_factory=dict)
    family: str = "normal"
    link: str = "identity"
    asides: Asides = field(default_factory=Asides)
    log_weights: float = 0.0
    sandwich: Sandwich | None = None
    memo: dict[str, Any] = field(default_factory=dict)
    changes: tuple[str, ...] = ()
    glm: Glm | None = None

    # ------------------------------------------------------------------ figures

    @property
    def sentence(self) -> str:
        """The model sentence in its canonical form."""
        return str(self.design.sentence)

    @cached_property
    def notes(self) -> tuple[str, ...]:
        """What the reader must know, the gravest first."""
        if self.table is None:
            return self.told
        return fit_notes(self.table, self.design, self.solution, self.response.name, self.told, self.glm)

    @cached_property
    def response(self) -> ResponseScale:
        """The response and its scale."""
        response = self.design.sentence.response
        return ResponseScale(response.expression, response.kind, response.total)

    @property
    def n_rows(self) -> int:
        """Rows the fit rests on."""
        return self.solution.n

    @cached_property
    def left_out(self) -> Table:
        """The rows not used, each with its reason."""
        if self.table is None or self.selection is None:
            return Table({"reason": []}, title="Rows left out", index=[], notes=("a loaded fit keeps no rows",))
        index = self.table.index
        return Table(
            {"reason": list(self.selection.reasons)},
            title="Rows left out",
            index=index[self.selection.out].tolist(),
            index_name=str(index.name or "row"),
            kinds={"reason": "text"},
        )

    @property
    def residual_df(self) -> int:
        """Rows less coefficients."""
        return max(self.solution.residual_df, 0)

    @property
    def model_df(self) -> int:
        """Coefficients beside the constant."""
        return self.solution.rank - self.solution.spans_constant

    @property
    def residual_sd(self) -> float | None:
        """s = √(RSS / residual df); None for other families than the normal."""
        if not self.residual_df or self.family != "normal":
            return None
        return math.sqrt(self.solution.rss / self.residual_df) * self.solution.unit

    @property
    def error_scale(self) -> float | None:
        """What standard errors are multiples of: s, or the root of the dispersion; None where it cannot be had."""
        if self.glm is None:
            return self.residual_sd
        return None if self.dispersion is None else math.sqrt(self.dispersion)

    @property
    def reference_df(self) -> float:
        """Degrees of freedom of the reference distribution: those of the residual, ∞ where the dispersion is known."""
        return math.inf if self.glm is not None and self.glm.known else float(self.residual_df)

    @property
    def r_squared(self) -> float | None:
        """1 − RSS/TSS; None when the response does not vary."""
        if self.glm is not None:
            return None
        return None if constant_response(self.solution) else 1 - self.solution.rss / self.solution.tss

    @property
    def adjusted_r_squared(self) -> float | None:
        """1 − (RSS/residual df)/(TSS/total df)."""
        if self.r_squared is None or not self.residual_df:
            return None
        total_df = self.n_rows - self.solution.spans_constant
        return 1 - (self.solution.rss / self.residual_df) / (self.solution.tss / total_df)

    @property
    def deviance(self) -> float:
        """The deviance; for the normal family the residual sum of squares."""
        if self.glm is not None:
            return self.glm.deviance
        return self._squared(self.solution.rss)

    @property
    def null_deviance(self) -> float:
        """The deviance without predictors."""
        if self.glm is not None:
            return self.glm.null_deviance
        return self._squared(self.solution.tss)

    def _squared(self, value: float) -> float:
        """A sum of squares out of the response's own unit; infinite where a double cannot hold it."""
        return value * self.solution.unit * self.solution.unit

    @property
    def dispersion(self) -> float | None:
        """s²; for other families one where it is known, else Pearson's χ² over the residual df."""
        if self.glm is not None:
            return self.glm.dispersion
        return self._squared(self.solution.rss / self.residual_df) if self.residual_df else None

    @property
    def log_likelihood(self) -> float | None:
        """With all constants, at the likeliest dispersion; None for a perfect fit and for quasi families."""
        if self.glm is not None:
            return self.glm.log_likelihood
        n, rss = self.n_rows, self.solution.rss
        if rss <= 0:
            return None
        unit = n * math.log(self.solution.unit)
        return -n / 2 * (math.log(2 * math.pi * rss / n) + 1) - unit + self.log_weights / 2

    @property
    def parameters(self) -> int:
        """Coefficients, and one more for an estimated dispersion or shape."""
        return self.solution.rank + (1 if self.glm is None else self.glm.extra_parameters)

    @property
    def aic(self) -> float | None:
        """2·parameters − 2·log likelihood."""
        return None if self.log_likelihood is None else 2 * self.parameters - 2 * self.log_likelihood

    @property
    def bic(self) -> float | None:
        """log(n)·parameters − 2·log likelihood."""
        if self.log_likelihood is None:
            return None
        return math.log(self.n_rows) * self.parameters - 2 * self.log_likelihood

    @property
    def converged(self) -> bool:
        """Whether the estimation settled; least squares always does."""
        return self.glm is None or self.glm.converged

    @property
    def iterations(self) -> int | None:
        """Steps of the iteration; None for least squares, which is solved at once."""
        return None if self.glm is None else self.glm.iterations

    @property
    def id(self) -> str | None:
        """The column that labels rows, if one was named."""
        return self.asked.get("id")

    def words(self, name: str) -> str:
        """A column's words for people, when ``labels`` gave some; else its name."""
        return self.labels.get(name, name)

    # ------------------------------------------------------------------ questions

    def coefficients(
        self,
        level: float | None = None,
        *,
        standardized: bool = False,
        correlations: bool = False,
        ratios: bool = False,
        profile: bool = False,
    ) -> Table:
        """Coefficients with intervals, standard errors, t (z where the dispersion is known) and p.

        Parameters: ``level`` of the intervals (the fit's own if not given); ``standardized`` adds slopes in standard
        units, b·sd(column)/sd(response); ``correlations`` adds simple, partial and semipartial r with the response;
        ``ratios`` adds exp of estimate and ends (odds, rate or mean ratio); ``profile`` takes the ends from the profile
        likelihood (penalized, for a penalized fit).
        Returns a Table: term, estimate, lower, upper, standard_error, t, p. Raises CallError for a level outside 0–100.
        Source: Draper & Smith 1998, *Applied Regression Analysis*, 1.4 and 5.

        >>> import joinery as jn
        >>> jn.fit("sample:jars", "jars_sold given hours_open").coefficients()["estimate"].round(3).tolist()
        [3.738, 5.293]
        """
        from joinery.study.coefficients import coefficients

        return coefficients(
            self, level, standardized=standardized, correlations=correlations, ratios=ratios, profile=profile
        )

    def average_effects(self, level: float | None = None) -> Table:
        """How the mean of the response changes with each predictor, averaged over the rows.

        Parameters: ``level`` of the intervals. For a number the slope of the mean; for a level the difference from the
        reference level. Returns a Table: term, effect, lower, upper, standard_error, z (or t), p. Raises CallError for
        a loaded fit. Standard errors by the delta method.

        >>> import joinery as jn
        >>> fit = jn.fit("sample:winter", "survived of colonies given stores_kg")
        >>> fit.average_effects()["effect"].round(3).tolist()
        [0.039]
        """
        from joinery.study.effects import average_effects

        return average_effects(self, level)

    def overall(self, level: float | None = None) -> Table:
        """The whole model against no predictors.

        Parameters: ``level`` of the critical F. Returns a Table: part, df, ss, ms, f, p, critical_f.
        Source: Draper & Smith 1998, 1.3.

        >>> import joinery as jn
        >>> jn.fit("sample:jars", "jars_sold given hours_open").overall()["df"].tolist()
        [1, 12, 13]
        """
        from joinery.study.overall import overall

        return overall(self, level)

    def anova(self, after: str = "earlier") -> Table:
        """What each term explains beyond the terms it is adjusted for.

        Parameters: ``after``: ``"earlier"`` terms as written; ``"lower-order"``, all terms that do not contain it;
        ``"others"``, all other terms, categories coded to sum to zero.
        Returns a Table: term, adjusted_for, df, ss, ms, f, p, share of the total; for other families term,
        adjusted_for, df, deviance, chi2 or f, p. Raises CallError for another ``after``.
        Source: Draper & Smith 1998, 6; Yates 1934 for unbalanced tables.

        >>> import joinery as jn
        >>> fit = jn.fit("sample:yields", "honey_kg given forage_km2, hive_type")
        >>> fit.anova()["df"].tolist()[:3]
        [1, 2, 109]
        """
        from joinery.study.anova import anova

        return anova(self, after)

    def box_cox(self) -> Table:
        """The likelihood over powers of the response, with the interval of the best power and the sentence it suggests.

        Returns a Table: power, log_likelihood, inside (whether the level's interval holds the power).
        Raises CallError for a response that is not positive, a loaded fit, or another family.
        Source: Box & Cox 1964.

        >>> import joinery as jn
        >>> "log(price)" in " ".join(jn.fit("sample:prices", "price given weight_g, source").box_cox().notes)
        True
        """
        from joinery.study.powers import box_cox

        return box_cox(self)

    def claim(self, text: str, *, level: float | None = None) -> Table:
        """Tests one or several equations or inequalities among coefficients.

        Parameters: ``text`` such as ``"forage_km2 = 2 * feed_kg"`` or ``"feed_kg >= 0.5, \\"hive_type: long\\" = 0"``;
        ``level`` of the intervals.
        Returns a Table: claim, difference, lower, upper, standard_error, t, df, p; several equations are tested
        together as well (f).
        Raises SentenceError for a claim that cannot be read, CallError for claims that repeat one another.
        Source: Draper & Smith 1998, 9; Wald 1943.

        >>> import joinery as jn
        >>> fit = jn.fit("sample:jars", "jars_sold given hours_open")
        >>> fit.claim("hours_open = 5")["difference"].round(2).tolist()
        [0.29]
        """
        from joinery.study.claims import claim

        return claim(self, text, level)

    def rows(self, *, dfbetas: bool = False) -> Table:
        """Each row's figures: observed, fitted, residual, leverage, influence, and what is remarkable, in words.

        Parameters: ``dfbetas`` adds the change each row makes to each coefficient, in its standard errors.
        Returns a Table labelled by row; rows left out stand at the end, as they would be forecast, their reason beside
        them. Raises CallError for a loaded fit.
        Source: Belsley, Kuh & Welsch 1980, chapter 2; Cook 1977.

        >>> import joinery as jn
        >>> float(jn.fit("sample:jars", "jars_sold given hours_open").rows()["leverage"].sum().round(9))
        2.0
        """
        from joinery.study.rows import rows

        return rows(self, dfbetas=dfbetas)

    def checks(self) -> Table:
        """What the model takes for granted, one question a line, with figure, verdict and what to do.

        Returns a Table: question, check, statistic, p, verdict (fine, caution or serious), advice, whose sentences can
        be given to ``revise``. Raises CallError for a loaded fit.
        Source: docs/numerics.md names that of each check.

        >>> import joinery as jn
        >>> jn.fit("sample:jars", "jars_sold given hours_open").checks()["verdict"].tolist()[:3]
        ['fine', 'fine', 'caution']
        """
        from joinery.study.checks import checks

        return checks(self)

    def forecast(
        self,
        new: Any = None,
        *,
        level: float | Sequence[float] | None = None,
        intervals: str = "model",
        simultaneous: bool = False,
        hold: str | None = None,
    ) -> Table:
        """Forecasts with an interval for the mean and one for a single new row.

        Parameters: ``new`` a table, dict, path or text like ``"forage_km2 = 3, hive_type = 'long'"``; without it, the
        rows whose response is missing. ``level`` of the intervals, or several. ``intervals``: ``"model"`` or
        ``"distribution-free"``. ``simultaneous``: they hold for all rows together. ``hold="average"``: columns not
        given are held at their average.
        Returns a Table: fitted, mean_lower, mean_upper, new_lower, new_upper, note; expected for a transformed
        response, probability beside counts of a total; where new has the response also observed, error, inside. A
        missing predictor gives an empty forecast with the reason.
        Raises NewRowError for a level never seen, a column not there or a missing exposure.
        Source: Draper & Smith 1998, 3.1; Barber, Candès, Ramdas & Tibshirani 2021.

        >>> import joinery as jn
        >>> jn.fit("sample:jars", "jars_sold given hours_open").forecast("hours_open = 5")["fitted"].round(2).tolist()
        [30.2]
        """
        from joinery.study.forecast import forecast

        return forecast(self, new, level=level, intervals=intervals, simultaneous=simultaneous, hold=hold)

    def crosscheck(self, folds: int | None = None, *, by: str | None = None, seed: int | None = None) -> Table:
        """Judges the fit on rows it has not seen.

        Parameters: ``folds`` dealt at random by ``seed``; unless given, leave-one-out in closed form for the normal
        family and ten folds for others; ``by`` a column whose groups are held out whole. A fit with ``order=`` is
        judged in time: each stretch of rows forecast from those before it.
        Returns a Table: figure, unseen, fitted_rows: errors, explained share, share inside the intervals; for
        probabilities Brier and log score, AUC and calibration slope. Raises CallError for a loaded fit.
        Source: Stone 1974; Allen 1974 for the closed form; Brier 1950.

        >>> import joinery as jn
        >>> jn.fit("sample:jars", "jars_sold given hours_open").crosscheck()["unseen"].round(2).tolist()[1]
        4.11
        """
        from joinery.model.crosscheck import crosscheck

        return crosscheck(self, folds, by=by, seed=seed)

    def equation(self, style: str = "text") -> str:
        """The fitted equation, intercept first.

        Parameters: ``style``: ``text``, ``latex`` for people; ``python``, ``sql``, ``spreadsheet`` with every digit.
        Returns a str. Raises CallError for another style, or a term that the style cannot write.

        >>> import joinery as jn
        >>> jn.fit("sample:jars", "jars_sold given hours_open").equation("latex")
        '\\\\widehat{\\\\text{jars\\\\_sold}} = 3.7 + 5.29\\\\,\\\\text{hours\\\\_open}'
        """
        from joinery.study.equation import equation

        return equation(self, style)

    def draw(
        self,
        name: str,
        *,
        path: str | os.PathLike[str] | None = None,
        ax: Axes | None = None,
        label_rows: str | Sequence[Any] = "flagged",
        title: str | None = None,
        x_label: str | None = None,
        y_label: str | None = None,
        **options: Any,
    ) -> Figure:
        """A picture: ``line``, ``observed_fitted``, ``residuals``, ``spread``, ``quantiles``, ``histogram``,
        ``sequence``, ``leverage``, ``influence``, ``added_variable``, ``component_residual``, ``box_cox`` or
        ``checks``.

        Parameters: ``path`` to write it to (.png .svg .pdf); ``ax`` to draw on; ``label_rows`` ``"flagged"``,
        ``"none"`` or row labels; title and axis labels; ``against=`` a column (``line``, ``residuals``,
        ``component_residual``); ``term=`` a coefficient's name (``added_variable``).
        Returns a Matplotlib Figure. Raises CallError for another name.

        >>> import joinery as jn
        >>> figure = jn.fit("sample:jars", "jars_sold given hours_open").draw("line")
        """
        from joinery.study.pictures import draw

        words = {"title": title, "x_label": x_label, "y_label": y_label}
        return draw(self, name, path=path, ax=ax, label_rows=label_rows, words=words, **options)

    def revise(
        self,
        *,
        add: str | Sequence[str] | None = None,
        drop: str | Sequence[str] | None = None,
        leave_out: Sequence[Any] | str | None = None,
        put_back: Sequence[Any] | str | None = None,
        response: str | None = None,
        **changed: Any,
    ) -> Fit:
        """Fits again with terms added or dropped, rows left out or put back, another response, or other options.

        Parameters: ``add``, ``drop`` terms; ``leave_out`` labels of further rows; ``put_back`` labels of rows that were
        asked to be left out; ``response``; ``changed`` options of ``fit``. ``changes`` of the new fit keeps the trail.
        Returns a new Fit. Raises CallError for a dropped term that is not there, or for a loaded fit.

        >>> import joinery as jn
        >>> jn.fit("sample:yields", "honey_kg given forage_km2").revise(add="feed_kg").sentence
        'honey_kg given forage_km2, feed_kg'
        """
        from joinery.model.revising import revise

        return revise(self, add=add, drop=drop, leave_out=leave_out, put_back=put_back, response=response, **changed)

    def save(self, path: str | os.PathLike[str]) -> Path:
        """Writes the result as one JSON file, without the table's rows.

        Returns the path. Raises CallError when the folder is not there.
        """
        from joinery.model.saving import save

        return save(self, path)

    # ------------------------------------------------------------------ the short page

    def __str__(self) -> str:
        from joinery.show.page import as_text
        from joinery.study.short_page import short_page

        return as_text(short_page(self))

    def __repr__(self) -> str:
        return f"<Fit {self.sentence!r}, {self.n_rows:,} rows>"

    def _repr_html_(self) -> str:
        from joinery.show.page import as_html
        from joinery.study.short_page import short_page

        return as_html(short_page(self))
