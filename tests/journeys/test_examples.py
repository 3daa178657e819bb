"""Every example runs in an empty folder, says something, and draws what it says it draws."""

from __future__ import annotations

import runpy
import subprocess
import sys
from pathlib import Path

import pytest

# Matplotlib's oldest release that is admitted calls its parser by names that are going
OF_OTHERS = [
    word
    for module in ("_fontconfig_pattern", "_mathtext")
    for word in ("-W", f"ignore::DeprecationWarning:matplotlib.{module}")
]
EXAMPLES = sorted((Path(__file__).parents[2] / "examples").glob("*.py"))


def test_there_are_examples_in_the_order_of_the_work():
    assert [file.name[:2] for file in EXAMPLES] == [f"{k:02d}" for k in range(1, len(EXAMPLES) + 1)]
    readme = (EXAMPLES[0].parents[1] / "README.md").read_text()
    assert len(EXAMPLES) >= 8
    for file in EXAMPLES:
        assert f"examples/{file.name}" in readme
        lines = file.read_text().splitlines()
        assert len(lines) < 60
        assert lines[0].startswith('"""')


@pytest.mark.parametrize("file", EXAMPLES, ids=lambda f: f.stem)
def test_an_example_runs(file, tmp_path, monkeypatch, capsys):
    if file == EXAMPLES[0]:
        strict = ["-W", "error", "-W", "ignore:left out of the model", *OF_OTHERS]
        done = subprocess.run(
            [sys.executable, *strict, file], cwd=tmp_path, capture_output=True, text=True
        )
        assert done.returncode == 0, done.stderr
        said, complained = done.stdout, done.stderr
    else:  # the others in this process
        monkeypatch.chdir(tmp_path)
        runpy.run_path(str(file), run_name="__main__")
        said, complained = capsys.readouterr()
    assert complained == ""
    assert len(said) > 200
    wanted = [part.split('"')[0] for part in file.read_text().split('OUT / "')[1:]]
    assert sorted(p.name for p in tmp_path.glob("example-pictures/*")) == sorted(wanted)
