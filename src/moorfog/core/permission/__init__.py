"""May this person wear this set-up at this task on this day; if not, every reason and who settles it.

The one place that answers it. It is handed facts and asks nobody.
"""
