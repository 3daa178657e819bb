"""Forecasts that run ahead: rows whose lagged response is itself a forecast.

Each forecast feeds the next. Intervals come from paths drawn from the fit: coefficients from their
own distribution, and for each row the error of a single row, which later rows of the path inherit;
the mean's from paths without such errors."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from joinery.data.records import Records
from joinery.notation.context import EVERY_ROW, Context
from joinery.notation.evaluate import evaluate
from joinery.notation.tree import Call, Name, Number
from joinery.notation.walk import names_in
from joinery.study.fitted import Fitted
from joinery.study.forecast.bands import Bands

PATHS = 4000  # drawn: an end of a 95 % interval is then sure to a twentieth of its width
SEED = 20261130
PLACE = "place of a row"  # a column that tells which row a lag takes


@dataclass(frozen=True)
class Ahead:
    """The rows that rest on earlier forecasts."""

    lags: dict[str, np.ndarray]  # every lag by its text, with forecasts where responses lack
    rests: np.ndarray  # (rows of the table,) whether a row rests on a forecast
    means: dict[int, np.ndarray]  # by row, paths (PATHS,) of the mean
    responses: dict[int, np.ndarray]  # by row, paths of the response

    def put_into(self, bands: Bands, positions: np.ndarray, level: float) -> Bands:
        """Return bands whose ends are the paths' where rows rest on forecasts."""
        ends = {
            name: np.array(getattr(bands, name), float)
            for name in ("mean_lower", "mean_upper", "new_lower", "new_upper")
        }
        shares = [(1 - level) / 2, (1 + level) / 2]
        for i, row in enumerate(positions.tolist()):
            if not self.rests[row]:
                continue
            low, high = np.quantile(self.means[row], shares)
            ends["mean_lower"][i], ends["mean_upper"][i] = low, high
            low, high = np.quantile(self.responses[row], shares)
            ends["new_lower"][i], ends["new_upper"][i] = low, high
        return Bands(bands.fitted, **ends)

    def expected(self, values: np.ndarray, positions: np.ndarray) -> np.ndarray:
        """Return the means of the paths where rows rest on forecasts, else the values given."""
        out = np.array(values, float)
        for i, row in enumerate(positions.tolist()):
            if self.rests[row]:
                out[i] = float(self.responses[row].mean())
        return out

    @property
    def note(self) -> str:
        count = int(self.rests.sum())
        rows = "1 row rests" if count == 1 else f"{count:,} rows rest"
        return (
            f"{rows} on forecasts before them: each feeds the next, intervals from {PATHS:,} paths "
            "drawn from the fit"
        )


def run_ahead(fit: Fitted, table: Records, positions: np.ndarray) -> Ahead | None:
    """Run forecasts ahead where rows want the response of rows that are forecast themselves.

    None where there is nothing to run: no lag of the response, or none that is lacking."""
    of_response = [call for call in fit.lags if fit.response.original in _named(call)]
    response = fit.response
    plain = response.transformed or isinstance(response.expression, Name)
    if not of_response or not plain or table.read_as_needed or response.original not in table.names:
        return None
    if fit.asides.weights is not None or not fit.estimate.law or fit.estimate.scale is None:
        return None
    run = _Run(fit, table, of_response)
    wanted = [row for row in run.order.tolist() if row in set(positions.tolist())]
    for row in wanted:
        run.step(row)
    if not run.rests.any():
        return None
    return Ahead(run.lags, run.rests, run.means, run.responses)


def _named(call: Call) -> set[str]:
    return {n.name for n in names_in(call.arguments[0])}


class _Run:
    """Paths and the plain forecast, row after row in the order of the lags."""

    def __init__(self, fit: Fitted, table: Records, of_response: Sequence[Call]) -> None:
        self.fit, self.of_response = fit, of_response
        everywhere = fit.design.context(table, EVERY_ROW)
        self.lags = {str(call): np.array(evaluate(call, everywhere)) for call in fit.lags}
        self.table = table.assigned({})
        self.table.lags.update(self.lags)
        placed = fit.design.context(
            table.assigned({PLACE: np.arange(len(table), dtype=float)}), EVERY_ROW
        )
        self.source = {str(call): evaluate(_of_place(call), placed) for call in of_response}
        self.y = table.column(fit.response.original).numbers(EVERY_ROW).copy()
        self.known = np.isfinite(self.y)
        self.rests = np.zeros(len(table), bool)
        self.means: dict[int, np.ndarray] = {}
        self.responses: dict[int, np.ndarray] = {}
        self.order = _in_order(fit, table)
        self._draw()

    def _draw(self) -> None:
        """Draw how far each path's coefficients lie from the estimate, and its spread."""
        fit, rng = self.fit, np.random.default_rng(SEED)
        rank, df = fit.solution.rank, float(fit.estimate.reference_df)
        z = rng.standard_normal((PATHS, rank))
        wider = np.ones(PATHS)
        if np.isfinite(df) and df > 0:
            wider = np.sqrt(df / rng.chisquare(df, PATHS))
        assert fit.estimate.scale is not None
        self.spread = fit.estimate.scale * wider
        if fit.sandwich is None:
            self.away = z * self.spread[:, None]
        else:
            values, vectors = np.linalg.eigh(fit.sandwich.meat)
            root = vectors * np.sqrt(np.maximum(values, 0.0)) * fit.solution.unit
            self.away = (z @ root.T) * wider[:, None]
        self.rng = rng

    def step(self, row: int) -> None:
        """Forecast one row, and its response in every path."""
        fed = False
        lags = {text: np.full(PATHS, values[row]) for text, values in self.lags.items()}
        middle = dict(lags)
        plain = {text: values[[row]] for text, values in self.lags.items()}
        for call in self.of_response:
            text = str(call)
            source = self.source[text][row]
            if not np.isfinite(source) or self.known[int(source)]:
                continue
            before = int(source)
            if before not in self.responses:
                return  # the row before has no forecast, so that this one has none
            fed = True
            lags[text] = self._argument(call, self.responses[before], before)
            middle[text] = self._argument(call, self.means[before], before)
            plain[text] = self._argument(call, self.y[[before]], before)
        for text, value in plain.items():
            self.lags[text][row] = value[0]
        eta = self._eta(row, plain, None)
        if not np.isfinite(eta).all():
            return
        self.y[row] = self._back(eta)[0]
        self.means[row] = self._back(self._eta(row, middle, self.away))
        self.responses[row] = self._response(self._eta(row, lags, self.away))
        self.rests[row] = fed

    def _argument(self, call: Call, y: np.ndarray, row: int) -> np.ndarray:
        """Return what a lag takes of a row whose response is y, in every path."""
        table = self.table.picked(np.full(len(y), row)).assigned({self.fit.response.original: y})
        memory = self.fit.design.function_memory
        return evaluate(call.arguments[0], Context(table, EVERY_ROW, memory))

    def _eta(self, row: int, lags: dict[str, np.ndarray], away: np.ndarray | None) -> np.ndarray:
        """Return the linear predictor of a row with its lags, in every path."""
        fit, many = self.fit, len(next(iter(lags.values())))
        table = self.table.picked(np.full(many, row))
        table.lags.update(lags)
        context = fit.design.context(table, np.arange(many))
        X = fit.design.matrix(context)
        eta = fit.solution.fitted(X)
        offset = fit.asides.values("offset", context)
        exposure = fit.response.log_exposure(context)
        for more in (offset, exposure):
            if more is not None:
                eta = eta + more
        if away is not None:
            eta = eta + np.einsum("ij,ij->i", fit.solution.in_basis(X), away)
        return np.asarray(eta)

    def _back(self, eta: np.ndarray) -> np.ndarray:
        """Return the linear predictor on the response's own scale."""
        fit = self.fit
        if not fit.estimate.linear:
            return np.asarray(fit.link.mu(eta))
        return fit.response.turn_back(eta)

    def _response(self, eta: np.ndarray) -> np.ndarray:
        """Return a response of every path."""
        fit = self.fit
        if fit.estimate.linear:
            error = self.spread * self.rng.standard_normal(len(eta))
            return fit.response.turn_back(eta + error)
        mu = self._back(eta)
        spread = np.ones(len(mu)) if fit.family.discrete else self.spread**2
        return np.asarray(fit.family.draw(self.rng, mu, trials=None, spread=spread), float)


def _of_place(call: Call) -> Call:
    """Return the same lag, of the row's place rather than of its value."""
    steps = call.arguments[1]
    assert isinstance(steps, Number)
    return Call("lag", (Name(PLACE), steps), call.options)


def _in_order(fit: Fitted, table: Records) -> np.ndarray:
    """Return the rows in the order that lags go by; a row without a place last."""
    order = fit.options.order
    if order is None or order not in table.names:
        return np.arange(len(table))
    codes = table.column(order).codes(EVERY_ROW)
    return np.argsort(np.where(codes < 0, np.iinfo(np.int64).max, codes), kind="stable")
