"""From readings to numbers: reduction to windows, ambient counting, the photometer, controlled negative pressure,
typed figures, what counting can show, the leak budget, and what is shown while a run goes on.

It judges a run's numbers against its level. What was seen, asked or sensed is not known here.
"""
