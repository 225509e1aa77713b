"""How JAX compiles in the tests; imported before it."""

import os
import shutil
import subprocess
import sys
from pathlib import Path

# One folder of compiled code for all test processes and for what they start, however quickly it was compiled.
os.environ.setdefault("JAX_COMPILATION_CACHE_DIR", str(Path(__file__).parents[1] / ".pytest_cache" / "compiled"))
os.environ.setdefault("JAX_PERSISTENT_CACHE_MIN_COMPILE_TIME_SECS", "0")
os.environ.setdefault("JAX_PERSISTENT_CACHE_MIN_ENTRY_SIZE_BYTES", "-1")

# What is trusted in the tests is not trusted by whoever runs them, nor in the next run of the tests.
KEPT = Path(__file__).parents[1] / ".pytest_cache"
os.environ["XDG_DATA_HOME"], os.environ["XDG_CACHE_HOME"] = str(KEPT / "data"), str(KEPT / "cache")
if "PYTEST_XDIST_WORKER" not in os.environ:
    shutil.rmtree(KEPT / "data", ignore_errors=True)

# Tests compile much and run little. The compiler's older code generator takes half the time; in one piece a program, and
# optimising less, another eighth is saved (level 0 compiles faster still, and what trains then takes up to twice as
# long). Where this version refuses a flag, without them.
FASTER = (
    "--xla_cpu_use_fusion_emitters=false --xla_backend_optimization_level=1 --xla_cpu_parallel_codegen_split_count=1"
)
if "XLA_FLAGS" not in os.environ and "PYTEST_XDIST_WORKER" not in os.environ:
    tried = subprocess.run(
        [sys.executable, "-c", "import jax; jax.devices()"],
        env={**os.environ, "XLA_FLAGS": FASTER},
        capture_output=True,
    )
    if tried.returncode == 0:
        os.environ["XLA_FLAGS"] = FASTER
