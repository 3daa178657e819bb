"""The form of a saved fit: every field typed and bounded, so that no file can do harm when used."""

from __future__ import annotations

from itertools import pairwise
from typing import Annotated, Literal

import pydantic

from joinery.data.columns import level_text

# beyond these ends products of two numbers overflow
Number = Annotated[float, pydantic.Field(ge=-1e150, le=1e150)]
Wide = Annotated[float, pydantic.Field(ge=-1e306, le=1e306)]  # what the user measured
Positive = Annotated[float, pydantic.Field(ge=1e-300, le=1e306)]
Share = Annotated[float, pydantic.Field(ge=0, le=1)]
Cosine = Annotated[float, pydantic.Field(ge=-1.000001, le=1.000001)]
Count = Annotated[int, pydantic.Field(ge=0, le=2**53)]
Numbers = list[Wide | None]


class Strict(pydantic.BaseModel):
    model_config = pydantic.ConfigDict(extra="forbid", strict=True, allow_inf_nan=False)


def require(holds: bool, words: str) -> None:
    if not holds:
        raise ValueError(words)


class SavedNumber(Strict):
    """A factor that is a number as it stands."""

    kind: Literal["number"]


class SavedDate(Strict):
    """A factor that counts days since its first date."""

    kind: Literal["date"]
    first: Annotated[float, pydantic.Field(ge=-720_000, le=2_933_000)]  # years 1 to 9999
    name: str


class SavedCategory(Strict):
    """A category: its levels, the reference first, and its coding."""

    kind: Literal["category"]
    levels: Annotated[list[str | bool | Wide], pydantic.Field(min_length=1)]
    coding: Literal["indicator", "effect", "helmert"]

    @pydantic.model_validator(mode="after")
    def _distinct(self) -> SavedCategory:
        texts = [level_text(level) for level in self.levels]
        require(len(set(texts)) == len(texts), "a level stands twice")
        return self


class SavedPolynomial(Strict):
    """An orthogonal polynomial: see ``design.curves``."""

    kind: Literal["polynomial"]
    centre: Wide
    alpha: list[Wide]
    norm2: list[Positive]
    degree: Annotated[int, pydantic.Field(ge=1, le=1000)]

    @pydantic.model_validator(mode="after")
    def _complete(self) -> SavedPolynomial:
        require(len(self.alpha) == self.degree == len(self.norm2) - 1, "a degree is missing")
        return self


class SavedSpline(Strict):
    """A natural cubic spline: see ``design.curves``."""

    kind: Literal["spline"]
    knots: Annotated[list[Wide], pydantic.Field(min_length=2)]

    @pydantic.model_validator(mode="after")
    def _increasing(self) -> SavedSpline:
        require(all(a < b for a, b in pairwise(self.knots)), "the knots do not increase")
        return self


class SavedCentre(Strict):
    """The values that ``centred`` learnt."""

    mean: Wide


class SavedScale(Strict):
    """The values that ``standardized`` learnt."""

    mean: Wide
    sd: Positive


class SavedRanks(Strict):
    """The values that ``rank`` learnt: distinct values and their mean ranks."""

    values: Annotated[list[Wide], pydantic.Field(min_length=1)]
    ranks: list[Positive]

    @pydantic.model_validator(mode="after")
    def _increasing(self) -> SavedRanks:
        require(len(self.values) == len(self.ranks), "values and ranks differ in number")
        require(all(a < b for a, b in pairwise(self.values)), "the values do not increase")
        require(all(a < b for a, b in pairwise(self.ranks)), "the ranks do not increase")
        return self


class SavedWaves(Strict):
    """Sines and cosines of a season."""

    kind: Literal["waves"]
    period: Positive
    waves: Annotated[int, pydantic.Field(ge=1, le=1000)]


class SavedFrequent(Strict):
    """The levels that ``pooled`` keeps."""

    kept: list[str]
    pooled: bool


SavedFactor = Annotated[
    SavedNumber | SavedDate | SavedCategory | SavedPolynomial | SavedSpline | SavedWaves,
    pydantic.Field(discriminator="kind"),
]
LEARNT: dict[str, type[Strict]] = {
    "centred": SavedCentre,
    "standardized": SavedScale,
    "rank": SavedRanks,
    "pooled": SavedFrequent,
}


class SavedData(Strict):
    """The table that the fit came from, to recognise it by."""

    name: str
    fingerprint: str
    rows_left_out: Count


class SavedDesign(Strict):
    """Everything learnt from the fitted rows."""

    factors: dict[str, SavedFactor]
    functions: dict[str, SavedCentre | SavedScale | SavedRanks | SavedFrequent]
    seen: dict[str, tuple[Wide, Wide]]
    fills: dict[str, Wide]
    response_ranges: list[tuple[Wide, Wide]]
    dates: list[str]
    named: list[str]
    decimal: Literal[".", ","]
    decimal_certain: bool
    levels: list[str]
    units: dict[str, str] = {}  # of files from before units were read there are none


class SavedGroups(Strict):
    """The stand-in for the factor where hundreds of levels were swept out."""

    levels: list[Count]
    numbers: list[Count]
    of_code: list[Count]
    weights: list[Positive]
    means: list[list[Wide]]
    response: list[Wide]
    factor: list[list[Wide]]
    inverse: list[list[Wide]]
    effects: list[Wide]


class SavedSolution(Strict):
    """The estimate and its triangular factor, every digit."""

    intercept: Wide | None
    coefficients: Numbers
    kept: list[Count]
    dependence: dict[int, list[Wide]]
    centre: list[Wide]
    scale: list[Positive]
    own_factor: list[list[Wide]] | None
    own_effects: list[Wide] | None
    n: Annotated[int, pydantic.Field(ge=1, le=2**53)]
    weight_sum: Positive
    rss: Annotated[float, pydantic.Field(ge=0, le=1e306)]
    tss: Annotated[float, pydantic.Field(ge=0, le=1e306)]
    mean_response: Wide
    spans_constant: bool
    perfect: bool
    condition: Annotated[float, pydantic.Field(ge=0)] | None
    way: Literal["quick", "exact", "steady"]
    exact_inverse: list[list[Wide]] | None
    exact_root: list[list[Wide]] | None
    unit: Positive
    constant_direction: list[Cosine] | None
    groups: SavedGroups | None


class SavedSandwich(Strict):
    """The chosen covariance, in the basis of the factor."""

    kind: Literal["robust", "hc0", "hc1", "hc2", "hc3", "clustered", "autocorrelated"]
    meat: list[list[Number]]
    df: list[Annotated[float, pydantic.Field(ge=0)] | None]
    clusters: list[Count]
    cosines: Count | None
    blind: list[list[Cosine]]
    leverages: list[list[list[list[Cosine]]]]
    clipped: bool
    rows: list[list[Cosine]]
    copies: list[Annotated[float, pydantic.Field(ge=0, le=2**53)]]


class SavedEstimate(Strict):
    """Estimates beside the coefficients."""

    deviance: Wide | None
    null_deviance: Wide | None
    pearson: Wide | None
    scale: Annotated[float, pydantic.Field(ge=0, le=1e306)] | None
    known: bool
    law: bool
    log_likelihood: Wide | None
    parameters: Count
    likely_dispersion: Wide | None
    overall_drop: Wide | None
    shape: Positive | Literal["infinite"] | None
    iterations: Count | None
    converged: bool
    reason: str
    running: list[Count]
    penalty: Literal["firth"] | None
    edge: bool


class SavedOptions(Strict):
    """Options beside the sentence, as far as forecasts need them."""

    family: str
    link: str
    dispersion: Positive | Literal["estimated"] | None
    weights: str | None
    repeats: str | None
    offset: str | None
    id: str | None
    order: str | None
    std_errors: str
    cluster: list[str]
    level: Annotated[float, pydantic.Field(gt=0, lt=1)]
    labels: dict[str, str]


class SavedRows(Strict):
    """The part of the fitted rows that forecasts need: see ``study.forecast.memory``."""

    typical: dict[str, Wide | Annotated[dict[str, Share], pydantic.Field(min_length=1)]]
    farthest: Annotated[float, pydantic.Field(ge=0, le=1e306)] | None
    basis: list[list[Number]] | None
    left_out: list[Wide | None] | None
    cells: dict[str, list[list[str]]]
    spreads: list[tuple[Positive, Share]]
    few: dict[str, list[Wide]]
    offset: Wide
    columns: list[str]


class SavedNote(Strict):
    """A note for the reader."""

    kind: str
    gravity: Literal["serious", "caution", "note"]
    words: str
    about: list[str]


class SavedSeen(Strict):
    """The smallest departure that a check would have seen."""

    what: str
    size: Annotated[float, pydantic.Field(ge=0, le=1e306)]
    where: str


class SavedCheck(Strict):
    """One line of the checks as it stood when the fit was saved."""

    kind: str
    name: str
    question: str
    check: str
    statistic: Wide | None
    p: Share | None
    finding: str
    verdict: Literal["no sign", "slight", "caution", "serious", "allowed for", "not judged"]
    why: str
    would_see: SavedSeen | None
    every: Annotated[int, pydantic.Field(ge=1)] = 1


class SavedFit(Strict):
    """A whole saved fit. ``seal`` is the SHA-256 of everything else."""

    kind: Literal["joinery fit"]
    version: int
    changes: list[str]
    joinery: str
    sentence: str
    options: SavedOptions
    notes: list[SavedNote]
    data: SavedData
    design: SavedDesign
    solution: SavedSolution
    estimate: SavedEstimate
    sandwich: SavedSandwich | None
    checks: list[SavedCheck] | None
    rows: SavedRows
    seal: str
