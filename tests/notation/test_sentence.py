"""Sentences: read, printed back, and explained when they slip."""

from __future__ import annotations

import contextlib
import random
import sys
import time
from pathlib import Path

import numpy as np
import pandas as pd
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from lark.load_grammar import load_grammar
from tests.draws import draws

from joinery.data.any_table import records
from joinery.notation import parse
from joinery.notation.context import Context
from joinery.notation.evaluate import evaluate
from joinery.notation.parse import (
    read_assignments,
    read_claims,
    read_expression,
    read_sentence,
    sentence_of_parts,
)
from joinery.support.errors import JoineryError, SentenceError, UnusableColumnError


@pytest.mark.parametrize(
    ("written", "canonical"),
    [
        ("honey_kg GIVEN forage_km2,altitude_m ,", "honey_kg given forage_km2, altitude_m"),
        ("y given nothing", "y given nothing"),
        ("y given x  Without\nIntercept", "y given x without intercept"),
        ("y given all but a, \"Honey (kg)\"", 'y given all but a, "Honey (kg)"'),
        ("survived of colonies given x", "survived of colonies given x"),
        ("mites per bees given x", "mites per bees given x"),
        ("y given a*b, b × a, x^2", "y given a * b, x^2"),
        ("y given (a+b), ((a)), (a - 3)*b", "y given (a + b), a, (a - 3) * b"),
        ("y given centered(x), Standardised(z)", "y given centred(x), standardized(z)"),
        ("y given spline(x, knots=(10, -2e1 , 30)) ", None),
        ("y given spline(x, knots=(10,20,)), lag(x, 1, by=hive)", "y given spline(x, knots=(10, 20)), lag(x, 1, by=hive)"),
        ("y given category(x, reference='lo''ng', coding='effect')", "y given category(x, reference='lo''ng', coding='effect')"),
        ("(outcome = 'a') given (a >= 2 and not (b < 1 or c != 'x'))", None),
        ('"given" given "of", "a""b", 2nd_year, größe, 名前.x', '"given" given "of", "a""b", "2nd_year", größe, 名前.x'),
        ("y given (-x)^2, x^-1, x^(1/3), (--x)", "y given (-x)^2, x^-1, (x^(1 / 3)), x"),
        ("y given log((a > 3)), (1 - -x)", "y given log((a > 3)), (1 - -x)"),
    ],
)  # fmt: skip
def test_a_sentence_prints_back_to_itself(written, canonical):
    try:
        sentence = read_sentence(written)
    except SentenceError:
        assert "knots=(10, -2e1" in written
        return
    assert canonical in (None, str(sentence))
    assert read_sentence(str(sentence)) == sentence


@pytest.mark.parametrize(
    ("written", "terms"),
    [
        ("crossed(a, b)", "a, b, a * b"),
        ("crossed(a, b, c)", "a, b, c, a * b, a * c, b * c, a * b * c"),
        ("a, crossed(b, a)", "a, b, b * a"),
        ("powers(x, 3), x^2", "x, x^2, x^3"),
        ("z * powers(x, 2)", "z * x, z * x^2"),
        ("crossed(z, powers(x, 2))", "z, x, x^2, z * x, z * x^2"),
    ],
)
def test_shorthand_is_written_out_and_counts_once(written, terms):
    assert ", ".join(map(str, read_sentence(f"y given {written}").terms)) == terms


NAMES = st.sampled_from(
    ["a", "forage_km2", "Honey (kg)", "given", "x.1", "größe", 'sa"y', "t", "p", "2nd", "a=b"]
)
QUOTED = NAMES.map(lambda n: '"' + n.replace('"', '""') + '"')
NUMBERS = st.one_of(st.integers(0, 99).map(str), st.floats(0, 1e6).map(repr))
ARITHMETIC = st.recursive(
    st.one_of(QUOTED, NUMBERS),
    lambda inner: st.one_of(
        st.tuples(inner, st.sampled_from("+-*/"), inner).map(lambda t: f"({t[0]} {t[1]} {t[2]})"),
        st.tuples(st.sampled_from(["log", "sqrt", "abs", "centred", "rank"]), inner).map(
            lambda t: f"{t[0]}({t[1]})"
        ),
        st.tuples(inner, st.integers(-3, 3)).map(lambda t: f"({t[0]})^{t[1]}"),
        inner.map(lambda i: f"(-{i})"),
        st.tuples(inner, st.sampled_from(["=", "!=", "<", ">="]), inner).map(
            lambda t: f"({t[0]} {t[1]} {t[2]})"
        ),
        st.tuples(inner, st.sampled_from(["and", "or"]), inner).map(
            lambda t: f"(not ({t[0]}) {t[1]} {t[2]})"
        ),
    ),
    max_leaves=8,
)
FACTORS = st.one_of(
    QUOTED,
    ARITHMETIC.map(lambda a: f"({a} + 0)"),
    QUOTED.map(lambda n: f"category({n}, coding='helmert')"),
    QUOTED.map(lambda n: f"polynomial({n}, 2)"),
    QUOTED.map(lambda n: f"spline({n}, columns=3)"),
    QUOTED.map(lambda n: f"bands({n}, 1, 2.5)"),
)
TERMS = st.one_of(
    st.lists(FACTORS, min_size=1, max_size=3).map(" * ".join),
    st.lists(QUOTED, min_size=2, max_size=3).map(lambda n: f"crossed({', '.join(n)})"),
)
SENTENCES = st.builds(
    "{} given {}{}".format,
    st.one_of(
        QUOTED, QUOTED.map(lambda n: f"log({n})"), st.tuples(QUOTED, QUOTED).map(" per ".join)
    ),
    st.lists(TERMS, min_size=1, max_size=4).map(", ".join),
    st.sampled_from(["", " without intercept"]),
)


@given(SENTENCES)
@settings(max_examples=draws(300), deadline=None)
def test_any_sentence_reads_back_to_the_same_model(text):
    sentence = read_sentence(text)
    again = read_sentence(str(sentence))
    assert again == sentence
    assert again.terms == sentence.terms


SLIPS = [
    ("honey given a + b", "separate terms with commas, or put the sum in parentheses"),
    ("honey given a - b", "put the difference in parentheses"),
    ("honey given a / b", "put the ratio in parentheses"),
    ("honey given -a", "a term cannot begin with '-'"),
    ("honey = a", "write: honey given a"),
    ("honey", "no `given`"),
    ("", "the sentence is empty"),
    ("   ", "the sentence is empty"),
    ("given a", "the response is missing"),
    ("honey given", "terms are missing after `given`"),
    ("honey given without intercept", "terms are missing"),
    ("honey, wax given a", "one response stands before `given`"),
    ("honey given a given b", "`given` stands twice"),
    ("honey given lgo(a)", "did you mean 'log'?"),
    ("honey given frob(a)", "the functions are log"),
    ("honey given (a", "never closed"),
    ("honey given log(a", "never closed"),
    ("(honey given a", "not closed before `given`"),
    ("honey given a)", "never opened"),
    ("honey given ()", "nothing between these parentheses"),
    ('honey given "a', "this quote is never closed"),
    ("honey given (a = 'x)", "this quote is never closed"),
    ("honey given “a”", "curly quotes"),
    ("honey given a,, b", "nothing before this comma"),
    ("honey given , a", "nothing before this comma"),
    ("honey given a b", 'in double quotes: "a b"'),
    ("honey given 2 (b)", "a comma or a sign is missing"),
    ("honey given a (b)", "there is no function 'a'"),
    ("honey given 'a'", "a column is written a"),
    ("honey given 1", "the number 1 alone is not a term"),
    ("honey given a without constant", "only the intercept can be left out"),
    ("honey given a without intercept, b", "ends the sentence"),
    ("honey given of", "a word of the language"),
    ("honey given a ** 2", "a power is written x^2"),
    ("honey given (a == b)", "equal is written with one ="),
    ("honey given a > 3", "put it in parentheses"),
    ("honey given (a < b < c)", "join them: a < b and b < c"),
    ("honey given log(a > 3)", "stands in parentheses"),
    ("honey given log(a, b)", "it takes 1 argument, not 2"),
    ("honey given powers(a, 2.5)", "whole number from 1 to"),
    ("honey given spline(a, knot=3)", "there is no option 'knot'"),
    ("honey given spline(a, columns=2, columns=3)", "given twice"),
    ("honey given bands(a, 3, 2)", "each larger than the one before"),
    ("honey given category(a, coding='sum')", "coding= is one of"),
    ("honey given a * crossed(b, c)", "cannot be a factor of a product"),
    ("honey given (polynomial(a, 2) + 1)", "cannot stand inside an expression"),
    ("honey ~ a", "stands `given`"),
    ("honey given a & b", "write `and`"),
    ("honey given a:b", "a product of terms is written a * b"),
    ("honey given a^b", "cannot stand here"),
    ("honey given 1e999 * a", "too large"),
]


@pytest.mark.parametrize(("text", "said"), SLIPS)
def test_a_slip_is_shown_and_explained(text, said):
    with pytest.raises(SentenceError) as caught:
        read_sentence(text)
    message = str(caught.value)
    assert said in message
    if caught.value.position is not None:
        line, caret = message.split("\n")[2:4]
        assert line[4:] == text
        assert caret.strip() == "^"
        assert caret.index("^") - 4 <= len(text)


@pytest.mark.parametrize(
    "text",
    [
        "y given " + "(" * 201 + "a" + ")" * 201,
        "y given a" + " * a" * 5000,
        "y given " + "log(" * 300 + "a",
        "y given " + "(" * 5000,
        "y given " + "not " * 3000,
    ],
)
def test_deep_and_long_text_ends_in_a_clear_error(text):
    with pytest.raises(SentenceError):
        read_sentence(text)


def test_the_deepest_nesting_allowed_still_works():
    deep = "y given " + "(1 + " * 199 + "a" + ")" * 199
    sentence = read_sentence(deep)
    assert read_sentence(str(sentence)) == sentence
    value = evaluate(sentence.terms[0].factors[0], Context(records({"a": [1.0]})))
    assert value.tolist() == [200.0]


def test_random_text_gives_a_sentence_or_a_sentence_error():
    rng = random.Random(7)
    pieces = [
        *"abxyz019 ()*+-/^=<>!,.\"'_~%&é名\n\t\x00",
        "given ",
        " without intercept",
        "log(",
        "spline(",
        "all but ",
        "not ",
        "of ",
    ]
    slowest = 0.0
    for _ in range(8_000):
        text = "".join(rng.choices(pieces, k=rng.randint(1, 40)))
        if rng.random() < 0.5:
            text = "y given " + text
        began = time.perf_counter()
        with contextlib.suppress(SentenceError):
            read_sentence.__wrapped__(text)
        slowest = max(slowest, time.perf_counter() - began)
    assert slowest < 5  # a hang would show; the usual time is a fraction of a millisecond


def test_other_things_that_are_read():
    assert read_assignments("forage_km2 = 3, hive_type = long, \"a b\" = 'x'") == {
        "forage_km2": 3.0, "hive_type": "long", "a b": "x",
    }  # fmt: skip
    assert [c[1] for c in read_claims("a = 2 * b, c >= 0.5")] == ["=", ">="]
    assert str(sentence_of_parts("y", ["a", "log(b)"])) == "y given a, log(b)"
    assert str(sentence_of_parts("y", [])) == "y given nothing"
    for wrong in ("a = 1, a = 2", "a = (1, 2)", "a"):
        with pytest.raises(SentenceError):
            read_assignments(wrong)
    with pytest.raises(SentenceError, match="model sentences only"):
        read_expression("polynomial(a, 2)")
    with pytest.raises(SentenceError, match="must be text"):
        read_sentence(3)


TABLE = pd.DataFrame(
    {
        "a": [1.0, 2.0, np.nan, 4.0],
        "b": [3, 1, 4, 1],
        "g": ["u", "v", "u", None],
        "on": [True, False, True, True],
    }
)
A, B = TABLE["a"].to_numpy(), TABLE["b"].to_numpy(float)
nan = np.nan


@pytest.mark.parametrize(
    ("text", "expected"),
    [
        ("log(a) + 2 * b", np.log(A) + 2 * B),
        ("(a - b)^2 / b", (A - B) ** 2 / B),
        ("-a^2", -(A**2)),
        ("log2(a) - log10(b) * log1p(a)", np.log2(A) - np.log10(B) * np.log1p(A)),
        ("sqrt(b) + exp(a) + abs(a - b)", np.sqrt(B) + np.exp(A) + np.abs(A - B)),
        ("a >= 2", [0, 1, nan, 1]),
        ("g = 'u'", [1, 0, 1, nan]),
        ("g != 'u'", [0, 1, 0, nan]),
        ("b = 1 and a > 100", [0, 0, 0, 0]),
        ("b = 4 or a > 3", [0, 0, 1, 1]),
        ("not a > 3", [1, 1, nan, 0]),
        ("on", [1, 0, 1, 1]),
        ("on * b", [3, 0, 4, 1]),
        ("lag(b, 1)", [nan, 3, 1, 4]),
        ("lag(b, 1, by=g)", [nan, nan, 3, nan]),
        ("lag(b, 9)", [nan] * 4),
        ("x^0.5".replace("x", "b"), np.sqrt(B)),
    ],
)
def test_expressions_compute_what_they_say(text, expected):
    found = evaluate(read_expression(text), Context(records(TABLE)))
    assert np.allclose(found, expected, equal_nan=True)
    some = np.array([3, 0])
    assert np.allclose(
        evaluate(read_expression(text), Context(records(TABLE), some)),
        np.asarray(expected)[some],
        equal_nan=True,
    )


@pytest.mark.parametrize(
    ("text", "said"),
    [
        ("log(a - 2)", "a - 2 is zero or less in 2 rows (0, 1)"),
        ("1 / (b - 1)", "b - 1 is zero in 2 rows (1, 3)"),
        ("sqrt(a - 3)", "it has no square root"),
        ("(a - 3)^0.5", "it has no fractional power"),
        ("(b - 4)^-1", "it has no negative power"),
        ("exp(1000 * b)", "too large for a number"),
        (
            "g + 1",
            "column 'g' is text, and numbers are needed here (row 0: 'u', row 1: 'v', row 2: 'u')",
        ),
        ("'u' + 1", "text can only be compared"),
        ("g < 'v'", "text can be compared with = and != only"),
        ("centred(a)", "stands in model sentences only"),
    ],
)
def test_what_does_not_exist_is_refused_by_name(text, said):
    with pytest.raises(UnusableColumnError) as caught:
        evaluate(read_expression(text), Context(records(TABLE)))
    assert said in str(caught.value)
    assert isinstance(caught.value, JoineryError)


def test_everything_in_the_table_of_the_page_about_the_language_reads():
    import re
    from pathlib import Path

    page = (Path(__file__).parents[2] / "docs" / "notation.md").read_text("utf-8")
    rows = [
        line
        for line in page.splitlines()
        if line.startswith("| ") and "`" in line and "you write" not in line
    ]
    assert len(rows) > 15
    for row in rows:
        cell = row.split(" | ")[1]
        for piece in re.findall(r"`([^`]+)`", cell):
            if piece in ("log2", "log10", "log1p", "sqrt", "exp", "abs", "'helmert'", "'long'"):
                continue
            assert read_sentence(f"y given {piece}")


@pytest.mark.parametrize("spoilt", [None, b"", b"other tables\n", "cut"])
def test_tables_of_the_grammar_are_kept_and_made_anew_where_they_are_not_its_own(
    spoilt, tmp_path, monkeypatch
):
    monkeypatch.setattr(sys, "dont_write_bytecode", False)
    monkeypatch.setattr(sys, "pycache_prefix", str(tmp_path))
    kept = Path(parse._tables())
    kept.parent.mkdir(parents=True)

    def answers():
        parse._parser.cache_clear()
        parser = parse._parser()
        with pytest.raises(SentenceError) as slip:
            parse._read("y given (a +", "sentence")
        return parser.parse('"y z" GIVEN a*b, x^2', start="sentence"), str(slip.value)

    made = answers()
    whole = kept.read_bytes()
    if spoilt is not None:
        kept.write_bytes(whole[:-900] if spoilt == "cut" else spoilt)
    calls = []
    monkeypatch.setattr("lark.lark.load_grammar", lambda *a: calls.append(a) or load_grammar(*a))
    assert answers() == made
    assert len(calls) == (spoilt is not None)
    assert kept.read_bytes()[:64] == whole[:64]  # the stamp of grammar and versions
    parse._parser.cache_clear()


def test_a_text_of_two_words_given_bare_is_shown_its_quotes():
    with pytest.raises(SentenceError) as slip:
        read_assignments("feed_kg=2, apiary=hill farm")
    assert "a text with a space goes in single quotes: 'hill farm'" in str(slip.value)
    assert read_assignments("apiary='hill farm'") == {"apiary": "hill farm"}
