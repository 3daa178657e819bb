"""What is shipped: a source distribution that its own tests can be run from, a wheel that works alone, a current reference."""

from __future__ import annotations

import importlib.util
import os
import subprocess
import sys
import tarfile
from pathlib import Path

import pytest

ROOT = Path(__file__).parents[2]


def run(*command, cwd, **env):
    done = subprocess.run(
        [sys.executable, *command], cwd=cwd, env=os.environ | env, capture_output=True, text=True
    )
    assert done.returncode == 0, done.stdout + done.stderr
    return done.stdout


@pytest.fixture(scope="module")
def built(tmp_path_factory):
    folder = tmp_path_factory.mktemp("dist")
    run("-m", "hatchling", "build", "-d", str(folder), cwd=ROOT)
    return folder


def test_the_source_distribution_holds_all_that_its_tests_need(built, tmp_path):
    with tarfile.open(next(built.glob("*.tar.gz"))) as archive:
        archive.extractall(tmp_path, filter="data")
    folder = next(tmp_path.iterdir())
    where = run(
        "-c", "import joinery; print(joinery.__file__)", cwd=folder, PYTHONPATH=str(folder / "src")
    )
    assert where.startswith(str(folder))
    chosen = (
        "tests/study/test_forecast.py::test_several_levels_at_once",
        "tests/journeys/test_examples.py::test_there_are_examples_in_the_order_of_the_work",
    )
    run(
        "-m",
        "pytest",
        "-q",
        "-p",
        "no:xdist",
        *chosen,
        cwd=folder,
        PYTHONPATH=f"{folder / 'src'}{os.pathsep}{folder}",
    )
    assert (folder / "CONTRIBUTING.md").is_file()


def test_the_wheel_works_alone(built, tmp_path):
    wheel, alone = next(built.glob("*.whl")), tmp_path / "alone"
    run(
        "-m",
        "pip",
        "install",
        "-q",
        "--no-deps",
        "--no-index",
        "--target",
        str(alone),
        str(wheel),
        cwd=tmp_path,
    )
    code = "import joinery, sys; assert joinery.__file__.startswith(sys.argv[1]); from joinery.cli import main; sys.argv = ['joinery', 'demo', 'shown']; main()"
    out = run("-c", code, str(alone), cwd=tmp_path, PYTHONPATH=str(alone), COLUMNS="80")
    assert "honey_kg given" in out
    assert len(list((tmp_path / "shown").iterdir())) > 3


def test_the_reference_is_current():
    place = ROOT / "docs" / "reference.py"
    spec = importlib.util.spec_from_file_location("reference", place)
    module = importlib.util.module_from_spec(spec)
    spec.loader.exec_module(module)
    assert (ROOT / "docs" / "reference.md").read_text("utf-8") == module.page(), (
        "run python docs/reference.py"
    )
