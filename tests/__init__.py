"""The tests. Real servers, terminals and databases share the machine with them, so that it may be slow at any moment."""

from hypothesis import HealthCheck, settings

settings.register_profile("rupex", deadline=None, suppress_health_check=[HealthCheck.too_slow])
settings.load_profile("rupex")
