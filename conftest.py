"""Code blocks of the guide and README run: Python as it stands, `sh` blocks as commands."""

from __future__ import annotations

import io
import os
import shlex
import subprocess
import sys
from pathlib import Path

import pytest
from sybil import Sybil
from sybil.example import Example
from sybil.parsers.markdown import CodeBlockParser, PythonCodeBlockParser, SkipParser

collect_ignore_glob = ["docs/site*.py"]  # they need what builds the site


# files whose tests share a browser, a cluster, a server, what is built, or the source as read
TOGETHER = (
    "test_report.py",
    "test_cluster.py",
    "test_shipping.py",
    "test_saved.py",
    "test_rooms.py",
)


@pytest.hookimpl(optionalhook=True)
def pytest_xdist_make_scheduler(config, log):
    """Deal single tests to the workers; the blocks of a page and such files stay together."""
    from xdist.scheduler import LoadScopeScheduling

    class Dealt(LoadScopeScheduling):
        def _split_scope(self, nodeid: str) -> str:
            file = nodeid.partition("::")[0]
            if file.endswith((".md", *TOGETHER)):
                return file
            return nodeid

    return Dealt(config, log)


def run_commands(example: Example) -> None:
    """Runs each `joinery` line of a block: the README's first as a process, others in this one.

    Other lines (make, git) are for the reader's own checkout.
    """
    commands = [
        line
        for line in example.parsed.replace("\\\n", " ").splitlines()
        if line.startswith("joinery ")
    ]
    for place, line in enumerate(commands):
        if place == 0 and Path(example.path).name == "README.md":
            status, said = in_a_process(line)
        else:
            status, _, said = example.namespace["joinery"](*shlex.split(line)[1:])
        assert status == 0, f"{line}\n{said}"
        assert "Traceback" not in said


def in_a_process(line: str) -> tuple[int, str]:
    path = f"{Path(sys.executable).parent}{os.pathsep}{os.environ['PATH']}"
    environment = os.environ | {"PATH": path}
    done = subprocess.run(line, shell=True, capture_output=True, text=True, env=environment)
    return done.returncode, done.stderr


@pytest.fixture
def joinery(capsys, monkeypatch):
    """Runs the command in place: (exit status, standard output, standard error)."""
    from joinery.cli import main

    def run(*arguments, stdin: bytes | None = None):
        monkeypatch.setattr(sys, "argv", ["joinery", *map(str, arguments)])
        if stdin is not None:
            monkeypatch.setattr(sys, "stdin", io.TextIOWrapper(io.BytesIO(stdin)))
        status = 0
        try:
            main()
        except SystemExit as end:
            status = end.code or 0
        captured = capsys.readouterr()
        return status, captured.out, captured.err

    return run


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
    fixtures=["_elsewhere", "joinery"],
).pytest()
