"""One room a feature: its tables, its operations, its routes, and what it prints.

A room may use those before it, through their operations; the order stands in ``pyproject.toml`` and is checked. An
operation gathers facts and asks the core; it judges nothing. A route asks one operation.
"""
