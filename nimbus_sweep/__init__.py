"""Nimbus Sweep: takes capture defects out of footage by looking along time."""

import os

# The systems solved here are small, and several processes share the cores: threads of the linear algebra library that
# wait for one another by spinning made them ten times slower. It reads this when numpy is first imported.
os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")

__version__ = "0.1.0"
