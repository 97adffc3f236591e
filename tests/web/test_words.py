"""The web judges nothing and reads no English: codes and values come from the API, and a rule says its own number."""

from __future__ import annotations

import re
from pathlib import Path

WEB = Path(__file__).parents[2] / "web/src"
NUMBER = r"(\d+([.,]\d+)?|two|three|four|five|six|seven|eight|nine|ten|twelve|fifteen|twenty|thirty|sixty)"
UNIT = r"(s|seconds?|min|minutes?|hours?|months?|tries|mm|cm|ml|drops?|squeezes|exercises|per cent)"
A_RULE_IN_WORDS = re.compile(rf"\b{NUMBER}[  -]{UNIT}\b", re.I)
READS_WORDS = re.compile(r"\.(includes|startsWith|endsWith|match|search|indexOf|replace|split)\(\s*([\"'`/][^\"'`/]*)")
MAY_READ = re.compile(
    r"roles\.includes|pathname\.|toLocaleString|needs\.includes|setSeen|"  # codes, addresses, figures, what is typed
    r"text\.split|third\.includes|address\.replace"
)
PACE_OF_PRACTICE = "StartVisit.tsx"


def sources() -> dict[str, str]:
    paths = [*WEB.rglob("*.ts"), *WEB.rglob("*.tsx")]
    return {one.relative_to(WEB).as_posix(): one.read_text("utf-8") for one in paths if one.name != "schema.ts"}


def without_comments(text: str) -> str:
    return re.sub(r"/\*.*?\*/|^\s*//.*$", "", text, flags=re.S | re.M)


def reading(text: str) -> list[str]:
    """Lines that look into a sentence."""
    return [
        one.strip()
        for one in without_comments(text).splitlines()
        if READS_WORDS.search(one) and not MAY_READ.search(one)
    ]


def test_no_screen_looks_into_a_sentence() -> None:
    assert {name: found for name, text in sources().items() if (found := reading(text))} == {}


def test_no_screen_says_a_number_of_a_rule() -> None:
    found = {
        name: [one[0] for one in A_RULE_IN_WORDS.finditer(without_comments(text))]
        for name, text in sources().items()
        if not name.endswith(PACE_OF_PRACTICE)
    }
    assert {name: words for name, words in found.items() if words} == {}


DEVICES_DAY = re.compile(r"toLocaleDateString|toISOString\(\)\.slice")


def test_no_screen_takes_the_day_from_its_own_device() -> None:
    """At a site the site's day counts: a tablet set to another zone dated a training a day ahead."""
    asked = {name for name, text in sources().items() if DEVICES_DAY.search(without_comments(text))}
    assert asked == {"shared/clock.ts"}


def test_both_would_be_seen() -> None:
    assert reading('const dry = against.some((one) => one.includes("spray"));')
    assert A_RULE_IN_WORDS.search("Five minutes of wear") and A_RULE_IN_WORDS.search("shaken two seconds")
    assert not reading('const may = session.roles.includes("tester");')
