"""The short form of benchmarks/attack: some wrong words, plans, records, environments and calls, each answered by one
message."""

import subprocess
import sys
from pathlib import Path

import pytest

pytestmark = pytest.mark.slow

ROOT = Path(__file__).parents[1]


def test_what_nobody_means_is_answered_by_one_message(tmp_path):
    words = [sys.executable, ROOT / "benchmarks" / "attack" / "run.py", "--cases", "48", "--seed", "5"]
    done = subprocess.run(words, capture_output=True, text=True, cwd=tmp_path)
    assert done.returncode == 0, "\n".join(done.stdout.splitlines()[-20:])
    for kind in ("words", "plans", "records", "code", "calls", "searches", "faults", "signals"):
        assert f"{kind:12}      6 cases, 0 faults" in done.stdout
    assert not list(tmp_path.iterdir())
