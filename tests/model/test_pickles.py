"""Every public object and error goes to another process and comes back."""

from __future__ import annotations

import multiprocessing
import pickle

import pytest

import joinery as jn

YIELDS = jn.sample_data("yields")
FITS = {
    "plain": ("honey_kg given log(forage_km2), hive_type, spline(feed_kg, columns=3)", {}),
    "robust": ("honey_kg given forage_km2", {"std_errors": "robust"}),
    "transformed": ("log(honey_kg) given centred(forage_km2)", {}),
    "logit": ("swarmed given feed_kg", {}),
    "probit": ("swarmed given feed_kg", {"link": "probit"}),
    "gamma": ("honey_kg given feed_kg", {"family": "gamma", "link": "log"}),
    "counts": ("rain_days given feed_kg", {"family": "negative-binomial"}),
}


@pytest.mark.parametrize("name", FITS)
@pytest.mark.parametrize("used", [False, True])
def test_a_fit_comes_back_the_same(name, used):
    sentence, options = FITS[name]
    fit = jn.fit(YIELDS, sentence, **options)
    before = str(fit) if used else None  # what it has worked out stays behind
    again = pickle.loads(pickle.dumps(fit))
    assert again.coefficients().render("csv") == fit.coefficients().render("csv")
    assert before in (None, str(again))
    assert again.forecast(YIELDS.head(3)).render("csv") == fit.forecast(YIELDS.head(3)).render(
        "csv"
    )
    assert again.revise(add="queen_age").n_rows == fit.revise(add="queen_age").n_rows


def refused(*arguments, **options):
    with pytest.raises(jn.JoineryError) as caught:
        jn.fit(*arguments, **options)
    return caught.value


ERRORS = {
    "UnknownColumnError": lambda: refused(YIELDS, "honey_kg given forge_km2"),
    "UnequalLengthsError": lambda: refused({"x": [1, 2], "y": [1]}, "y given x"),
    "MissingCellsError": lambda: refused(YIELDS, "honey_kg given forage_km2", missing="refuse"),
    "SentenceError": lambda: refused(YIELDS, "honey_kg givn x"),
    "CallError": lambda: refused(YIELDS, "honey_kg given feed_kg", family="x"),
    "UnusableColumnError": lambda: refused(YIELDS, "hive_type given feed_kg"),
    "NothingEstimableError": lambda: refused({"x": [1, 1], "y": [1, 1]}, "y given x without intercept"),
}  # fmt: skip


@pytest.mark.parametrize("name", ERRORS)
def test_an_error_comes_back_with_its_words_and_parts(name):
    error = ERRORS[name]() if name != "NothingEstimableError" else jn.NothingEstimableError("none")
    again = pickle.loads(pickle.dumps(error))
    assert type(again) is type(error)
    assert type(error).__name__ == name
    assert (str(again), vars(again)) == (str(error), vars(error))


def fitted(sentence):
    return jn.fit("sample:jars", sentence)


def test_a_pool_of_processes_hands_out_fits_and_errors():
    with multiprocessing.get_context("spawn").Pool(1) as pool:
        fit, slip = (
            pool.apply_async(fitted, [sentence])
            for sentence in ("jars_sold given hours_open", "jars_sold given hours")
        )
        assert fit.get(120).r_squared == fitted("jars_sold given hours_open").r_squared
        with pytest.raises(jn.UnknownColumnError, match="did you mean 'hours_open'"):
            slip.get(120)


@pytest.mark.parametrize(
    "make",
    [
        lambda: fitted("jars_sold given hours_open").rows(),
        lambda: fitted("jars_sold given hours_open").workings(),
        lambda: jn.look("sample:jars"),
        lambda: jn.stepwise(YIELDS, "honey_kg given forage_km2, feed_kg", criterion="bic").steps,
        lambda: jn.rehearse("y given x", {"x": 1}, 9, times=5, seed=1).coefficients,
    ],
)
def test_what_questions_answer_comes_back(make):
    thing = make()
    assert str(pickle.loads(pickle.dumps(thing))) == str(thing)
