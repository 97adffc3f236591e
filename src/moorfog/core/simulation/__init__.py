"""Seeded wearers, instruments and hidden faults, to learn on and to try the whole chain with; and the trial of a
protocol that a site brings.

It never stands in for a person. No verdict on a real run may rest on it.
"""
