"""The job itself, in rooms. Each imports only those before it; a contract in ``pyproject.toml`` keeps the order.

``kernel`` · ``events`` · ``rules`` · ``measuring`` · ``advice`` · ``visit`` · ``qualitative`` · ``transitions`` ·
``permission`` and ``simulation`` · ``views`` · ``record``

What may enter here: the standard library, NumPy and ``scipy.special``. What may not: a framework, a file, a socket, a
clock, a source of randomness that was not handed in. ``tests/core/test_rooms.py`` finds what does.
"""
