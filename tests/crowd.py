"""A programme of any size, made in the database itself: people, visits, tries, passes and what is on file of them.

One employer has a fifth of all people at sites of a thousand, each of the others a hundred. Of every person there are
three visits in two years, of ten tries in all. Nothing here is a record that would hold: only what lists read is
there, as many rows and as they are spread; the views are of the size of real ones.
"""

from __future__ import annotations

import json
from dataclasses import dataclass
from datetime import date

from sqlalchemy import Engine, text
from sqlalchemy.orm import Session

from moorfog.core.kernel.codec import encode
from moorfog.core.rules.book import Rules
from moorfog.core.visit.state import FOLD_VERSION
from moorfog.platform.log.counting import count_anew
from moorfog.platform.log.log import keep_rules
from tests.core.bench import facepiece

MODELS, OF_OTHERS, OF_A_SITE = 40, 100, 1000
GIVEN = ("ada", "bo", "cai", "dag", "eir", "fen", "gro", "hal", "ida", "jon", "kai", "liv", "mo", "nils", "oda", "per")


def uid(kind: int, number: str) -> str:
    """Return the SQL of an id: of a kind of row, by its number."""
    return f"CAST(CONCAT(LPAD(HEX({kind}), 8, '0'), '-0000-7000-8000-', LPAD(HEX({number}), 12, '0')) AS UUID)"


def plain_id(kind: int, number: int) -> str:
    """Return the same id as text."""
    return f"{kind:08x}-0000-7000-8000-{number:012x}"


@dataclass(frozen=True)
class Crowd:
    """How many people there are, on which day; and whom to ask about."""

    people: int
    today: date

    @property
    def big(self) -> int:
        """People of the large employer."""
        return self.people // 5

    employer = plain_id(1, 0)
    """The large one."""
    site = plain_id(2, 0)
    """A site of it."""
    person = plain_id(3, 7)
    model = plain_id(5, 3)
    counter = plain_id(6, 0)
    tester = plain_id(9, 7)


def statements(crowd: Crowd, rules: Rules) -> list[str]:
    """Return what makes the programme, in the order in which it can be made."""
    n, big, day = crowd.people, crowd.big, f"DATE '{crowd.today.isoformat()}'"
    others = max(1, -(-(n - big) // OF_OTHERS))
    employer = f"IF(s.seq < {big}, 0, 1 + (s.seq - {big}) DIV {OF_OTHERS})"
    site = f"IF(s.seq < {big}, s.seq DIV {OF_A_SITE}, 1000 + (s.seq - {big}) DIV {OF_OTHERS})"
    whose = f"{uid(1, employer)}, {uid(2, site)}"
    names = ", ".join(f"'{one.title()}'" for one in GIVEN)
    person = f"MOD(s.seq, {n})"
    of_visit = {
        "p": person,
        "e": f"IF({person} < {big}, 0, 1 + ({person} - {big}) DIV {OF_OTHERS})",
        "st": f"IF({person} < {big}, {person} DIV {OF_A_SITE}, 1000 + ({person} - {big}) DIV {OF_OTHERS})",
        "model": f"MOD(CRC32(s.seq), {MODELS})",
        "size": "ELT(1 + MOD(CRC32(s.seq + 11), 3), 'S', 'M', 'L')",
        "ago": f"10 + MOD(CRC32(s.seq + 5), 320) + 250 * (s.seq DIV {n})",
    }
    moment = f"TIMESTAMP({day}) - INTERVAL ({of_visit['ago']}) DAY + INTERVAL 9 HOUR"
    e, st, who, model = uid(1, of_visit["e"]), uid(2, of_visit["st"]), uid(3, person), uid(5, of_visit["model"])
    visit, made = uid(4, "s.seq"), f"{FOLD_VERSION}"
    words = f"CONCAT('Tindle & Wray Sedge ', {of_visit['model']})"
    piece = json.dumps(encode(facepiece(model_id="M", size="S"))).replace("'", "''").replace(":", "\\:")
    facts = (
        f"JSON_OBJECT('piece', JSON_SET('{piece}', '$.model_id', CAST({model} AS CHAR), '$.size', {of_visit['size']}), "
        "'up_to', NULL, 'level', '100/1')"
    )
    setup = f"LPAD(HEX({of_visit['model']} * 3 + MOD(CRC32(s.seq + 11), 3)), 64, '0')"
    visits = f"seq_0_to_{3 * n - 1} s"
    tries = "JOIN (SELECT 1 AS no UNION SELECT 2 UNION SELECT 3 UNION SELECT 4) t ON t.no < 4 OR MOD(s.seq, 3) = 0"
    outcome = "IF(t.no < 3, ELT(1 + MOD(CRC32(s.seq * 7 + t.no), 3), 'fail', 'void', 'fail'), 'pass')"
    return [
        f"INSERT INTO employer (id, name) SELECT {uid(1, 's.seq')}, CONCAT('Employer ', s.seq) "
        f"FROM seq_0_to_{others} s",
        f"INSERT INTO site (id, employer_id, name, zone, benches, rule_book) SELECT {uid(2, 's.seq')}, {uid(1, '0')}, "
        f"CONCAT('Yard ', s.seq), 'UTC', '[]', 'us-29cfr1910-134' FROM seq_0_to_{max(0, -(-big // OF_A_SITE) - 1)} s",
        f"INSERT INTO site (id, employer_id, name, zone, benches, rule_book) SELECT {uid(2, '1000 + s.seq')}, "
        f"{uid(1, '1 + s.seq')}, 'Quay', 'UTC', '[]', 'us-29cfr1910-134' FROM seq_0_to_{others - 1} s",
        "INSERT INTO person (id, employer_id, site_id, name, number, job, task, contact) "
        f"SELECT {uid(3, 's.seq')}, {whose}, "
        f"CONCAT(ELT(1 + MOD(CRC32(s.seq), {len(GIVEN)}), {names}), ' Foss', MOD(CRC32(s.seq + 3), 5000)), "
        f"CONCAT('N', s.seq), 'hand', 'blasting', '' FROM seq_0_to_{n - 1} s",
        f"INSERT INTO person_word (employer_id, word, person_id) SELECT {uid(1, employer)}, "
        f"LOWER(ELT(w.no, SUBSTRING_INDEX(p.name, ' ', 1), SUBSTRING_INDEX(p.name, ' ', -1), p.number)), p.id "
        f"FROM seq_0_to_{n - 1} s JOIN person p ON p.id = {uid(3, 's.seq')} "
        "JOIN (SELECT 1 AS no UNION SELECT 2 UNION SELECT 3) w",
        "INSERT INTO clearance "
        "(id, person_id, account_id, entered_at, status, limits, valid_from, valid_until, by_whom) "
        f"SELECT {uid(7, 's.seq')}, {uid(3, 's.seq')}, {uid(9, '0')}, TIMESTAMP({day}) - INTERVAL 400 DAY, 'cleared', "
        f"'[]', {day} - INTERVAL 400 DAY, {day} + INTERVAL MOD(CRC32(s.seq + 2), 700) DAY, 'Harbour Row' "
        f"FROM seq_0_to_{n - 1} s",
        "INSERT INTO training (id, person_id, account_id, entered_at, trained_on, what) "
        f"SELECT {uid(8, 's.seq')}, {uid(3, 's.seq')}, {uid(9, '0')}, TIMESTAMP({day}) - INTERVAL 30 DAY, "
        f"{day} - INTERVAL MOD(CRC32(s.seq + 4), 330) DAY, 'donning' FROM seq_0_to_{n - 1} s",
        "INSERT INTO visit (id, employer_id, site_id, rules_digest, origin, seq, chain) "
        f"SELECT {visit}, {e}, {st}, '{rules.digest}', 'bench', 1, REPEAT('0', 64) FROM {visits}",
        "INSERT INTO event (visit_id, seq, id, kind, version, occurred_at, recorded_at, actor, payload, "
        f"proposal_digest, chain) SELECT {visit}, 1, {uid(10, 's.seq')}, 'visit_opened', 1, {moment}, {moment}, "
        f"'{plain_id(9, 0)}', '{{}}', '', REPEAT('0', 64) FROM {visits}",
        "INSERT INTO visit_summary (visit_id, employer_id, site_id, person_id, bench, step, doing, verdict, tries, "
        "facepiece, alterations_open, seal_fails, ready_at, is_practice, is_signed, closed, under_question, opened_at, "
        f"last_at, seal_open, changed_at, source_seq, fold_version) SELECT {visit}, {e}, {st}, {who}, 'Bench', "
        f"'closed', 'released', 'pass', 3, {words}, 0, MOD(s.seq, 9) = 0, NULL, 0, 1, 'released', 0, {moment}, "
        f"{moment} + INTERVAL 1 HOUR, 0, {moment}, 1, {made} FROM {visits}",
        "INSERT INTO try_result (visit_id, no, run_id, employer_id, site_id, tester_id, protocol_id, book, person_id, "
        "model_id, model, size, configuration, method, outcome, overall, level, is_practice, is_signed, tested_at, "
        f"source_seq, fold_version) SELECT {visit}, t.no, {uid(11, 's.seq * 4 + t.no')}, {e}, {st}, "
        f"{uid(9, 'MOD(s.seq, 50)')}, 'fast-count-elastomeric', 'us-29cfr1910-134', {who}, {model}, {words}, "
        f"{of_visit['size']}, {setup}, 'ambient_count', {outcome}, '240', '100', 0, 1, "
        f"{moment} + INTERVAL t.no MINUTE, 1, {made} "
        f"FROM {visits} {tries}",
        "INSERT INTO try_kit (visit_id, no, kit_id, employer_id, tested_at, source_seq, fold_version) "
        f"SELECT r.visit_id, r.no, {uid(6, 'MOD(CRC32(r.run_id), 200)')}, r.employer_id, r.tested_at, 1, {made} "
        "FROM try_result r",
        "INSERT INTO wear_permission (visit_id, configuration, employer_id, person_id, no, facts, model_id, model, "
        "size, setup, method, limits, overall, tested_at, valid_from, valid_until, source_seq, fold_version) "
        f"SELECT {visit}, {setup}, {e}, {who}, 3, {facts}, {model}, {words}, {of_visit['size']}, 'fixed, 100-type', "
        f"'ambient_count', '[]', '240', {moment} + INTERVAL 3 MINUTE, DATE({moment}), "
        f"DATE({moment}) + INTERVAL 365 DAY, 1, {made} FROM {visits}",
        "INSERT INTO result_unit (visit_id, model_id, size, method, employer_id, site_id, person_id, model, task, day, "
        "seq, outcome, first, overall, is_sensed, tested_at, source_seq, fold_version) "
        f"SELECT {visit}, {model}, {of_visit['size']}, m.method, {e}, {st}, {who}, {words}, 'blasting', "
        f"DATE({moment}), 1, 'pass', IF(MOD(s.seq, 4), 'pass', 'fail'), '240', 0, {moment}, 1, {made} FROM {visits} "
        "JOIN (SELECT '' AS method UNION SELECT 'ambient_count') m",
    ]


def make(engine: Engine, crowd: Crowd, rules: Rules) -> None:
    """Fill an empty database that has its schema. ``engine``: of an account that may write everywhere."""
    with Session(engine) as db, db.begin():
        keep_rules(db, rules)
    for one in statements(crowd, rules):
        with engine.begin() as db:
            db.execute(text("SET SESSION foreign_key_checks = 0, unique_checks = 0"))
            db.execute(text(one))
    count_anew(engine)
    tables = ("person", "visit_summary", "try_result", "try_kit", "wear_permission", "result_unit", "result_count")
    with engine.connect() as db:
        db.execute(text(f"ANALYZE TABLE {', '.join(tables)}, standing, person_word, clearance, training"))
