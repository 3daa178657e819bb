"""Design matrices: the space a sentence spans, the columns' names, and the same columns for new rows."""

from __future__ import annotations

from itertools import combinations, product

import mpmath
import numpy as np
import pandas as pd
import pytest

import joinery as jn
from joinery.core.blocks.columns import dense
from joinery.data.any_table import records
from joinery.design.design import learn
from joinery.notation.context import EVERY_ROW
from joinery.notation.parse import read_sentence

RNG = np.random.default_rng(11)
CELLS = pd.DataFrame(list(product("uvw", "kl", ["p", "q"])) * 6, columns=["a", "b", "c"])
TABLE = CELLS.assign(
    x=RNG.normal(size=72),
    z=RNG.uniform(1, 9, 72),
    y=RNG.normal(size=72),
    n=RNG.integers(1, 5, 72),
    flag=RNG.random(72) < 0.5,
)


def design(terms: str, table=TABLE):
    table = records(table)
    made = learn(read_sentence(f"y given {terms}"), table, EVERY_ROW)
    X = made.matrix(made.context(table, EVERY_ROW))
    return made, np.column_stack([np.ones(len(X)), X]) if made.intercept else X


def spans(terms, intercept):
    """A basis of the space that terms span when every product is written out over full sets of indicators."""
    full = {name: pd.get_dummies(TABLE[name]).to_numpy(float) for name in "abc"} | {
        "x": TABLE[["x"]].to_numpy()
    }
    parts = [np.ones((72, 1))] if intercept else []
    for term in terms:
        part = np.ones((72, 1))
        for name in term:
            part = (part[:, :, None] * full[name][:, None, :]).reshape(72, -1)
        parts.append(part)
    return np.hstack(parts)


TERMS = ["a", "b", "c", "x", "ab", "ac", "ax", "abc", "abx"]


@pytest.mark.sampled(5)
@pytest.mark.parametrize("coding", ["indicator", "effect", "helmert"])
@pytest.mark.parametrize("intercept", [True, False])
def test_every_choice_of_products_spans_its_space_without_a_column_too_many(coding, intercept):
    def written(name):
        return (
            name if coding == "indicator" or name == "x" else f"category({name}, coding='{coding}')"
        )

    for size in (1, 2, 3):
        for chosen in combinations(TERMS, size):
            text = ", ".join(" * ".join(written(n) for n in term) for term in chosen)
            made, X = design(text + ("" if intercept else " without intercept"))
            space = spans(chosen, intercept)
            rank = np.linalg.matrix_rank(space)
            assert X.shape[1] == rank, text
            assert (
                np.linalg.matrix_rank(np.hstack([X, space])) == np.linalg.matrix_rank(X) == rank
            ), text
            assert len(set(made.names)) == len(made.names)


@pytest.mark.parametrize(
    ("terms", "names"),
    [
        ("a, x", "a: v|a: w|x"),
        ("x^2, log(z), (x + z), x * z", "x^2|log(z)|(x + z)|x × z"),
        ("a, b, a * b", "a: v|a: w|b: l|a: v × b: l|a: w × b: l"),
        ("a * b", "a: u × b: l|a: v × b: k|a: v × b: l|a: w × b: k|a: w × b: l"),
        ("x * a", "x × a: u|x × a: v|x × a: w"),
        ("x, x * a", "x|x × a: v|x × a: w"),
        ("a without intercept", "a: u|a: v|a: w"),
        ("flag", "flag: True"),
        ("category(n, reference=3)", "n: 1|n: 2|n: 4"),
        ("bands(z, 3, 6)", "bands(z, 3, 6): 3 to under 6|bands(z, 3, 6): 6 and over"),
        ("polynomial(x, 2)", "polynomial(x, 2): degree 1|polynomial(x, 2): degree 2"),
        ("spline(x, columns=2)", "spline(x, columns=2): piece 1|spline(x, columns=2): piece 2"),
        ("centred(x) * standardized(z)", "centred(x) × standardized(z)"),
    ],
)
def test_columns_have_readable_names(terms, names):
    found = design(terms)[0].names
    assert set(found) == set(names.split("|"))
    if "reference" not in terms:
        assert "|".join(sorted(found)) == "|".join(sorted(names.split("|")))


def test_codings_are_what_they_say():
    means = TABLE.groupby("a")["y"].mean()
    effect = jn.fit(TABLE, "y given category(a, coding='effect')").coefficients()["estimate"]
    assert np.allclose(effect, [means.mean(), means["v"] - means.mean(), means["w"] - means.mean()])
    helmert = jn.fit(TABLE, "y given category(a, coding='helmert')").coefficients()["estimate"]
    assert np.allclose(
        helmert, [means.mean(), means["v"] - means["u"], means["w"] - (means["u"] + means["v"]) / 2]
    )
    indicator = (
        jn.fit(TABLE, "y given category(a, reference='w')")
        .coefficients()
        .frame.set_index("term")["estimate"]
    )
    assert np.isclose(indicator["a: u"], means["u"] - means["w"])


def test_an_orthogonal_polynomial_is_one_and_spans_the_powers():
    _, P = design("polynomial(z, 4)")
    assert np.allclose(P[:, 1:].T @ P[:, 1:], np.eye(4), atol=1e-10)
    a = jn.fit(TABLE, "y given polynomial(z, 4)")
    b = jn.fit(TABLE, "y given powers(z, 4)")
    assert np.allclose(a.rows()["fitted"], b.rows()["fitted"])
    assert list(b.coefficients()["term"]) == ["intercept", "z", "z^2", "z^3", "z^4"]


def test_a_spline_is_smooth_and_straight_beyond_its_knots():
    made, _ = design("spline(z, knots=(3, 5, 7))")
    knots = made.factor_memory["spline(z, knots=(3, 5, 7))"]["knots"]
    assert knots == [TABLE["z"].min(), 3, 5, 7, TABLE["z"].max()]

    def curve(z):
        new = records({"z": z})
        return made.matrix(made.context(new, EVERY_ROW))

    outside = curve(np.array([-3.0, -2.0, -1.0, 20.0, 21.0, 22.0]))
    assert np.allclose(outside[0] + outside[2], 2 * outside[1])
    assert np.allclose(outside[3] + outside[5], 2 * outside[4])
    h = 1e-4
    for knot in knots:
        near = curve(np.array([knot - 2 * h, knot - h, knot, knot + h, knot + 2 * h]))
        second = [(near[i] - 2 * near[i + 1] + near[i + 2]) / h**2 for i in (0, 2)]
        assert np.allclose(second[0], second[1], atol=1e-2)
    assert np.allclose(curve(np.array(knots))[1:], np.eye(4), atol=1e-12)
    assert np.allclose(second[1], 0, atol=1e-2)


@pytest.mark.parametrize(
    "terms",
    [
        "standardized(x) * a, centred(log(z)), rank(z)",
        "polynomial(z, 3), spline(x, columns=3), bands(z, 3, 6) * b",
        "category(n, coding='helmert'), crossed(a, b), flag",
    ],
)
def test_new_rows_meet_the_same_columns(terms):
    made, X = design(terms)
    some = TABLE.iloc[[5, 40, 3, 71]].sample(frac=1, random_state=1)
    new = records(some.reset_index(drop=True))
    again = made.matrix(made.context(new, EVERY_ROW))
    assert np.allclose(again, X[some.index, 1:], atol=1e-12)
    in_parts = np.vstack(
        [made.matrix(made.context(records(TABLE), np.arange(i, i + 9))) for i in range(0, 72, 9)]
    )
    assert np.array_equal(in_parts, X[:, 1:])


def test_what_is_learnt_comes_from_the_rows_used():
    table = TABLE.assign(big=np.where(np.arange(72) == 0, 1e6, TABLE["z"]))
    fit = jn.fit(table, "y given centred(big), rank(z)", leave_out=[0])
    assert np.isclose(
        fit._fitted.design.function_memory["centred(big)"]["mean"], TABLE["z"][1:].mean()
    )
    new = records({"big": [0.0], "z": [(TABLE["z"].nsmallest(2)).mean()]})
    row = fit._fitted.design.matrix(fit._fitted.design.context(new, EVERY_ROW))
    assert 1 <= row[0, 1] <= 3


def test_levels_keep_their_order_and_drop_what_is_unused():
    ordered = pd.Categorical(["m", "l", "m", "h", "l", "h"], categories=["x", "l", "m", "h"])
    assert design("g", pd.DataFrame({"g": ordered, "y": range(6)}))[0].names == ("g: m", "g: h")
    numbers = pd.DataFrame({"g": [10, 9, 100, 9, 10, 100], "y": range(6)})
    assert design("category(g)", numbers)[0].names == ("g: 10", "g: 100")
    odd = pd.DataFrame({"g": ["a, b", 'q"x', "é ü", "a, b"], "y": range(4)})
    assert design("g", odd)[0].names == ('g: q"x', "g: é ü")


def test_dates_count_days_and_say_so():
    days = pd.DataFrame(
        {"d": pd.to_datetime(["2026-03-05", "2026-03-01", "2026-03-11"]), "y": [1.0, 2.0, 4.0]}
    )
    made, X = design("d", days)
    assert made.names == ("d (days since 2026-03-01)",)
    assert X[:, 1].tolist() == [4, 0, 10]


def test_many_levels_work():
    n, levels = 6000, 1500
    g = np.arange(n) % levels
    y = np.random.default_rng(0).normal(size=n)
    fit = jn.fit(pd.DataFrame({"g": [f"L{i:04d}" for i in g], "y": y}), "y given g")
    means = pd.Series(y).groupby(g).mean()
    found = fit.coefficients()["estimate"].to_numpy()
    assert np.allclose(found[0] + np.append(0, found[1:]), means, atol=1e-9)


ODD_NAMES = [
    "t",
    "p",
    "a=b",
    "given",
    "Honey (kg)",
    'say "so"',
    "x: y",
    "größe",
    "名前",
    "estimate",
    "a × b",
    "1st",
    " pad ",
]


@pytest.mark.parametrize("name", ODD_NAMES)
def test_columns_of_any_name_work_from_end_to_end(name, tmp_path):
    quoted = '"' + name.replace('"', '""') + '"'
    table = TABLE.assign(**{name: TABLE["z"]})
    fit = jn.fit(table, f"y given {quoted}, log({quoted}) * a")
    assert jn.fit(table, fit.sentence).sentence == fit.sentence
    assert fit.coefficients()["term"].tolist()[1] == name
    again = jn.load(fit.save(tmp_path / "odd.json"))
    assert again.forecast(table.head(3))["fitted"].equals(fit.forecast(table.head(3))["fitted"])
    for text in (str(fit), fit.rows().render("html"), fit.equation("sql"), fit.equation("latex")):
        assert text


@pytest.mark.parametrize(
    "index",
    [
        pd.MultiIndex.from_tuples([(i // 10, i) for i in range(72)], names=["site", "hive"]),
        pd.date_range("2026-01-01", periods=72),
        pd.Index([f"r{i % 9}" for i in range(72)]),
        pd.Index(np.linspace(0, 1, 72)),
    ],
)
def test_rows_of_any_index_keep_their_labels(index):
    fit = jn.fit(TABLE.set_index(index), "y given x, a", leave_out=[index[3]])
    rows = fit.rows().frame
    assert len(rows) == 72
    assert fit.n_rows == (71 if index.is_unique else 64)
    assert list(rows.index[:3]) == list(index[:3])
    assert str(fit.rows())


def test_the_factors_memory_is_plain_json():
    import json

    made, _ = design(
        "standardized(x) * a, polynomial(z, 2), spline(z), bands(z, 3), category(n, coding='effect'), rank(x), flag"
    )
    for memory in (made.factor_memory, made.function_memory, made.seen):
        assert json.loads(json.dumps(memory)) == json.loads(
            json.dumps(json.loads(json.dumps(memory)))
        )


@pytest.mark.parametrize(
    ("terms", "powers"),
    [
        ("powers(x, 10)", [(k, 0, 1) for k in range(1, 11)]),
        ("x, z, x * z, x^3 * z^2", [(1, 0, 1), (0, 1, 1), (1, 1, 1), (3, 2, 1)]),
        ("powers(x, 8), g * x^2", [*((k, 0, 1) for k in range(1, 9)), (2, 0, "g")]),
    ],
)
@pytest.mark.parametrize("weights", [None, "w"])
def test_powers_and_products_are_not_rounded_before_they_are_solved(
    terms, powers, weights, exact, correct_digits
):
    rng = np.random.default_rng(77)
    x = np.linspace(-9.1, -3.3, 80)
    table = {
        "x": x,
        "z": x + rng.normal(0, 0.01, 80),
        "g": np.where(rng.random(80) < 0.5, "a", "b"),
    }
    table |= {"y": np.exp(x / 4) + 1e-3 * rng.normal(size=80), "w": rng.uniform(0.5, 2, 80)}
    found = jn.fit(table, f"y given {terms}", weights=weights).coefficients()
    mp = mpmath.mpf
    A = [
        [mp(1), *(mp(a) ** i * mp(b) ** j * (k if k == 1 else g == "b") for i, j, k in powers)]
        for a, b, g in zip(table["x"], table["z"], table["g"], strict=True)
    ]
    truth = exact(A, table["y"], None if weights is None else table["w"])
    assert len(found["term"]) == len(truth.b)
    assert correct_digits(found["estimate"], truth.b) > 14
    assert correct_digits(found["standard_error"], truth.se) > 10


WIDE = pd.DataFrame(np.asfortranarray(RNG.normal(size=(50, 4))), columns=list("abcy")).assign(
    g=RNG.choice(list("uvwxz"), 50), n=np.arange(50)
)


@pytest.mark.parametrize(
    ("terms", "table", "as_it_stands"),
    [
        ("a, b, c", WIDE, True),
        ("a, c", WIDE, True),
        ("a, b, c, g", WIDE, True),
        ("c, b", WIDE, False),  # the other way round
        ("a, b", WIDE.assign(b=WIDE["b"] * 2), False),  # not in the same memory
        ("b, a", WIDE.assign(b=WIDE["b"] * 2), False),
        ("a, b, n", WIDE, False),  # not doubles
        ("a, b, log(c + 9)", WIDE, False),
        ("a", WIDE, False),
    ],
)
def test_columns_that_stand_side_by_side_are_not_copied(terms, table, as_it_stands):
    table = records(table)
    made = learn(read_sentence(f"y given {terms}"), table, EVERY_ROW)
    context = made.context(table, EVERY_ROW)
    for rows in (slice(3, 40), slice(40, 50), np.arange(3, 40, 2)):
        here, room = context.at(rows), np.empty((50, made.width), order="F")
        X = made.columns(here, room)
        numbers = X if isinstance(X, np.ndarray) else X.numbers
        shared = np.shares_memory(numbers, table.column(terms.split(",")[0]).numbers(EVERY_ROW))
        assert shared == (as_it_stands and isinstance(rows, slice)) == (not numbers.flags.writeable)
        assert np.array_equal(dense(X), made.matrix(here))
