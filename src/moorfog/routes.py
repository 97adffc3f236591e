"""Every route there is: importing a module of routes enters them."""

from moorfog.platform.jobs import routes as job_routes
from moorfog.rooms.accounts import routes as accounts
from moorfog.rooms.accounts import session_routes as accounts_session
from moorfog.rooms.accounts import token_routes as accounts_token
from moorfog.rooms.bench import filing_routes as bench_filing
from moorfog.rooms.bench import link_routes as bench_link
from moorfog.rooms.bench import messages
from moorfog.rooms.bench import routes as bench
from moorfog.rooms.bench import wearer_routes as bench_wearer
from moorfog.rooms.crews import routes as crews
from moorfog.rooms.due import letter_routes as due_letter
from moorfog.rooms.due import routes as due
from moorfog.rooms.facepieces import routes as facepieces
from moorfog.rooms.kit import instrument_routes as kit_instrument
from moorfog.rooms.kit import routes as kit
from moorfog.rooms.kit import solution_routes as kit_solution
from moorfog.rooms.mail import routes as mail
from moorfog.rooms.papers import routes as papers
from moorfog.rooms.papers import visit_routes as papers_visit
from moorfog.rooms.people import import_routes as people_import
from moorfog.rooms.people import routes as people
from moorfog.rooms.person import routes as person
from moorfog.rooms.proof import routes as proof
from moorfog.rooms.proof import verifier_routes as proof_verifier
from moorfog.rooms.records import recall_routes as records_recall
from moorfog.rooms.records import routes as records
from moorfog.rooms.records import visit_routes as records_visit
from moorfog.rooms.results import routes as results
from moorfog.rooms.setup import routes as setup
from moorfog.rooms.sites import place_routes as sites_place
from moorfog.rooms.sites import routes as sites
from moorfog.rooms.today import routes as today
from moorfog.rooms.wear import history_routes as wear_history
from moorfog.rooms.wear import routes as wear
from moorfog.rooms.wear import rule_routes as wear_rule
from moorfog.serving import backup_routes as system_backup
from moorfog.serving import routes as system

ALL = (
    job_routes,
    *(accounts, accounts_session, accounts_token),
    *(bench_filing, bench_link, bench, bench_wearer, messages),
    crews,
    *(due_letter, due),
    facepieces,
    *(kit_instrument, kit, kit_solution),
    mail,
    *(papers, papers_visit),
    *(people_import, people),
    person,
    *(proof, proof_verifier),
    *(records_recall, records, records_visit),
    results,
    setup,
    *(sites_place, sites),
    *(system_backup, system),
    today,
    *(wear_history, wear, wear_rule),
)
"""The modules that hold them."""
