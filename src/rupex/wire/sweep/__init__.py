"""Which versions, suites, groups and signatures a listener takes, and in which order."""
