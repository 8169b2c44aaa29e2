"""The tests. Real servers, terminals and databases share the machine with them, so that it may be slow at any moment.

Laws are tried with the same examples each time, so that a run that fails has its reason in the change. With a number in
``RUPEX_SEARCH`` so many new ones are tried instead.
"""

import os

from hypothesis import HealthCheck, settings

_search = int(os.environ.get("RUPEX_SEARCH", "0"))
settings.register_profile(
    "rupex",
    deadline=None,
    suppress_health_check=[HealthCheck.too_slow],
    derandomize=not _search,
    max_examples=_search or 200,
)
settings.load_profile("rupex")
