"""Server families: each reads one kind of server's configuration and tells how it will answer.

One package a family; :mod:`rupex.servers.family` states what each provides.
"""
