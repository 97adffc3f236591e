"""Papers and files that go out: the report, a plain view model first and a page out of it; labels, tables, readings.

Nothing is judged here: what a paper says comes from the core's views.
"""
