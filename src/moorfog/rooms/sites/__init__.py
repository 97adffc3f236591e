"""Employers and sites, and what a site decides: its rule book, its own rules, tasks, protocols and words.

Uses no other room.
"""
