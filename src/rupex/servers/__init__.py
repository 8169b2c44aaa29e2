"""Server families: each reads one kind of server's configuration and tells how it will answer.

One package a family; :mod:`rupex.servers.contract` states what each provides, ``common`` has what they share.
"""
