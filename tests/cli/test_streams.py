"""Streams and files as the command line meets them: pipes, other encodings, what is closed or full."""

from __future__ import annotations

import contextlib
import os
import pty
import re
import signal
import subprocess
import sys
import time

import pytest

CSV = b"x,y\n1,2\n2,3\n3,5\n4,4\n5,7\n"
COMMAND = [sys.executable, "-m", "joinery"]
JARS = ("sample:jars", "jars_sold given hours_open")


def run(*arguments, **options):
    return subprocess.run([*COMMAND, *arguments], capture_output=True, timeout=60, **options)


def test_standard_input_is_read_once_for_several_models(joinery):
    status, out, _ = joinery("compare", "-", "y given x", "y given x, x^2", stdin=CSV)
    assert status == 0
    assert out.count("y given x") == 2
    assert joinery("fit", "-", "y given x", stdin=b"")[0] == 3


@pytest.mark.sampled(3)
@pytest.mark.parametrize("encoding", ["ascii", "latin-1", "cp1252"])
def test_a_stream_without_a_minus_sign_gets_a_hyphen(encoding):
    done = run("coefficients", *JARS, env=os.environ | {"PYTHONIOENCODING": encoding})
    assert done.returncode == 0
    assert "-2.6" in done.stdout.decode(encoding)
    failed = run(
        "fit", "sample:jars", "jars_sold given −", env=os.environ | {"PYTHONIOENCODING": encoding}
    )
    assert failed.returncode == 2
    assert b"?" not in failed.stderr


def test_output_that_cannot_be_written_is_said():
    with open("/dev/full", "w") as full:
        done = subprocess.run(
            [*COMMAND, "overall", *JARS], stdout=full, stderr=subprocess.PIPE, timeout=60
        )
    assert done.returncode == 1
    assert done.stderr == b"joinery: the results cannot be written: no space left on device\n"
    closed = subprocess.run(f"{' '.join(COMMAND)} overall sample:jars 'jars_sold given hours_open' >&-", shell=True, stderr=subprocess.PIPE, timeout=60)  # fmt: skip
    assert closed.returncode == 1
    assert b"Traceback" not in closed.stderr
    piped = subprocess.run(f"{' '.join(COMMAND)} rows sample:yields 'honey_kg given forage_km2' --as csv | head -1", shell=True, capture_output=True, timeout=60)  # fmt: skip
    assert piped.stderr == b""
    assert piped.stdout.startswith(b"row,")


@pytest.mark.parametrize(
    ("arguments", "said"),
    [
        (("fit", "-", "y given x"), rb"ready\njoinery: interrupted\n"),
        (
            ("rehearse", "y given x", "--coefficients", "x=1", "--rows", "30", "--times", "99999", "--std-errors", "robust"),
            rb"ready\njoinery: interrupted; [\d,]+ of 99,999 rehearsals of 30 rows were done\n",
        ),
    ],
)  # fmt: skip
def test_an_interrupt_ends_without_a_traceback(arguments, said):
    ready = "import sys, joinery.cli as cli, joinery.model.fit, joinery.rehearsal; print('ready', file=sys.stderr, flush=True); cli.main()"
    running = subprocess.Popen(
        [sys.executable, "-c", ready, *arguments],
        stdin=subprocess.PIPE,
        stderr=subprocess.PIPE,
        preexec_fn=lambda: signal.signal(signal.SIGINT, signal.SIG_DFL),  # tests may ignore it
    )
    line = running.stderr.readline()
    time.sleep(1)  # until the work is under way
    running.send_signal(signal.SIGINT)
    _, heard = running.communicate(timeout=60)
    assert running.returncode == 130
    assert re.fullmatch(said, line + heard)


def test_long_work_says_on_a_terminal_how_far_it_is():
    ours, theirs = pty.openpty()
    impatient = (
        "from joinery.support import progress; progress.PATIENCE = progress.APART = 0.0\n"
        "from joinery.cli import main; main()"
    )
    arguments = ("rehearse", "y given x", "--coefficients", "x=1", "--rows", "30", "--times", "200")
    command = [sys.executable, "-c", impatient, *arguments, "--as", "csv"]
    done = subprocess.run(command, stdout=subprocess.PIPE, stderr=theirs)
    os.close(theirs)
    shown = b""
    with contextlib.suppress(OSError):  # the end of a terminal, as Linux says it
        while part := os.read(ours, 65536):
            shown += part
    assert re.search(rb"\r[\d,]+ of 200 rehearsals of 30 rows, about \d+ s left", shown)
    assert shown.endswith(b" \r")
    assert done.stdout.startswith(b"term,truth")


@pytest.mark.parametrize(
    ("arguments", "status", "said"),
    [
        (("coeficients", *JARS), 2, "Did you mean 'coefficients'?"),
        (("fit", "", "y given x"), 3, "no file is named"),
        (("fit", "y given x", "a.csv"), 3, "is that the model? The data comes before it"),
        (("forecast", *JARS, "--at", "hours_open=3", "--hold", "5"), 2, "hold='5' is not known. It is one of 'average'"),
        (("adjusted-means", *JARS), 2, "name the category whose levels are meant"),
        (("compare", *JARS), 2, "takes two models or more"),
        (("fit", *JARS, "--labels", "hours_open"), 2, "write column=words"),
        (("fit", *JARS, "--with", " ; "), 2, "names no change"),
        (("fit", *JARS, "--full", "--as", "csv"), 2, "one such file holds one table"),
        (("draw", *JARS), 2, "name a picture after the sentence"),
        (("simulate", "y given x", "--coefficients", "x=1", "--rows", "5", "--predictors", "x", "--predictors", "y"), 2, "not a column with its recipe"),
        (("rehearse", "y given x", "--coefficients", "x=1", "--rows", "few"), 2, "not a number of rows"),
        (("rows", *JARS, "--output", "."), 2, "cannot tell how to write '.'"),
        (("fit", *JARS, "--save", "/dev/null"), 2, "it is no regular file"),
        (("forecast", "sample:hive_scale", "gain_kg given date", "--at", "date=5"), 3, "holds dates in the fitted rows"),
    ],
)  # fmt: skip
def test_what_is_said_and_with_which_status(joinery, arguments, status, said):
    ended, out, err = joinery(*arguments)
    assert (ended, out) == (status, "")
    assert said in " ".join(err.replace("│", " ").split())


def test_options_for_missing_marks_and_spreadsheets(joinery, tmp_path):
    (tmp_path / "t.csv").write_text("name,x,y\n=a,1,2\nb,?,3\nc,3,5\nd,4,n.a.\ne,5,9\nf,6,8\n")
    status, out, _ = joinery("rows", tmp_path / "t.csv", "y given x", "--id", "name", "--empty", "?", "--empty", "n.a.",
                             "--as", "csv", "--for-spreadsheets")  # fmt: skip
    assert status == 0
    assert out.splitlines()[1].startswith("'=a,2.0,")
    assert "left out: no x" in out
    status, out, _ = joinery(
        "forecast", "sample:hive_scale", "gain_kg given date", "--at", "date='2025-09-20'"
    )
    assert status == 0
    assert "date 2025-09-20 lies outside what was seen (2025-04-15 to 2025-09-11)" in out


def test_results_go_to_standard_output_by_name():
    done = run("coefficients", *JARS, "--output", "/dev/stdout")
    assert done.returncode == 2  # no ending says in which form
    done = run("fit", *JARS, "--save", "/dev/stdout")
    assert b'"kind": "joinery fit"' in done.stdout


def test_a_command_loads_nothing_slow_that_it_does_not_need():
    loaded = subprocess.run(
        [sys.executable, "-X", "importtime", "-m", "joinery", "fit", *JARS],
        capture_output=True, text=True, check=True,
    ).stderr  # fmt: skip
    slow = ("scipy.optimize", "scipy.stats", "scipy.interpolate", "matplotlib", "jinja2")
    names = {line.rpartition("|")[2].strip() for line in loaded.splitlines()}
    assert not {name for name in names if name.startswith(slow)}
    assert "joinery.hand_over.short_page" in names
