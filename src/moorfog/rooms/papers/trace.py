"""The trace of a run as a small drawing: concentration on a log ladder over the seconds of the protocol."""

from __future__ import annotations

import math
from fractions import Fraction
from xml.sax.saxutils import escape

from moorfog.core.measuring.live import value_of
from moorfog.core.measuring.negative_pressure import modelled_flow
from moorfog.core.measuring.readings import Reading
from moorfog.core.rules.book import Protocol
from moorfog.platform.printing.fonts import STACK

WIDTH, HEIGHT, LEFT, BOTTOM = 680, 202, 44, 34
ROWS, ROW, SIGN = 2, 12, 5.2
"""Names of exercises stand in rows by turns; a sign of a name takes about so much."""
TOP_DECADE = 5


def _y(value: float) -> float:
    share = (math.log10(max(value, 0.1)) + 1) / (TOP_DECADE + 1)
    return (HEIGHT - BOTTOM) * (1 - min(max(share, 0), 1)) + 4


def per_second(protocol: Protocol, readings: list[Reading], total_ms: int) -> list[tuple[float, float, str]]:
    """Return (second, value, valve) means over whole seconds of one valve position, in the unit of the protocol.

    Particles per cm³ by counts over volume; µg/m³ or ml/min by time.
    """
    sums: dict[tuple[int, str], list[float]] = {}
    for one in readings:
        if 0 < one.t <= total_ms:
            cell = sums.setdefault(((one.t - 1) // 1000, one.valve), [0, 0])
            weight = one.volume_nl if protocol.is_counted else one.dt
            cell[0] += float(value_of(protocol, one)) * weight
            cell[1] += weight
    rows = sorted(sums.items())
    return [(second + 0.5, value / weight, valve) for (second, valve), (value, weight) in rows if weight > 0]


def _wall(protocol: Protocol, points: list[tuple[float, float, str]], level: Fraction) -> float | None:
    """Return what the inside must stay under on average: outside ÷ level, or the modelled flow ÷ level."""
    if protocol.family == "pressure":
        return float(modelled_flow(protocol) / level)
    outside = [value for _, value, valve in points if valve == "O"]
    return sum(outside) / len(outside) / float(level) if outside else None


def _line(start: tuple[float, float], end: tuple[float, float], style: str) -> str:
    return f'<line x1="{start[0]:.1f}" y1="{start[1]:.1f}" x2="{end[0]:.1f}" y2="{end[1]:.1f}" {style}/>'


def _words(at: tuple[float, float], words: str, style: str) -> str:
    return f'<text x="{at[0]:.1f}" y="{at[1]:.1f}" {style}>{escape(words)}</text>'


def trace_svg(protocol: Protocol, readings: list[Reading], level: Fraction) -> str:
    """Return an SVG of the run: outside as a dotted bank, inside as a line, the level as a dashed wall."""
    total = protocol.total_s
    points = per_second(protocol, readings, total * 1000)

    def x(second: float) -> float:
        return LEFT + (WIDTH - LEFT) * second / total

    parts = [
        f'<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 {WIDTH} {HEIGHT}" width="100%" font-family="{STACK}">'
    ]
    for decade in range(TOP_DECADE):
        y = _y(10**decade)
        parts.append(_line((LEFT, y), (WIDTH, y), 'stroke="#cfd5d3" stroke-width="0.6"'))
        parts.append(_words((LEFT - 6, y + 3), f"{10**decade:,}", 'text-anchor="end" font-size="9" fill="#4a443d"'))
    starts = [x(start / 1000) for start in protocol.starts_ms()]
    for number, (left, exercise) in enumerate(zip(starts, protocol.exercises(), strict=True)):
        style = 'stroke="#4a443d" stroke-dasharray="1 3" stroke-width="0.8"'
        parts.append(_line((left, 4), (left, HEIGHT - BOTTOM), style))
        beside = starts[number + ROWS] if number + ROWS < len(starts) else float(WIDTH)
        names = [one for one in (exercise.name, exercise.short) if one and len(one) * SIGN <= beside - left - 4]
        if names:  # none has room where an exercise is very short
            at = (left + 4, HEIGHT - 6 - ROW * (ROWS - 1 - number % ROWS))
            parts.append(_words(at, names[0], 'font-size="9.5" fill="#231f1b"'))
    limit = _wall(protocol, points, level)
    if limit is not None:
        wall = _y(limit)
        parts.append(_line((LEFT, wall), (WIDTH, wall), 'stroke="#8f3420" stroke-dasharray="6 4" stroke-width="1.4"'))
    for valve, style in (
        ("O", 'stroke="#9aa5a4" stroke-width="2.4" stroke-dasharray="2 2"'),
        ("I", 'stroke="#1d5566" stroke-width="1.8"'),
    ):
        run: list[str] = []
        last = -9.0
        for second, value, where in points:
            if where != valve:
                continue
            if second - last > 1.5 and run:
                parts.append(f'<polyline points="{" ".join(run)}" fill="none" {style}/>')
                run = []
            run.append(f"{x(second):.1f},{_y(value):.1f}")
            last = second
        if run:
            parts.append(f'<polyline points="{" ".join(run)}" fill="none" {style}/>')
    parts.append("</svg>")
    return "".join(parts)
