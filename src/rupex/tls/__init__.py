"""TLS as data: protocol versions, cipher suites, groups; and the languages in which servers select suites."""
