"""One reader fuzzed by atheris, which keeps the inputs that reach new branches: coverage_fuzz.py READER RUNS FOLDER."""

import sys
from pathlib import Path

import atheris

with atheris.instrument_imports(include=["eager_lantern.wire", "eager_lantern.live.vantage.agent"]):
    from fuzzing import TARGETS

name, runs, folder = sys.argv[1:]
for number, seed in enumerate(TARGETS[name].seeds):
    (Path(folder) / str(number)).write_bytes(seed)
atheris.Setup(
    ["coverage_fuzz", folder, f"-runs={runs}", "-seed=61", "-max_len=4096", f"-artifact_prefix={folder}/"],
    TARGETS[name].survives,
)
atheris.Fuzz()
