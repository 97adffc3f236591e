"""One function per thing a person does, by subject.

A room knows those before it: accounts ← sites ← kit ← people ← bench ← records ←
jobs, setup.
Operations gather facts and ask the core; they judge nothing.
"""
