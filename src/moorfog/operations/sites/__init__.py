"""Employers and sites. What a site decides: its rule book, what it lays over it, its tasks and its own protocols."""
