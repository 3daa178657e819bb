"""Saved fits that were changed: refused when loaded, never a crash or a silent gap when used."""

from __future__ import annotations

import copy
import json
import random
import warnings

import numpy as np
import pandas as pd
import pytest

import joinery as jn
from joinery.hand_over.short_page import short_page
from joinery.model.save import seal_of

R = np.random.default_rng(0)
N = 40
TABLE = pd.DataFrame(
    {
        "x": R.uniform(1, 9, N), "z": R.uniform(1, 3, N), "g": R.choice(list("abc"), N), "h": R.choice(["u", "v"], N),
        "y": R.normal(5, 1, N) ** 2, "c": R.poisson(3, N), "s": R.binomial(5, 0.5, N), "m": 5,
        "d": pd.date_range("2024-01-01", periods=N), "w": R.uniform(1, 2, N), "k": R.integers(0, 8, N),
    }
)  # fmt: skip
FITS = (
    ("log(y) given x, spline(z, columns=3), g * h, g, h", {"weights": "w"}),
    ("c given polynomial(x, 2), rank(z), d", {"family": "negative-binomial"}),
    ("s of m given x, centred(z), g, bands(x, 4, 7)", {"std_errors": "robust"}),
    ("y given x, z, g", {"std_errors": "clustered", "cluster": "k"}),
    ("y given standardized(x), z^2 without intercept", {"family": "gamma", "link": "log"}),
)
NEW = TABLE.head(3).drop(columns=["y", "c", "s"])
VALUES = (
    None,
    0,
    1,
    -1,
    2.5,
    1e308,
    -1e308,
    1e-320,
    "",
    "x",
    "1",
    [],
    {},
    [1],
    [[1]],
    True,
    10**20,
    "infinite",
    {"a": 1},
)
MUTATIONS = 160  # thousands of others ran when the checks were written


@pytest.fixture(scope="module")
def saved(tmp_path_factory):
    """Each fit's file as an object, and what it forecasts."""
    folder, out = tmp_path_factory.mktemp("saved"), []
    for place, (model, options) in enumerate(FITS):
        fit = jn.fit(TABLE, model, **options)
        out.append(
            (json.loads(fit.save(folder / f"{place}.json").read_text()), fit.forecast(NEW).frame)
        )
    return out


def resealed(content, path):
    content.pop("seal", None)
    path.write_text(json.dumps(content | {"seal": seal_of(content)}))
    return path


def places(part, path=()):
    items = (
        part.items()
        if isinstance(part, dict)
        else enumerate(part[:4])
        if isinstance(part, list)
        else ()
    )
    return [path, *(p for key, value in items for p in places(value, (*path, key)))]


def test_no_changed_field_does_harm(saved, tmp_path):
    rng = random.Random(7)
    known = [[p for p in places(content) if p] for content, _ in saved]
    refused = 0
    for _ in range(MUTATIONS):
        i = rng.randrange(len(saved))
        content, path = copy.deepcopy(saved[i][0]), rng.choice(known[i])
        holder = content
        for key in path[:-1]:
            holder = holder[key]
        if rng.random() < 0.15:
            del holder[path[-1]]
        else:
            holder[path[-1]] = rng.choice(VALUES)
        with warnings.catch_warnings():
            warnings.simplefilter("ignore", jn.JoineryWarning)
            try:
                fit = jn.load(resealed(content, tmp_path / "m.json"))
            except jn.FileFormatError:
                refused += 1
                continue
            try:
                ahead = fit.forecast(NEW).frame
                _ = str(fit), fit.coefficients(), fit.overall(), fit.equation()
            except jn.JoineryError:
                continue  # a model that is whole, but of other columns or levels
        before = saved[i][1]
        lost = [
            c
            for c in before.select_dtypes("number")
            if ahead[c].isna().any() > before[c].isna().any()
        ]
        assert not lost or (ahead["note"] != "").all(), (path, lost)
    assert refused > MUTATIONS / 2


@pytest.mark.parametrize(
    ("change", "said"),
    [
        (lambda c: c["options"].update(level=0.0), "options.level"),
        (lambda c: c["solution"].update(rss=-1.0), "solution.rss"),
        (lambda c: c["solution"].update(unit=0.0), "solution.unit"),
        (lambda c: c["design"]["factors"]["spline(z, columns=3)"].update(knots=["a", "b"]), "knots"),
        (lambda c: c["design"]["factors"]["spline(z, columns=3)"].update(knots=[3.0, 1.0]), "the knots do not increase"),
        (lambda c: c["design"]["factors"]["g"].update(levels=["a", "a", "b"]), "a level stands twice"),
        (lambda c: c["design"]["factors"].pop("x"), "other factors than the sentence has"),
        (lambda c: c["solution"].update(kept=[0, 0]), "its parts do not fit together"),
        (lambda c: c.update(version=0), "it has version 0"),
        (lambda c: c.update(version=-1), "it has version -1"),
    ],
)  # fmt: skip
def test_what_is_said_of_a_changed_file(saved, tmp_path, change, said):
    content = copy.deepcopy(saved[0][0])
    change(content)
    with pytest.raises(jn.FileFormatError) as caught:
        jn.load(resealed(content, tmp_path / "m.json"))
    assert said in str(caught.value)


@pytest.mark.parametrize(
    ("text", "said"),
    [
        ('{"kind": "joinery fit", "kind": "joinery fit"}', "'kind' stands twice in it"),
        ('{"kind": ' + "1" * 5000 + "}", "a number too long"),
        ('{"kind": ', "it is not JSON text (line 1, column 10)"),
        ("[" * 100_000, "nested too deeply"),
    ],
)
def test_what_is_no_saved_fit(tmp_path, text, said):
    (tmp_path / "m.json").write_text(text)
    with pytest.raises(jn.FileFormatError) as caught:
        jn.load(tmp_path / "m.json")
    assert said in str(caught.value)


@pytest.mark.parametrize(
    ("model", "options"),
    [
        ("honey_kg given forage_km2, altitude_m, feed_kg, rain_days", {}),
        ("(hive_type = 'long') given forage_km2, feed_kg", {}),
        ("honey_kg given forage_km2", {"std_errors": "robust", "order": "season"}),
    ],
)
def test_a_loaded_fit_has_the_checks_as_they_were_judged_and_says_so(model, options, tmp_path):
    fit = jn.fit("sample:yields", model, **options)
    loaded = jn.load(fit.save(tmp_path / "fit.json"))
    ours, theirs = (f.checks().frame.drop(columns="advice") for f in (loaded, fit))
    pd.testing.assert_frame_equal(ours, theirs)
    assert "judged when the fit was saved" in loaded.checks().notes[0]
    assert "single rows: a file keeps none" in " ".join(str(loaded).split())
    pages = [short_page(f._fitted).cautions for f in (loaded, fit)]
    of_model = [
        [c for c in page if c.call == "checks" and c.verdict != "no sign"] for page in pages
    ]
    assert of_model[0] == of_model[1]
    again = jn.load(loaded.save(tmp_path / "again.json"))
    assert again.checks() == loaded.checks()
