"""The words that people read: all in one list, and none of those that English has better ones for."""

from __future__ import annotations

import re

import pytest

from tests.sentences import LIST, listed, sentences

# what a sentence is not to say, and why
AVOIDED = {
    r"(?<!there )(?<!it )is no (?!longer|more|distribution|row's)": "write `is not a …`",
    r"is wanted\b|\bwants? (a|the|two)\b": "write `is needed`, `needs`",
    r"\b(told|tell .*) (from|apart)\b|\bspeaks? to\b|\bturned back\b": "say what is seen",
    r"\bsettles?\b(?! it with)": "write `determine`, or of an iteration `converge`",
    r"\b1 (row|cell|level|value|term|group|fit)s\b": "one is singular",
    r"\bnews? of\b|\bgoes? with what\b|\bso many out of so many\b": "say it as one would aloud",
}


def test_the_list_has_every_sentence_of_the_source():
    wanted, have = set(listed().splitlines()), set(LIST.read_text("utf-8").splitlines())
    assert wanted == have, (
        f"new: {sorted(wanted - have)}; gone: {sorted(have - wanted)}; read the new ones as an "
        "editor would, then: python -m tests.sentences"
    )


@pytest.mark.parametrize("pattern", AVOIDED)
def test_no_sentence_says_what_english_says_better(pattern):
    lines = LIST.read_text("utf-8").splitlines()
    bad = [line for line in lines if re.search(pattern, line) and not line.startswith("#")]
    assert bad == [], AVOIDED[pattern]


def test_a_sentence_is_found_wherever_it_stands_and_code_is_not():
    source = '"""A module."""\ndef f(n):\n    """Do it."""\n    raise E(f"of {n} rows " "none is left")\n'
    source += "x = 'SELECT a FROM b'\ny = 'two words'\n"
    assert list(sentences(source)) == ["of … rows none is left"]
