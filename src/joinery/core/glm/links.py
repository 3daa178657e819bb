"""Links: how the mean of a response depends on η (McCullagh & Nelder 1989, 2.2 and 4.3).

Each has ``eta(mu)``, ``mu(eta)``, the slope dμ/dη as ``slope(eta)``, and says for which η there is
a mean."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from scipy import special

Function = Callable[[np.ndarray], np.ndarray]
BIG = 700.0


@dataclass(frozen=True)
class Link:
    """A link by its functions; ``domain`` holds the open interval of η that has a mean."""

    name: str
    eta: Function
    mu: Function
    slope: Function
    bend: Function  # d log|dμ/dη|/dη
    domain: tuple[float, float] = (-np.inf, np.inf)

    def __reduce__(self) -> tuple[Callable[[str], Link], tuple[str]]:
        return link_named, (self.name,)  # its functions do not go to another process


def link_named(name: str) -> Link:
    """Return a link by its name."""
    return LINKS[name]


def _cloglog_mu(eta: np.ndarray) -> np.ndarray:
    return np.asarray(-np.expm1(-np.exp(np.minimum(eta, BIG))))


def _exp(eta: np.ndarray) -> np.ndarray:
    return np.asarray(np.exp(np.clip(eta, -BIG, BIG)))


def _logit_slope(eta: np.ndarray) -> np.ndarray:
    e = np.exp(-np.abs(eta))
    return np.asarray(e / (1 + e) ** 2)


LINKS = {
    link.name: link
    for link in (
        Link("identity", lambda m: m, lambda e: e, np.ones_like, np.zeros_like),
        Link("log", np.log, _exp, _exp, np.ones_like),
        Link("logit", special.logit, special.expit, _logit_slope, lambda e: -np.tanh(e / 2)),
        Link(
            "probit",
            special.ndtri,
            special.ndtr,
            lambda e: np.exp(-(e**2) / 2) / np.sqrt(2 * np.pi),
            np.negative,
        ),
        Link(
            "cloglog",
            lambda m: np.log(-np.log1p(-m)),
            _cloglog_mu,
            lambda e: np.exp(np.minimum(e, BIG) - np.exp(np.minimum(e, BIG))),
            lambda e: 1 - _exp(e),
        ),
        Link(
            "cauchit",
            lambda m: np.tan(np.pi * (m - 0.5)),
            # near the ends the arc tangent is taken from its far side, so that no digit is lost
            lambda e: np.where(
                e < -1, np.arctan(-1 / np.minimum(e, -1.0)) / np.pi, 0.5 + np.arctan(e) / np.pi
            ),
            lambda e: 1 / (np.pi * (1 + e * e)),
            lambda e: -2 * e / (1 + e * e),
        ),
        Link(
            "inverse",
            lambda m: 1 / m,
            lambda e: 1 / e,
            lambda e: -1 / (e * e),
            lambda e: -2 / e,
            (0.0, np.inf),
        ),
        Link(
            "inverse-square",
            lambda m: 1 / (m * m),
            lambda e: 1 / np.sqrt(e),
            lambda e: -0.5 / (e * np.sqrt(e)),
            lambda e: -1.5 / e,
            (0.0, np.inf),
        ),
        Link("sqrt", np.sqrt, np.square, lambda e: 2 * e, lambda e: 1 / e, (0.0, np.inf)),
    )
}


def beyond(link: Link, eta: np.ndarray) -> np.ndarray:
    """1 − μ for links of probabilities, without losing its digits where μ is near one."""
    if link.name in ("logit", "probit", "cauchit"):
        return link.mu(-eta)  # these are symmetric
    if link.name == "cloglog":
        return np.asarray(np.exp(-np.exp(np.minimum(eta, BIG))))
    return np.asarray(1 - link.mu(eta))


def shares(link: Link, eta: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """μ and 1 − μ for links of probabilities, both with all their digits."""
    if link.name != "logit":
        return link.mu(eta), beyond(link, eta)
    # one of the two exponentials is 1: picking them by sign would take longer than both
    mu, rest = np.exp(np.minimum(eta, 0.0)), np.exp(np.minimum(-eta, 0.0))
    full = mu * rest
    full += 1
    mu /= full
    rest /= full
    return mu, rest
