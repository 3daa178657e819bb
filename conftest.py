"""Code blocks of the guide and README run: Python as it stands, `sh` blocks as commands."""

from __future__ import annotations

import os
import subprocess
import sys
from pathlib import Path

import pytest
from sybil import Sybil
from sybil.example import Example
from sybil.parsers.markdown import CodeBlockParser, PythonCodeBlockParser, SkipParser

collect_ignore_glob = ["docs/site*.py"]  # they need what builds the site


def run_commands(example: Example) -> None:
    """Runs each `joinery` line of a block.

    Other lines (make, git) are for the reader's own checkout.
    """
    path = f"{Path(sys.executable).parent}{os.pathsep}{os.environ['PATH']}"
    for line in example.parsed.replace("\\\n", " ").splitlines():
        if line.startswith("joinery "):
            done = subprocess.run(
                line, shell=True, capture_output=True, text=True, env=os.environ | {"PATH": path}
            )
            assert done.returncode == 0, f"{line}\n{done.stderr}"
            assert "Traceback" not in done.stderr


@pytest.fixture(scope="module")
def _elsewhere(tmp_path_factory):
    """Blocks of a page run one after another in a folder of their own."""
    here = Path.cwd()
    os.chdir(tmp_path_factory.mktemp("page"))
    yield
    os.chdir(here)


pytest_collect_file = Sybil(
    parsers=[
        PythonCodeBlockParser(),
        CodeBlockParser(language="sh", evaluator=run_commands),
        SkipParser(),
    ],
    patterns=["*.md"],
    excludes=["CHANGELOG.md"],
    fixtures=["_elsewhere"],
).pytest()
