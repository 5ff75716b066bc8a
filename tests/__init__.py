"""The tests."""

import nimbus_sweep  # noqa: F401  # before numpy: it says how many threads linear algebra may take
