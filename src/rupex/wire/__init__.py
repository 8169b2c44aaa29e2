"""What a listener answers: the record and hello codec, the sweep over versions and suites, and HTTP.

``codec`` is bytes in, values out; sockets are opened in ``connection`` only.
"""
