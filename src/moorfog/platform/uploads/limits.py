"""How much a file may hold, and what its parser may take."""

from __future__ import annotations

MEMORY_BYTES = 1024 * 1024 * 1024
"""Addresses, of which a parser at work uses a part."""
CPU_S, WALL_S = 20, 40
MOST_ROWS, MOST_COLUMNS, MOST_CELL = 50_000, 100, 2_000
"""Rows below the headings, columns, and signs in a cell, of a table."""
MOST_UNPACKED = 200 * 1024 * 1024
"""Bytes that the parts of a workbook come to when unpacked."""
SAMPLE = 256 * 1024
"""Bytes of a text from which its encoding is told."""
