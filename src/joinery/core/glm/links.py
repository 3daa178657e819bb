"""Links: how the mean of a response depends on η (McCullagh & Nelder 1989, 2.2 and 4.3).

A link is one entry of ``LINKS``, whole: whatever is asked about a link is answered by its fields,
and nothing asks for one by name."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np
from scipy import special

Function = Callable[[np.ndarray], np.ndarray]
# a formula: "eta", a number, or the name of a function or sign with its arguments
Tree = str | float | tuple[Any, ...]

BIG = 700.0  # exp of more would overflow


@dataclass(frozen=True)
class Link:
    """A link, complete."""

    name: str
    eta: Function  # η of μ
    mu: Function  # μ of η
    slope: Function  # dμ/dη
    bend: Function  # d log|dμ/dη|/dη
    formula: Tree  # μ of η, to be written in any language
    domain: tuple[float, float] = (-np.inf, np.inf)  # the open interval of η that has a mean
    ratio: str = ""  # what exp of a coefficient is a ratio of: "odds", "hazard", "mean"
    complement: Function | None = None  # 1 − μ with all its digits, where μ may be near one
    # μ and 1 − μ together, where that takes less time than one after the other
    both: Callable[[np.ndarray], tuple[np.ndarray, np.ndarray]] | None = None

    def __reduce__(self) -> tuple[Callable[[str], Link], tuple[str]]:
        return link_named, (self.name,)  # its functions do not go to another process


def link_named(name: str) -> Link:
    """Return a link by its name."""
    return LINKS[name]


def beyond(link: Link, eta: np.ndarray) -> np.ndarray:
    """Return 1 − μ for links of probabilities, with its digits where μ is near one."""
    if link.complement is not None:
        return link.complement(eta)
    return np.asarray(1 - link.mu(eta))


def shares(link: Link, eta: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Return μ and 1 − μ for links of probabilities, both with all their digits."""
    if link.both is not None:
        return link.both(eta)
    return link.mu(eta), beyond(link, eta)


# ------------------------------------------------------------------ identity and logarithm


def _same(values: np.ndarray) -> np.ndarray:
    return values


def _exp(eta: np.ndarray) -> np.ndarray:
    return np.asarray(np.exp(np.clip(eta, -BIG, BIG)))


IDENTITY = Link(
    name="identity",
    eta=_same,
    mu=_same,
    slope=np.ones_like,
    bend=np.zeros_like,
    formula="eta",
)
LOG = Link(
    name="log",
    eta=np.log,
    mu=_exp,
    slope=_exp,
    bend=np.ones_like,
    formula=("exp", "eta"),
    ratio="mean",
)


# ------------------------------------------------------------------ probabilities


def _logit_slope(eta: np.ndarray) -> np.ndarray:
    e = np.exp(-np.abs(eta))
    return np.asarray(e / (1 + e) ** 2)


def _logit_bend(eta: np.ndarray) -> np.ndarray:
    return np.asarray(-np.tanh(eta / 2))


def _logit_complement(eta: np.ndarray) -> np.ndarray:
    return np.asarray(special.expit(-eta))


def _logit_both(eta: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    # one of the two exponentials is 1: picking them by sign would take longer than both
    mu, rest = np.exp(np.minimum(eta, 0.0)), np.exp(np.minimum(-eta, 0.0))
    full = mu * rest
    full += 1
    mu /= full
    rest /= full
    return mu, rest


LOGIT = Link(
    name="logit",
    eta=special.logit,
    mu=special.expit,
    slope=_logit_slope,
    bend=_logit_bend,
    formula=("/", 1.0, ("+", 1.0, ("exp", ("negate", "eta")))),
    ratio="odds",
    complement=_logit_complement,
    both=_logit_both,
)


def _normal_density(eta: np.ndarray) -> np.ndarray:
    return np.asarray(np.exp(-(eta**2) / 2) / np.sqrt(2 * np.pi))


def _probit_complement(eta: np.ndarray) -> np.ndarray:
    return np.asarray(special.ndtr(-eta))


PROBIT = Link(
    name="probit",
    eta=special.ndtri,
    mu=special.ndtr,
    slope=_normal_density,
    bend=np.negative,
    formula=("normal", "eta"),
    complement=_probit_complement,
)


def _cloglog_eta(mu: np.ndarray) -> np.ndarray:
    return np.asarray(np.log(-np.log1p(-mu)))


def _cloglog_mu(eta: np.ndarray) -> np.ndarray:
    return np.asarray(-np.expm1(-np.exp(np.minimum(eta, BIG))))


def _cloglog_slope(eta: np.ndarray) -> np.ndarray:
    low = np.minimum(eta, BIG)
    return np.asarray(np.exp(low - np.exp(low)))


def _cloglog_bend(eta: np.ndarray) -> np.ndarray:
    return np.asarray(1 - _exp(eta))


def _cloglog_complement(eta: np.ndarray) -> np.ndarray:
    return np.asarray(np.exp(-np.exp(np.minimum(eta, BIG))))


CLOGLOG = Link(
    name="cloglog",
    eta=_cloglog_eta,
    mu=_cloglog_mu,
    slope=_cloglog_slope,
    bend=_cloglog_bend,
    formula=("negate", ("expm1", ("negate", ("exp", "eta")))),
    ratio="hazard",
    complement=_cloglog_complement,
)


def _cauchit_eta(mu: np.ndarray) -> np.ndarray:
    return np.asarray(np.tan(np.pi * (mu - 0.5)))


def _cauchit_mu(eta: np.ndarray) -> np.ndarray:
    # near the lower end the arc tangent is taken from its far side, so that no digit is lost
    low = np.arctan(-1 / np.minimum(eta, -1.0)) / np.pi
    return np.asarray(np.where(eta < -1, low, 0.5 + np.arctan(eta) / np.pi))


def _cauchit_slope(eta: np.ndarray) -> np.ndarray:
    return np.asarray(1 / (np.pi * (1 + eta * eta)))


def _cauchit_bend(eta: np.ndarray) -> np.ndarray:
    return np.asarray(-2 * eta / (1 + eta * eta))


def _cauchit_complement(eta: np.ndarray) -> np.ndarray:
    return _cauchit_mu(-eta)


CAUCHIT = Link(
    name="cauchit",
    eta=_cauchit_eta,
    mu=_cauchit_mu,
    slope=_cauchit_slope,
    bend=_cauchit_bend,
    formula=("+", 0.5, ("/", ("atan", "eta"), np.pi)),
    complement=_cauchit_complement,
)


# ------------------------------------------------------------------ powers


def _inverse(values: np.ndarray) -> np.ndarray:
    return np.asarray(1 / values)


def _inverse_slope(eta: np.ndarray) -> np.ndarray:
    return np.asarray(-1 / (eta * eta))


def _inverse_bend(eta: np.ndarray) -> np.ndarray:
    return np.asarray(-2 / eta)


INVERSE = Link(
    name="inverse",
    eta=_inverse,
    mu=_inverse,
    slope=_inverse_slope,
    bend=_inverse_bend,
    formula=("/", 1.0, "eta"),
    domain=(0.0, np.inf),
)


def _inverse_square_eta(mu: np.ndarray) -> np.ndarray:
    return np.asarray(1 / (mu * mu))


def _inverse_square_mu(eta: np.ndarray) -> np.ndarray:
    return np.asarray(1 / np.sqrt(eta))


def _inverse_square_slope(eta: np.ndarray) -> np.ndarray:
    return np.asarray(-0.5 / (eta * np.sqrt(eta)))


def _inverse_square_bend(eta: np.ndarray) -> np.ndarray:
    return np.asarray(-1.5 / eta)


INVERSE_SQUARE = Link(
    name="inverse-square",
    eta=_inverse_square_eta,
    mu=_inverse_square_mu,
    slope=_inverse_square_slope,
    bend=_inverse_square_bend,
    formula=("/", 1.0, ("sqrt", "eta")),
    domain=(0.0, np.inf),
)


def _sqrt_slope(eta: np.ndarray) -> np.ndarray:
    return np.asarray(2 * eta)


SQRT = Link(
    name="sqrt",
    eta=np.sqrt,
    mu=np.square,
    slope=_sqrt_slope,
    bend=_inverse,
    formula=("^", "eta", 2.0),
    domain=(0.0, np.inf),
)

LINKS = {
    link.name: link
    for link in (
        IDENTITY,
        LOG,
        LOGIT,
        PROBIT,
        CLOGLOG,
        CAUCHIT,
        INVERSE,
        INVERSE_SQUARE,
        SQRT,
    )
}
