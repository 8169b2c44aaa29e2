"""What a listener answers: the record and hello codec, the sweep over versions and suites, and HTTP.

``records``, ``hello``, ``answers`` and ``seal`` are bytes in, values out; sockets are opened in ``line`` and ``web`` only.
"""
